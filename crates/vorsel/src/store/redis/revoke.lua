-- Puts an entry on the feed.
local entry = redis.call('XADD', 'vorsel:feed', '*', 'kind', ARGV[1], 'name', ARGV[2], 'up_to', ARGV[3], 'until', ARGV[4])
redis.call('ZADD', 'vorsel:feed:until', ARGV[4], entry)
return 1
