-- A session's line: a stream with an entry for each generation, under the generation as its ID. A stream takes no entry
-- whose ID is not above its last, so one above all generations ends it.
local END = '18446744073709551615-0'
local function line_of(id) return 'vorsel:line:' .. id end
-- Until when the session can be renewed if it is not; nothing for one that is not there. And whether it has ended.
local function state_of(id)
  local entries = redis.call('XREVRANGE', line_of(id), '+', '-', 'COUNT', 2)
  local has_ended = entries[1] and entries[1][1] == END
  local current = entries[has_ended and 2 or 1]
  return current and current[2][4], has_ended
end
local function tell(kind, what, up_to, remembered)
  local entry = redis.call('XADD', 'vorsel:feed', '*', 'kind', kind, 'name', what, 'up_to', up_to, 'until', remembered)
  redis.call('ZADD', 'vorsel:feed:until', remembered, entry)
end
local function finish(id, at, why) redis.call('XADD', line_of(id), END, 'ended_at', at, 'ended_why', why) end
