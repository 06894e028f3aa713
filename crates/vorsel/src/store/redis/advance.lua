-- The compare-and-swap: answers 1 if the session still had the generation before and had not ended.
local id, generation = ARGV[1], tonumber(ARGV[2])
local key = 'vorsel:session:' .. id
local known = redis.call('HMGET', key, 'generation', 'ended_at')
if not known[1] or known[2] or tonumber(known[1]) + 1 ~= generation then return 0 end
redis.call('HSET', key, 'generation', ARGV[2], 'renewed_at', ARGV[3], 'idle_until', ARGV[4], 'spent', ARGV[5])
return 1
