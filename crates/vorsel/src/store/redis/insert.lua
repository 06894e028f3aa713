-- A new session, and the ends of those that make way for it, as a Cap says it. Answers how many those are, or -1 if the id
-- is taken, -2 if there is no room.
local id, subject, started, idle, facts = ARGV[1], ARGV[2], ARGV[3], ARGV[4], ARGV[5]
local may_stay, refuses, now, why, remembered = tonumber(ARGV[6]), ARGV[7] == 'refuse', ARGV[8], ARGV[9], ARGV[10]
local first_field = 11
if redis.call('EXISTS', SESSIONS .. id, LINES .. id) > 0 then return -1 end
local excess = 0
if may_stay >= 0 then
  local live = {}
  for _, other in ipairs(redis.call('ZRANGE', SUBJECTS .. subject, 0, -1)) do
    local current, idle_until, has_ended = state_of(other)
    if idle_until and not has_ended and idle_until > tonumber(now) then live[#live + 1] = { other, current } end
  end
  excess = math.max(0, #live - may_stay)
  if excess > 0 and refuses then return -2 end
  for place = 1, excess do
    finish(live[place][1], live[place][2], now, why)
    tell('session', live[place][1], '0', remembered)
  end
end
redis.call('SET', SESSIONS .. id, facts)
redis.call('HSET', LINES .. id, unpack(ARGV, first_field))
redis.call('ZADD', SUBJECTS .. subject, started, id)
redis.call('ZADD', IDLE, idle, id)
redis.call('ZADD', IDS, 0, id)
return excess
