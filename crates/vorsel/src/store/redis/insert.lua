-- A new session. Answers how many others made way, or -1 if the id is taken, -2 if there is no room.
local id, subject, started, idle = ARGV[1], ARGV[2], ARGV[3], ARGV[4]
local most, refuses, now, remembered = tonumber(ARGV[5]), ARGV[6] == 'refuse', ARGV[7], ARGV[8]
local first_entry = 10 + 2 * tonumber(ARGV[9])
local key, of_subject = 'vorsel:session:' .. id, 'vorsel:subject:' .. subject
if redis.call('EXISTS', key) == 1 then return -1 end
local excess = 0
if most > 0 then
  local live = {}
  for _, other in ipairs(redis.call('ZRANGE', of_subject, 0, -1)) do
    local idle_until, has_ended = state_of(other)
    if idle_until and not has_ended and tonumber(idle_until) > tonumber(now) then live[#live + 1] = other end
  end
  excess = math.max(0, #live + 1 - most)
  if excess > 0 and refuses then return -2 end
  for place = 1, excess do
    finish(live[place], now, 'displaced')
    tell('session', live[place], '0', remembered)
  end
end
for field = 10, first_entry - 1, 2 do redis.call('HSET', key, ARGV[field], ARGV[field + 1]) end
for entry = first_entry, #ARGV, 5 do redis.call('XADD', line_of(id), unpack(ARGV, entry, entry + 4)) end
redis.call('ZADD', of_subject, started, id)
redis.call('ZADD', 'vorsel:started', started, id)
redis.call('ZADD', 'vorsel:idle', idle, id)
redis.call('ZADD', 'vorsel:ids', 0, id)
return excess
