-- Keeps bytes as the next version of what is there, if that is the version it was taken to be.
if (redis.call('HGET', KEYS[1], 'version') or '0') ~= ARGV[1] then return 0 end
redis.call('HSET', KEYS[1], 'version', string.format('%.0f', ARGV[1] + 1), 'bytes', ARGV[2])
return 1
