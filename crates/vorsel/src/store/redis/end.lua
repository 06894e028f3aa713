-- Ends sessions and puts them on the feed, as an End says it. Answers how many it ended.
local which, name, at, why, remembered, named_from, up_to =
  ARGV[1], ARGV[2], ARGV[3], ARGV[4], ARGV[5], tonumber(ARGV[6]), ARGV[7]
local ids = { name }
if which == 'subject' then ids = redis.call('ZRANGE', 'vorsel:subject:' .. name, 0, -1) end
if which == 'before' then ids = redis.call('ZRANGEBYSCORE', 'vorsel:started', '-inf', '(' .. name) end
if up_to ~= '' then tell('sign-ins', '', up_to, remembered) end
local count = 0
for _, id in ipairs(ids) do
  local idle_until, has_ended = state_of(id)
  if idle_until and not has_ended then
    finish(id, at, why)
    if tonumber(redis.call('HGET', 'vorsel:session:' .. id, 'started_at') or named_from) >= named_from then
      tell('session', id, '0', remembered)
    end
    count = count + 1
  end
end
return count
