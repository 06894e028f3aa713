-- Brings sessions of the first form, whose generation stood among the fields, into the present one: those after an id, at
-- most so many. Answers the last id it has looked at, or nothing when there are no more.
local ids = redis.call('ZRANGEBYLEX', 'vorsel:ids', ARGV[1], '+', 'LIMIT', 0, ARGV[2])
for _, id in ipairs(ids) do
  local key = 'vorsel:session:' .. id
  local known = redis.call('HMGET', key, 'generation', 'renewed_at', 'idle_until', 'ended_at', 'ended_why')
  if known[1] then
    redis.call('XADD', line_of(id), known[1] .. '-1', 'renewed_at', known[2], 'idle_until', known[3])
    if known[4] then finish(id, known[4], known[5]) end
    redis.call('HDEL', key, 'generation', 'renewed_at', 'idle_until', 'spent', 'ended_at', 'ended_why')
  end
end
return ids[#ids]
