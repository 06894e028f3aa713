-- A new session, and the ends of those that make way for it, as a Cap says it. Answers how many those are, or -1 if the id
-- is taken, -2 if there is no room.
local id, subject, started, idle, facts = ARGV[1], ARGV[2], ARGV[3], ARGV[4], ARGV[5]
local may_stay, refuses, now, why, remembered = tonumber(ARGV[6]), ARGV[7] == 'refuse', ARGV[8], ARGV[9], ARGV[10]
local first_entry = 11
local key, of_subject = 'vorsel:session:' .. id, 'vorsel:subject:' .. subject
if redis.call('EXISTS', key) == 1 then return -1 end
local excess = 0
if may_stay >= 0 then
  local live = {}
  for _, other in ipairs(redis.call('ZRANGE', of_subject, 0, -1)) do
    local idle_until, has_ended = state_of(other)
    if idle_until and not has_ended and tonumber(idle_until) > tonumber(now) then live[#live + 1] = other end
  end
  excess = math.max(0, #live - may_stay)
  if excess > 0 and refuses then return -2 end
  for place = 1, excess do
    finish(live[place], now, why)
    tell('session', live[place], '0', remembered)
  end
end
redis.call('HSET', key, 'subject', subject, 'started_at', started, 'facts', facts)
for entry = first_entry, #ARGV, 5 do redis.call('XADD', line_of(id), unpack(ARGV, entry, entry + 4)) end
redis.call('ZADD', of_subject, started, id)
redis.call('ZADD', 'vorsel:started', started, id)
redis.call('ZADD', 'vorsel:idle', idle, id)
redis.call('ZADD', 'vorsel:ids', 0, id)
return excess
