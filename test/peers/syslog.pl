# Sends what the library of Perl sends: syslog over UDP and TCP to the two ports that are given.
use strict;
use warnings;
use Sys::Syslog qw(:standard :macros :extended);

for (["udp", $ARGV[0]], ["tcp", $ARGV[1]]) {
    my ($way, $port) = @$_;
    setlogsock({type => $way, host => "127.0.0.1", port => $port}) or die "no $way";
    openlog("gates", "pid,ndelay", LOG_LOCAL2);
    syslog(LOG_WARNING, "Perl by %s", $way);
    syslog(LOG_ERR, "Perl tells by %s\nin two lines", $way);
    syslog(LOG_INFO, "Perl ends by %s", $way);
    closelog();
}
