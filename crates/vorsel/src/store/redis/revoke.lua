-- Puts an entry on the feed.
tell(ARGV[1], ARGV[2], ARGV[3], ARGV[4])
return 1
