-- A new session. Answers how many others made way, or -1 if the id is taken, -2 if there is no room.
local id, subject, started, idle = ARGV[1], ARGV[2], ARGV[3], ARGV[4]
local most, refuses, now, remembered = tonumber(ARGV[5]), ARGV[6] == 'refuse', ARGV[7], ARGV[8]
local key, of_subject = 'vorsel:session:' .. id, 'vorsel:subject:' .. subject
if redis.call('EXISTS', key) == 1 then return -1 end
local excess = 0
if most > 0 then
  local live = {}
  for _, other in ipairs(redis.call('ZRANGE', of_subject, 0, -1)) do
    local known = redis.call('HMGET', 'vorsel:session:' .. other, 'idle_until', 'ended_at')
    if known[1] and not known[2] and tonumber(known[1]) > tonumber(now) then live[#live + 1] = other end
  end
  excess = math.max(0, #live + 1 - most)
  if excess > 0 and refuses then return -2 end
  for place = 1, excess do
    redis.call('HSET', 'vorsel:session:' .. live[place], 'ended_at', now, 'ended_why', 'displaced')
    local entry = redis.call('XADD', 'vorsel:feed', '*', 'kind', 'session', 'name', live[place],
      'up_to', '0', 'until', remembered)
    redis.call('ZADD', 'vorsel:feed:until', remembered, entry)
  end
end
for field = 9, #ARGV, 2 do redis.call('HSET', key, ARGV[field], ARGV[field + 1]) end
redis.call('ZADD', of_subject, started, id)
redis.call('ZADD', 'vorsel:started', started, id)
redis.call('ZADD', 'vorsel:idle', idle, id)
redis.call('ZADD', 'vorsel:ids', 0, id)
return excess
