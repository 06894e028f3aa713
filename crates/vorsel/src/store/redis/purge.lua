-- Forgets sessions and entries of the feed whose time is over, a limited number of each. Answers how many of each, and how many
-- sessions are due later, since they were renewed.
local PURGED_FOR = 600
local before, limit = '(' .. ARGV[1], ARGV[2]
local entries = redis.call('ZRANGEBYSCORE', UNTIL, '-inf', before, 'LIMIT', 0, limit)
for _, entry in ipairs(entries) do
  redis.call('XDEL', FEED, entry)
  redis.call('ZREM', UNTIL, entry)
end
-- A renewal leaves its session where it is in the index; it gets another place here. Not while the server's memory is full: then
-- it keeps its place until later.
local count, put_off = 0, 0
for _, index in ipairs({ IDLE, ENDED }) do
  for _, id in ipairs(redis.call('ZRANGEBYSCORE', index, '-inf', before, 'LIMIT', 0, limit * 2)) do
    if count == tonumber(limit) then break end
    local current, idle_until = state_of(id)
    local facts = redis.call('GET', SESSIONS .. id)
    if facts and idle_until and idle_until >= tonumber(ARGV[1]) then
      if type(redis.pcall('ZADD', index, string.format('%.0f', idle_until), id)) == 'number' then put_off = put_off + 1 end
    else
      if facts then
        redis.call('ZREM', SUBJECTS .. cjson.decode(facts).sub, id)
        count = count + 1
      end
      redis.call('DEL', SESSIONS .. id, LINES .. id)
      -- A renewal that is on its way takes no place in what is not there any more, where nobody would find it. While the server's
      -- memory is full it takes none anyway.
      local next = string.format('%.0f', current + 1)
      if type(redis.pcall('HSET', LINES .. id, next, 'end', 'end', 'purged')) == 'number' then
        redis.call('EXPIRE', LINES .. id, PURGED_FOR)
      end
      redis.call('ZREM', index, id)
      redis.call('ZREM', IDS, id)
    end
  end
end
return { count, #entries, put_off }
