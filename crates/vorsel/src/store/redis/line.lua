-- Every script is given all keys, in this order; to the first three the name of a session or a subject is added.
local SESSIONS, LINES, SUBJECTS, IDLE, IDS, MARKS, NEWEST, FEED, UNTIL, ENDED = unpack(KEYS)
-- A session's line: a hash with a field for each generation, under its number. An end has a field of its own, and takes the
-- place of the next generation. Gives the current one, until when it can be renewed, and whether the session has ended.
local function state_of(id)
  local line, current, times, has_ended = redis.call('HGETALL', LINES .. id), -1, nil, false
  for at = 1, #line, 2 do
    local number, value = tonumber(line[at]), line[at + 1]
    if not number then has_ended = true
    elseif number > current and value ~= 'end' then current, times = number, value end
  end
  local idle_until
  if times then
    local began_at, later = times:match('(%x+) (%x+)')
    idle_until = tonumber(began_at, 16) + tonumber(later, 16)
  end
  local mark = redis.call('GET', NEWEST)
  if mark and not has_ended and idle_until then
    local facts = redis.call('GET', SESSIONS .. id)
    has_ended = not facts or cjson.decode(facts).start < tonumber(mark)
  end
  return current, idle_until, has_ended
end
local function tell(kind, what, up_to, remembered)
  local entry = redis.call('XADD', FEED, '*', '', table.concat({ kind, up_to, remembered, what }, ' '))
  redis.call('ZADD', UNTIL, remembered, entry)
end
local function finish(id, current, at, why)
  redis.call('HSET', LINES .. id, string.format('%.0f', current + 1), 'end', 'end', at .. ' ' .. why)
  local idle_until = redis.call('ZSCORE', IDLE, id)
  if idle_until then
    redis.call('ZREM', IDLE, id)
    redis.call('ZADD', ENDED, idle_until, id)
  end
end
