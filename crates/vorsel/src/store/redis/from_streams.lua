-- From the first form, in which a session was a hash with its subject, its start and its facts, and its line a stream.
local LAST, MOST = '18446744073709551615-0', tonumber(ARGV[1])
for _, id in ipairs(redis.call('ZRANGE', IDS, 0, -1)) do
  if redis.call('TYPE', LINES .. id).ok == 'stream' then
    local facts, line = redis.call('HGET', SESSIONS .. id, 'facts'), redis.call('XREVRANGE', LINES .. id, '+', '-')
    redis.call('DEL', SESSIONS .. id, LINES .. id)
    local ended = line[1][1] == LAST and table.remove(line, 1)
    for at = 1, math.min(#line, MOST) do
      local began_at = tonumber(line[at][2][2])
      redis.call('HSET', LINES .. id, line[at][1]:match('^%d+'), string.format('%x %x', began_at, line[at][2][4] - began_at))
    end
    if ended then finish(id, tonumber(line[1][1]:match('^%d+')), ended[2][2], ended[2][4]) end
    if facts then redis.call('SET', SESSIONS .. id, facts) end
  end
end
redis.call('DEL', ARGV[2])
return 1
