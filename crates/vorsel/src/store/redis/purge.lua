-- Forgets sessions and entries of the feed whose time is over, a limited number of each. Answers how many sessions.
local before, limit = '(' .. ARGV[1], ARGV[2]
for _, entry in ipairs(redis.call('ZRANGEBYSCORE', 'vorsel:feed:until', '-inf', before, 'LIMIT', 0, limit)) do
  redis.call('XDEL', 'vorsel:feed', entry)
  redis.call('ZREM', 'vorsel:feed:until', entry)
end
-- Renewals do not keep vorsel:idle up to date; a session that was renewed since gets another place in it here.
local count = 0
for _, id in ipairs(redis.call('ZRANGEBYSCORE', 'vorsel:idle', '-inf', before, 'LIMIT', 0, limit * 10)) do
  if count == tonumber(limit) then break end
  local key, idle_until = 'vorsel:session:' .. id, state_of(id)
  if idle_until and tonumber(idle_until) >= tonumber(ARGV[1]) then
    -- Not while the server's memory is full; then it keeps its place until later.
    redis.pcall('ZADD', 'vorsel:idle', idle_until, id)
  else
    local subject = redis.call('HGET', key, 'subject')
    if subject then redis.call('ZREM', 'vorsel:subject:' .. subject, id) end
    redis.call('DEL', key, line_of(id))
    for _, index in ipairs({ 'vorsel:idle', 'vorsel:started', 'vorsel:ids' }) do redis.call('ZREM', index, id) end
    count = count + 1
  end
end
return count
