-- Ends sessions and puts them on the feed. Answers how many it ended.
local which, name, at, why, remembered, named_from, up_to =
  ARGV[1], ARGV[2], ARGV[3], ARGV[4], ARGV[5], tonumber(ARGV[6]), ARGV[7]
local ids = { name }
if which == 'subject' then ids = redis.call('ZRANGE', 'vorsel:subject:' .. name, 0, -1) end
if which == 'before' then ids = redis.call('ZRANGEBYSCORE', 'vorsel:started', '-inf', '(' .. name) end
local function tell(kind, what, moment)
  local entry = redis.call('XADD', 'vorsel:feed', '*', 'kind', kind, 'name', what, 'up_to', moment, 'until', remembered)
  redis.call('ZADD', 'vorsel:feed:until', remembered, entry)
end
if up_to ~= '' then tell('everything', '', up_to) end
local count = 0
for _, id in ipairs(ids) do
  local key = 'vorsel:session:' .. id
  local known = redis.call('HMGET', key, 'started_at', 'ended_at')
  if known[1] and not known[2] then
    redis.call('HSET', key, 'ended_at', at, 'ended_why', why)
    if tonumber(known[1]) >= named_from then tell('session', id, '0') end
    count = count + 1
  end
end
return count
