-- Ends sessions and puts them on the feed, as an End says it. Answers how many it ended, or -1 where a mark stands for them.
local which, name, at, why, remembered, up_to, most_marks = unpack(ARGV)
if which == 'before' then
  local newest = redis.call('GET', NEWEST)
  if not newest or tonumber(newest) < tonumber(name) then
    redis.call('SET', NEWEST, name)
    redis.call('ZADD', MARKS, name, name .. ' ' .. at .. ' ' .. why)
    redis.call('ZREMRANGEBYRANK', MARKS, 0, -1 - tonumber(most_marks))
  end
  tell('sign-ins', '', up_to, remembered)
  return -1
end
local ids = which == 'subject' and redis.call('ZRANGE', SUBJECTS .. name, 0, -1) or { name }
local count = 0
for _, id in ipairs(ids) do
  local current, idle_until, has_ended = state_of(id)
  if idle_until and not has_ended then
    finish(id, current, at, why)
    tell('session', id, '0', remembered)
    count = count + 1
  end
end
return count
