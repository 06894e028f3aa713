-- The compare-and-swap of one or more sessions: answers for each 1 if it still had the generation before and had not ended.
local made = {}
for at = 1, #ARGV, 5 do
  local key, generation = 'vorsel:session:' .. ARGV[at], tonumber(ARGV[at + 1])
  local known = redis.call('HMGET', key, 'generation', 'ended_at')
  local is_before = known[1] and not known[2] and tonumber(known[1]) + 1 == generation
  if is_before then
    redis.call('HSET', key, 'generation', ARGV[at + 1], 'renewed_at', ARGV[at + 2], 'idle_until', ARGV[at + 3],
      'spent', ARGV[at + 4])
  end
  made[#made + 1] = is_before and 1 or 0
end
return made
