-- Forgets sessions and entries of the feed whose time is over, a limited number of each. Answers how many sessions.
local before, limit = '(' .. ARGV[1], ARGV[2]
for _, entry in ipairs(redis.call('ZRANGEBYSCORE', 'vorsel:feed:until', '-inf', before, 'LIMIT', 0, limit)) do
  redis.call('XDEL', 'vorsel:feed', entry)
  redis.call('ZREM', 'vorsel:feed:until', entry)
end
local ids = redis.call('ZRANGEBYSCORE', 'vorsel:idle', '-inf', before, 'LIMIT', 0, limit)
for _, id in ipairs(ids) do
  local key = 'vorsel:session:' .. id
  local subject = redis.call('HGET', key, 'subject')
  if subject then redis.call('ZREM', 'vorsel:subject:' .. subject, id) end
  redis.call('DEL', key)
  for _, index in ipairs({ 'vorsel:idle', 'vorsel:started', 'vorsel:ids' }) do redis.call('ZREM', index, id) end
end
return #ids
