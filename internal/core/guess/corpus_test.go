package guess

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// shaped is a made-up log in a shape that daemons, appliances, applications and databases write. Its records were
// written on 2031-04-02 at 06:15:09, :10, :11 and so on, in Lisbon, or in the zone that they say themselves.
type shaped struct {
	name   string
	kind   string // that is right
	levels string // of the records, by their first letters; - for none
	fields string // some that must be there
	text   string
	times  string // seconds of the minute, where they are not one after the other; none for "-"
}

var corpus = []shaped{
	// Web servers, proxies, load balancers.
	{
		"web server's access",
		"web-combined",
		"---",
		"url.path",
		`192.0.2.7 - - [02/Apr/2031:06:15:09 +0100] "GET /fares HTTP/1.1" 200 512 "-" "Explorer/9"` + "\n" +
			`192.0.2.8 - ada [02/Apr/2031:06:15:10 +0100] "POST /book?x=1 HTTP/2.0" 302 0 "https://skerry.example/" "App (tide)"` + "\n" + `192.0.2.8 - - [02/Apr/2031:06:15:11 +0100] "-" 408 - "-" "-"`,
		"",
	},
	{
		"web server's access, short",
		"web-common",
		"---",
		"url.path",
		`192.0.2.7 - - [02/Apr/2031:06:15:09 +0100] "GET /fares HTTP/1.1" 200 512` + "\n" +
			`192.0.2.8 - ada [02/Apr/2031:06:15:10 +0100] "GET / HTTP/1.0" 404 -` + "\n" +
			`192.0.2.8 - ada [02/Apr/2031:06:15:11 +0100] "GET /a HTTP/1.0" 404 12`,
		"",
	},
	{
		"web server's errors, slashes",
		"template",
		"EWE",
		"",
		"2031/04/02 06:15:09 [error] 412#412: *77 open() failed (2: nothing there), client: 192.0.2.7\n2031/04/02 " +
			"06:15:10 [warn] 412#412: *78 a response is buffered to disk\n2031/04/02 06:15:11 [error] 413#413: *79 " +
			"upstream timed out while reading",
		"",
	},
	{
		"web server's errors, ctime",
		"template",
		"IEW",
		"",
		"[Wed Apr 02 06:15:09 2031] [notice] worker pool of 5 is ready\n[Wed Apr 02 06:15:10 2031] [error] [client " +
			"192.0.2.7] no such file: /srv/www/fares\n[Wed Apr 02 06:15:11 2031] [warn] child 412 does not end",
		"",
	},
	{
		"web server's errors, microseconds and pid",
		"template",
		"IEE",
		"",
		"[Wed Apr 02 06:15:09.123456 2031] [core:notice] [pid 412:tid 9] AH00: resuming\n[Wed Apr 02 " +
			"06:15:10.000001 2031] [proxy:error] [pid 412:tid 9] AH01: refused\n[Wed Apr 02 06:15:11.500000 2031] " +
			"[ssl:error] [pid 413:tid 2] AH02: no name",
		"",
	},
	{
		"proxy with epochs",
		"template",
		"---",
		"",
		"1932873309.021    240 192.0.2.68 MISS/200 507 GET http://a.skerry.example/x - DIRECT/198.51.100.3 " +
			"text/html\n1932873310.500     12 192.0.2.69 HIT/200 9107 GET http://b.skerry.example/y - NONE/- " +
			"image/png\n1932873311.001   1240 192.0.2.68 MISS/404 0 POST http://a.skerry.example/z - " +
			"DIRECT/198.51.100.3 -",
		"epoch",
	},
	{
		"application server in the middle",
		"template",
		"---",
		"",
		"[pid: 41|app: 0|req: 1/1] 192.0.2.7 () {30 vars} [Wed Apr  2 06:15:09 2031] GET /a => 12 bytes in 3 " +
			"ms\n[pid: 42|app: 0|req: 2/3] 192.0.2.9 () {31 vars} [Wed Apr  2 06:15:10 2031] GET /b => 99 bytes in " +
			"7 ms\n[pid: 41|app: 0|req: 3/4] 192.0.2.7 () {30 vars} [Wed Apr  2 06:15:11 2031] POST /c => 0 bytes " +
			"in 1 ms",
		"",
	},
	// Syslog in what ways it comes.
	{
		"syslog with priorities",
		"syslog",
		"FII",
		"syslog.appname",
		"<34>Apr  2 06:15:09 lock-2 su[77]: failed\n<38>Apr  2 06:15:10 lock-2 cron[78]: run\n<30>Apr  2 06:15:11 " +
			"lock-2 kernel: up",
		"",
	},
	{
		"syslog in a file",
		"syslog",
		"---",
		"syslog.appname",
		"Apr  2 06:15:09 lock-2 sshd[77]: session opened\nApr  2 06:15:10 lock-2 cron[78]: run\nApr  2 06:15:11 " +
			"lock-2 kernel: eth0: up",
		"",
	},
	{
		"syslog of 5424",
		"syslog",
		"IIW",
		"syslog.msgid",
		"<165>1 2031-04-02T05:15:09Z lock-2 gated 412 GATE - opened\n<165>1 2031-04-02T05:15:10.5Z lock-2 gated 412 " +
			"GATE [x@1 lane=\"4\"] closed\n<164>1 2031-04-02T05:15:11Z lock-2 gated - - - stuck",
		"",
	},
	{
		"syslog with ISO times",
		"syslog",
		"---",
		"syslog.appname",
		"2031-04-02T06:15:09.123456+01:00 lock-2 sshd[77]: session opened\n2031-04-02T06:15:10.123456+01:00 lock-2 " +
			"cron[78]: run\n2031-04-02T06:15:11.123456+01:00 lock-2 kernel: eth0: up",
		"",
	},
	{
		"firewall behind syslog",
		"syslog",
		"IWI",
		"",
		"Apr  2 06:15:09 fw-1 %WALL-6-302: built outbound link 77 for 192.0.2.7/443\nApr  2 06:15:10 fw-1 " +
			"%WALL-4-106: denied udp from 198.51.100.9\nApr  2 06:15:11 fw-1 %WALL-6-302: teardown of link 77",
		"",
	},
	{
		"mail daemon",
		"syslog",
		"---",
		"",
		"Apr  2 06:15:09 mx-1 mail/smtpd[411]: connect from unknown[192.0.2.7]\nApr  2 06:15:10 mx-1 " +
			"mail/cleanup[412]: 4F2A: message-id=<a@skerry.example>\nApr  2 06:15:11 mx-1 mail/qmgr[413]: 4F2A: " +
			"removed",
		"",
	},
	// Applications.
	{
		"comma for milliseconds",
		"template",
		"IWE",
		"",
		"2031-04-02 06:15:09,123 INFO ferry is in berth 2\n2031-04-02 06:15:10,001 WARN swell above one " +
			"metre\n2031-04-02 06:15:11,001 ERROR ramp does not answer",
		"",
	},
	{
		"thread, level, logger",
		"template",
		"DIW",
		"",
		"2031-04-02 06:15:09.250 [pool-1-thread-4] DEBUG e.w.Booking - seats held\n2031-04-02 06:15:10.350 [main] " +
			"INFO  e.w.Main - started\n2031-04-02 06:15:11.450 [pool-1-thread-5] WARN  e.w.Fares - no fare for W017",
		"",
	},
	{
		"dashes between",
		"template",
		"IWE",
		"",
		"2031-04-02 06:15:09,123 - booking.core - INFO - seats are held\n2031-04-02 06:15:10,223 - booking.pay - " +
			"WARNING - the desk is slow\n2031-04-02 06:15:11,323 - booking.core - ERROR - nobody is there",
		"",
	},
	{
		"level, thread, time",
		"template",
		"IWI",
		"",
		"INFO  [main] 2031-04-02 06:15:09,123 Store.java:41 - opening the tide table\nWARN  [Comp-1] 2031-04-02 " +
			"06:15:10,223 Gap.java:7 - paused for 210 ms\nINFO  [main] 2031-04-02 06:15:11,323 Store.java:43 - ready",
		"",
	},
	{
		"brackets all along",
		"template",
		"IWE",
		"",
		"[2031-04-02T06:15:09,123][INFO ][o.t.Node] [kelp-1] starting\n[2031-04-02T06:15:10,223][WARN ][o.t.Disk] " +
			"[kelp-1] low on room\n[2031-04-02T06:15:11,323][ERROR][o.t.Node] [kelp-1] stopping",
		"",
	},
	{
		"class in brackets behind",
		"template",
		"IWI",
		"",
		"[2031-04-02 06:15:09,123] INFO started (tide.server.Broker)\n[2031-04-02 06:15:10,223] WARN slow fetch " +
			"from 2 (tide.server.Fetcher)\n[2031-04-02 06:15:11,323] INFO stopped (tide.server.Broker)",
		"",
	},
	{
		"nested brackets",
		"template",
		"IWI",
		"",
		"2031-04-02 06:15:09,747 - INFO  [Peer[id=1]/0:0:0:0:0:0:0:0:2181:Vote@774] - a note from 3\n2031-04-02 " +
			"06:15:10,748 - WARN  [Peer[id=2]/0:0:0:0:0:0:0:0:2181:Vote@775] - no answer\n2031-04-02 06:15:11,749 - " +
			"INFO  [Peer[id=1]/0:0:0:0:0:0:0:0:2181:Vote@774] - leading",
		"",
	},
	{
		"short date, big-data daemon",
		"template",
		"IWI",
		"",
		"31/04/02 06:15:09 INFO exec.Worker: task 7 runs\n31/04/02 06:15:10 WARN exec.Worker: task 8 is " +
			"late\n31/04/02 06:15:11 INFO block.Store: 3 blocks left",
		"",
	},
	{
		"date without separators",
		"template",
		"IWI",
		"",
		"310402 061509 148 INFO dfs.Node$Answer: answer 1 for block blk_38 ends\n310402 061510 149 WARN dfs.Node: " +
			"block blk_39 is missing\n310402 061511 148 INFO dfs.Space: block added",
		"",
	},
	{
		"letter and date without separators",
		"regex",
		"IWE",
		"",
		"I0402 06:15:09.120931    412 gate.go:41] opened lane 4\nW0402 06:15:10.220931    412 gate.go:57] lane 4 is " +
			"slow\nE0402 06:15:11.320931    413 ramp.go:7] no answer",
		"",
	},
	{
		"letter, comma, bracket",
		"template",
		"IWE",
		"",
		"I, [2031-04-02T06:15:09.123456 #412]  INFO -- : seats are held\nW, [2031-04-02T06:15:10.123456 #412]  WARN " +
			"-- : the desk is slow\nE, [2031-04-02T06:15:11.123456 #413] ERROR -- : nobody there",
		"",
	},
	{
		"phone",
		"template",
		"DIE",
		"",
		"04-02 06:15:09.811  1702  2395 D WindowManager: freezing is off\n04-02 06:15:10.811  1702  8671 I " +
			"ActivityManager: a new process\n04-02 06:15:11.811  2227  2227 E TextView: no such view",
		"",
	},
	{
		"short levels in brackets",
		"template",
		"IWE",
		"",
		"2031-04-02 06:15:09.123 +01:00 [INF] the kiosk is up\n2031-04-02 06:15:10.123 +01:00 [WRN] paper " +
			"low\n2031-04-02 06:15:11.123 +01:00 [ERR] drawer stuck",
		"",
	},
	{
		"tabs and JSON behind",
		"template",
		"IWE",
		"",
		"2031-04-02T05:15:09.123Z\tINFO\tgate/lane.go:41\topened\t{\"lane\": " +
			"4}\n2031-04-02T05:15:10.123Z\tWARN\tgate/lane.go:57\tslow\t{\"lane\": 4, \"ms\": " +
			"900}\n2031-04-02T05:15:11.123Z\tERROR\tramp.go:7\tno answer",
		"",
	},
	{
		"day first with a month's name",
		"template",
		"IWE",
		"",
		"02-Apr-2031 06:15:09.123 INFO [main] e.w.Startup.run ready in 812 ms\n02-Apr-2031 06:15:10.123 WARNING " +
			"[http-7] e.w.Session.get no session\n02-Apr-2031 06:15:11.123 SEVERE [http-7] e.w.Pay.go refused",
		"",
	},
	{
		"angle brackets and AM",
		"template",
		"IWE",
		"",
		"<Apr 2, 2031 6:15:09 AM GMT> <Info> <Security> <SK-090> <the realm is open>\n<Apr 2, 2031 6:15:10 AM GMT> " +
			"<Warning> <Socket> <SK-101> <closing 7>\n<Apr 2, 2031 6:15:11 AM GMT> <Error> <HTTP> <SK-202> <no page>",
		"utc",
	},
	{
		"pipes",
		"template",
		"IWI",
		"",
		"2031-04-02 06:15:09 | INFO  | ramp 1 | opened\n2031-04-02 06:15:10 | WARN  | ramp 2 | slow\n2031-04-02 " +
			"06:15:11 | INFO  | ramp 1 | closed",
		"",
	},
	{
		"pipes without spaces",
		"csv",
		"---",
		"",
		"20310402-06:15:09:606|Step_LSC|30002312|the stand changes " +
			"3579\n20310402-06:15:10:615|Step_LSC|30002312|the stand changes " +
			"3579\n20310402-06:15:11:633|Step_Rep|30002312|a report is due",
		"",
	},
	{
		"task queue",
		"template",
		"IWE",
		"",
		"[2031-04-02 06:15:09,123: INFO/MainProcess] ready for work\n[2031-04-02 06:15:10,123: WARNING/Pool-2] " +
			"slow\n[2031-04-02 06:15:11,123: ERROR/Pool-2] failed",
		"",
	},
	{
		"three brackets of a worker",
		"template",
		"IWI",
		"",
		"[2031-04-02 06:15:09 +0100] [412] [INFO] listening\n[2031-04-02 06:15:10 +0100] [413] [WARNING] a worker " +
			"timed out\n[2031-04-02 06:15:11 +0100] [412] [INFO] ended",
		"",
	},
	{
		"build server with tabs",
		"template",
		"IWI",
		"",
		"2031-04-02 05:15:09.123+0000 [id=41]\tINFO\tci.Queue#add: build 7 waits\n2031-04-02 05:15:10.123+0000 " +
			"[id=42]\tWARNING\tci.Node#ping: away\n2031-04-02 05:15:11.123+0000 [id=41]\tINFO\tci.Queue#take: build " +
			"7 runs",
		"",
	},
	{
		"container runtime",
		"template",
		"---",
		"",
		"2031-04-02T05:15:09.123456789Z stdout F opened lane 4\n2031-04-02T05:15:10.123456789Z stderr F lane 4 is " +
			"slow\n2031-04-02T05:15:11.123456789Z stdout P closed lane",
		"",
	},
	{
		"telephone exchange",
		"template",
		"IWE",
		"",
		"[Apr  2 06:15:09] NOTICE[412] chan_dock.c: peer kelp is reachable\n[Apr  2 06:15:10] WARNING[412] " +
			"chan_dock.c: peer kelp lags\n[Apr  2 06:15:11] ERROR[413] pbx.c: no such exten",
		"",
	},
	{
		"hypervisor",
		"template",
		"IWI",
		"",
		"2031-04-02T05:15:09.123Z info hostd[4121] [Origin@68 sub=Vim] task 7 is done\n2031-04-02T05:15:10.123Z " +
			"warning hostd[4121] [Origin@68 sub=Vim] datastore slow\n2031-04-02T05:15:11.123Z info vpxa[4133] " +
			"[Origin@68 sub=Net] up",
		"",
	},
	{
		"garbage collector",
		"template",
		"III",
		"",
		"[2031-04-02T05:15:09.123+0000][info][gc] pause young 12M->3M " +
			"4.1ms\n[2031-04-02T05:15:10.123+0000][info][gc] pause full 90M->30M " +
			"41.2ms\n[2031-04-02T05:15:11.123+0000][info][gc,heap] eden 7",
		"",
	},
	{
		"colon after the level",
		"template",
		"WII",
		"",
		"2031/04/02 06:15:09 warning: low water\n2031/04/02 06:15:10 info: dredger passes\n2031/04/02 06:15:11 " +
			"info: tide turns",
		"",
	},
	{
		"level with colons, no time",
		"template",
		"IWE",
		"",
		"INFO:root:started\nWARNING:booking.pay:slow\nERROR:root:stopped",
		"-",
	},
	// JSON, pairs, tables.
	{
		"json",
		"json",
		"WIE",
		"lane",
		`{"time":"2031-04-02T05:15:09Z","level":"warn","msg":"paper low","lane":1}` + "\n" +
			`{"time":"2031-04-02T05:15:10Z","level":"info","msg":"sold","lane":2}` + "\n" +
			`{"time":"2031-04-02T05:15:11Z","level":"error","msg":"stuck","lane":2}`,
		"",
	},
	{
		"json with epoch milliseconds and numbers for levels",
		"json",
		"IWE",
		"",
		`{"level":30,"time":1932873309123,"pid":41,"hostname":"kelp","msg":"up"}` + "\n" +
			`{"level":40,"time":1932873310123,"pid":41,"hostname":"kelp","msg":"slow"}` + "\n" +
			`{"level":50,"time":1932873311123,"pid":41,"hostname":"kelp","msg":"down"}`,
		"epoch",
	},
	{
		"json with other names",
		"json",
		"IWE",
		"",
		`{"@timestamp":"2031-04-02T05:15:09.123Z","log.level":"INFO","message":"up"}` + "\n" +
			`{"@timestamp":"2031-04-02T05:15:10.123Z","log.level":"WARN","message":"slow"}` + "\n" +
			`{"@timestamp":"2031-04-02T05:15:11.123Z","log.level":"ERROR","message":"down"}`,
		"",
	},
	{
		"json of a document database",
		"json",
		"IWE",
		"",
		`{"t":{"$date":"2031-04-02T06:15:09.123+01:00"},"s":"I","c":"NET","id":41,"msg":"accepted"}` + "\n" +
			`{"t":{"$date":"2031-04-02T06:15:10.123+01:00"},"s":"W","c":"NET","id":42,"msg":"slow"}` + "\n" +
			`{"t":{"$date":"2031-04-02T06:15:11.123+01:00"},"s":"E","c":"NET","id":43,"msg":"gone"}`,
		"",
	},
	{
		"json of a container engine",
		"json",
		"---",
		"stream",
		`{"log":"opened\n","stream":"stdout","time":"2031-04-02T05:15:09.123456789Z"}` + "\n" +
			`{"log":"slow\n","stream":"stderr","time":"2031-04-02T05:15:10.123456789Z"}` + "\n" +
			`{"log":"closed\n","stream":"stdout","time":"2031-04-02T05:15:11.123456789Z"}`,
		"",
	},
	{
		"pairs",
		"keyvalue",
		"EII",
		"lane",
		`ts=2031-04-02T05:15:09Z level=error msg="gate stuck" lane=4` + "\n" +
			`ts=2031-04-02T05:15:10Z level=info msg=ok lane=5` + "\n" +
			`ts=2031-04-02T05:15:11Z level=info msg=ok lane=5`,
		"",
	},
	{
		"pairs of an appliance, date and time apart",
		"keyvalue",
		"IWI",
		"srcip",
		`date=2031-04-02 time=06:15:09 devname="fw-1" level="notice" srcip=192.0.2.7 action="accept"` + "\n" +
			`date=2031-04-02 time=06:15:10 devname="fw-1" level="warning" srcip=192.0.2.8 action="deny"` + "\n" +
			`date=2031-04-02 time=06:15:11 devname="fw-1" level="notice" srcip=192.0.2.9 action="accept"`,
		"",
	},
	{
		"kernel's audit",
		"keyvalue",
		"---",
		"",
		`type=SYSCALL msg=audit(1932873309.123:4121): arch=c00 syscall=59 success=yes exit=0 comm="ls"` + "\n" +
			`type=CWD msg=audit(1932873310.123:4122): cwd="/srv"` + "\n" +
			`type=PATH msg=audit(1932873311.123:4123): item=0 name="/bin/ls"`,
		"epoch",
	},
	{
		"pairs behind a time",
		"template",
		"---",
		"lane",
		"2031-04-02 06:15:09 lane=4 result=OK took=12\n2031-04-02 06:15:10 lane=5 result=DENIED took=9\n2031-04-02 " +
			"06:15:11 lane=4 result=OK took=30",
		"",
	},
	{
		"csv with a head",
		"csv",
		"---",
		"plate",
		"time;plate;kg\n2031-04-02 06:15:09;none;900\n2031-04-02 06:15:10;none;1200\n2031-04-02 06:15:11;PT-7;1300",
		"head",
	},
	{
		"csv",
		"csv",
		"---",
		"",
		"2031-04-02 06:15:09,NP-1,4,ok\n2031-04-02 06:15:10,NP-2,5,ok\n2031-04-02 06:15:11,NP-1,4,jam",
		"",
	},
	{
		"tabs with a head in #",
		"csv",
		"---",
		"",
		"#Fields: date time c-ip " +
			"method\n2031-04-02T05:15:09Z\t192.0.2.1\tGET\t/a\n2031-04-02T05:15:10Z\t192.0.2.7\tGET\t/b\n2031-04-02T05:15:11Z\t192.0.2.1\tPUT\t/c",
		"head",
	},
	{
		"date and time columns",
		"template",
		"---",
		"",
		"#Software: Tide Server 7\n#Fields: date time s-ip cs-method\n2031-04-02 06:15:09 192.0.2.1 GET /a - 80 " +
			"200\n2031-04-02 06:15:10 192.0.2.7 GET /b - 80 404\n2031-04-02 06:15:11 192.0.2.1 PUT /c - 80 200",
		"head",
	},
	// Databases and queues.
	{
		"database, zone and pid",
		"template",
		"IEI",
		"",
		"2031-04-02 05:15:09.123 UTC [4121] LOG:  checkpoint starting: time\n2031-04-02 05:15:10.123 UTC [4122] " +
			"ERROR:  relation \"fares\" is not there\n2031-04-02 05:15:11.123 UTC [4121] LOG:  checkpoint complete",
		"",
	},
	{
		"database, numbers of messages",
		"template",
		"IWE",
		"",
		"2031-04-02T05:15:09.123456Z 0 [System] [SK-010116] [Server] starting as process " +
			"41\n2031-04-02T05:15:10.123456Z 8 [Warning] [SK-010055] [Server] no address for " +
			"192.0.2.7\n2031-04-02T05:15:11.123456Z 0 [Error] [SK-010119] [Server] aborting",
		"",
	},
	{
		"cache with roles",
		"template",
		"---",
		"",
		"4121:M 02 Apr 2031 06:15:09.123 * ready to accept\n4121:M 02 Apr 2031 06:15:10.123 # memory is " +
			"overcommitted\n4121:S 02 Apr 2031 06:15:11.123 * connecting to the first",
		"",
	},
	{
		"time on a line of its own",
		"template",
		"---",
		"",
		"Wed Apr 02 06:15:09 2031\nthread 1 advanced to log sequence 77\n  current log is 2\nWed Apr 02 06:15:10 " +
			"2031\narchived log 78\nWed Apr 02 06:15:11 2031\nthread 1 closed",
		"multi",
	},
	{
		"reports with a frame",
		"template",
		"IWE",
		"",
		"=INFO REPORT==== 2-Apr-2031::06:15:09 ===\naccepting link <0.412.0>\n=WARNING REPORT==== " +
			"2-Apr-2031::06:15:10 ===\nmemory is high\nfor 3 s\n=ERROR REPORT==== 2-Apr-2031::06:15:11 ===\nlink lost",
		"multi",
	},
	{
		"stack traces",
		"template",
		"EIW",
		"",
		"2031-04-02 06:15:09 ERROR booking failed\njava.lang.IllegalStateException: no seats\n\tat " +
			"e.w.Booking.hold(Booking.java:41)\n2031-04-02 06:15:10 INFO going on\n2031-04-02 06:15:11 WARN again\n " +
			" with more",
		"multi",
	},
	{
		"traceback",
		"template",
		"EII",
		"",
		"2031-04-02 06:15:09,123 ERROR pay failed\nTraceback (most recent call last):\n  File \"pay.py\", line 41, " +
			"in go\n    raise Slow()\nSlow: 7\n2031-04-02 06:15:10,123 INFO going on\n2031-04-02 06:15:11,123 INFO " +
			"done",
		"multi",
	},
	{
		"dotted to microseconds",
		"template",
		"IWE",
		"",
		"2031-04-02-06.15.09.363779 R02-M1 RAS KERNEL INFO cache parity is corrected\n2031-04-02-06.15.10.363779 " +
			"R02-M2 RAS KERNEL WARNING cache is slow\n2031-04-02-06.15.11.363779 R02-M1 RAS APP ERROR stopped",
		"",
	},
	// Appliances, stations, small things.
	{
		"monitoring",
		"template",
		"---",
		"",
		"[1932873309] HOST ALERT: kelp;DOWN;SOFT;1;no answer\n[1932873310] SERVICE ALERT: " +
			"kelp;disk;CRITICAL;HARD;3;full\n[1932873311] LOG ROTATION: DAILY",
		"epoch",
	},
	{
		"nightly packages",
		"template",
		"---",
		"",
		"2031-04-02 06:15:09 install tide-tools:amd64 <none> 1.2-3\n2031-04-02 06:15:10 status half-installed " +
			"tide-tools:amd64 1.2-3\n2031-04-02 06:15:11 status installed tide-tools:amd64 1.2-3",
		"",
	},
	{
		"file server",
		"template",
		"---",
		"",
		"Wed Apr  2 06:15:09 2031 [pid 41] CONNECT: client \"192.0.2.7\"\nWed Apr  2 06:15:10 2031 [pid 42] [ada] " +
			"OK LOGIN: client \"192.0.2.7\"\nWed Apr  2 06:15:11 2031 [pid 42] [ada] OK DOWNLOAD: client " +
			"\"192.0.2.7\", \"/a\"",
		"",
	},
	{
		"intrusion sensor",
		"template",
		"---",
		"",
		"04/02-06:15:09.123456  [**] [1:2003:8] port scan [**] 192.0.2.7 -> 192.0.2.1\n04/02-06:15:10.123456  [**] " +
			"[1:2004:8] odd flags [**] 192.0.2.7 -> 192.0.2.1\n04/02-06:15:11.123456  [**] [1:2003:8] port scan " +
			"[**] 192.0.2.8 -> 192.0.2.1",
		"",
	},
	{
		"name server",
		"template",
		"---",
		"",
		"02-Apr-2031 06:15:09.123 client 192.0.2.7#4121: query: skerry.example IN A\n02-Apr-2031 06:15:10.123 " +
			"client 192.0.2.8#4122: query: kelp.example IN AAAA\n02-Apr-2031 06:15:11.123 client 192.0.2.7#4123: " +
			"query: skerry.example IN MX",
		"",
	},
	{
		"servicing of a desktop",
		"template",
		"IWE",
		"",
		"2031-04-02 06:15:09, Info                  CBS    loaded the stack v7 with core: 7.1\n2031-04-02 06:15:10, " +
			"Warning               CBS    no such package\n2031-04-02 06:15:11, Error                 CSI    failed " +
			"with 0x80",
		"",
	},
	{
		"day and month with a dot",
		"template",
		"---",
		"",
		"[02.04 06:15:09] kiosk.exe - 192.0.2.7:443 open through proxy 192.0.2.1:5070\n[02.04 06:15:10] kiosk.exe - " +
			"192.0.2.8:443 close, 451 bytes sent\n[02.04 06:15:11] desk.exe - 192.0.2.7:443 open through proxy " +
			"192.0.2.1:5070",
		"",
	},
	{
		"gauges, day first",
		"template",
		"---",
		"",
		"02.04.2031 06:15:09 gauge-saltmarsh level=2.41m trend=rising\n02.04.2031 06:15:10 gauge-saltmarsh " +
			"level=2.43m trend=slack\n02.04.2031 06:15:11 gauge-saltmarsh level=2.44m trend=rising",
		"",
	},
	{
		"supercomputer, epoch and more",
		"template",
		"IWI",
		"",
		"- 1932873309 2031.04.02 dn228 RAS KERNEL INFO ciod: opened\n- 1932873310 2031.04.02 dn229 RAS KERNEL " +
			"WARNING ciod: slow\n- 1932873311 2031.04.02 dn228 RAS KERNEL INFO ciod: closed",
		"epoch",
	},
	{
		"logs on cloud functions",
		"template",
		"---",
		"",
		"START RequestId: 7f-1 Version: 3\n2031-04-02T05:15:09.123Z 7f-1 lane 4 opened\nEND RequestId: " +
			"7f-1\n2031-04-02T05:15:10.123Z 7f-2 lane 5 opened\n2031-04-02T05:15:11.123Z 7f-2 lane 5 " +
			"closed\n2031-04-02T05:15:12.123Z 7f-3 lane 6 opened",
		"odd",
	},
	{
		"mostly one shape",
		"template",
		"IWII",
		"",
		"2031-04-02 06:15:09 INFO lane 4 opened\n2031-04-02 06:15:10 WARN lane 5 is slow\nlane 4 " +
			"rebooted\n2031-04-02 06:15:11 INFO lane 4 closed\n2031-04-02 06:15:12 INFO lane 5 closed",
		"odd",
	},
	// And more of all kinds.
	{
		"a file's name in front",
		"template",
		"IWI",
		"",
		"compute-api.log 2031-04-02 06:15:09.008 25746 INFO compute.osapi [req-38 - -] 192.0.2.1 \"GET /v2/a\" " +
			"status: 200 len: 1893 time: 0.24\ncompute-api.log 2031-04-02 06:15:10.108 25746 WARNING compute.osapi " +
			"[req-39 - -] 192.0.2.1 \"GET /v2/b\" status: 500 len: 93 time: 0.31\ncompute-api.log 2031-04-02 " +
			"06:15:11.208 25747 INFO compute.osapi [req-40 - -] 192.0.2.2 \"GET /v2/c\" status: 200 len: 1893 time: " +
			"0.24",
		"",
	},
	{
		"epoch among words",
		"template",
		"---",
		"",
		"134681 node-246 unix.hw state_change.unavailable 1932873309 1 component state change: down\n134682 " +
			"node-247 unix.hw state_change.unavailable 1932873310 1 component state change: up\n134683 node-246 " +
			"unix.hw state_change.unavailable 1932873311 1 component state change: down",
		"epoch",
	},
	{
		"epoch, date, and syslog behind",
		"template",
		"---",
		"",
		"- 1932873309 2031.04.02 dn228 Apr 2 06:15:09 dn228/dn228 crond(pam)[2915]: session closed\n- 1932873310 " +
			"2031.04.02 dn229 Apr 2 06:15:10 dn229/dn229 sshd[2916]: session opened\n- 1932873311 2031.04.02 dn228 " +
			"Apr 2 06:15:11 dn228/dn228 crond(pam)[2917]: session opened",
		"",
	},
	{
		"mail exchanger",
		"template",
		"---",
		"",
		"2031-04-02 06:15:09 1qAbCd-0001-7x <= ada@skerry.example H=mx-1 [192.0.2.7] P=esmtp S=1893\n2031-04-02 " +
			"06:15:10 1qAbCd-0001-7x => kelp@skerry.example R=local T=maildir\n2031-04-02 06:15:11 1qAbCd-0001-7x " +
			"Completed",
		"",
	},
	{
		"slow queries",
		"template",
		"---",
		"",
		"# Time: 2031-04-02T05:15:09.123456Z\n# User: kelp  Id: 41\nSELECT * FROM fares;\n# Time: " +
			"2031-04-02T05:15:10.123456Z\n# User: kelp  Id: 42\nSELECT 1;\n# Time: 2031-04-02T05:15:11.123456Z\n# " +
			"User: kelp  Id: 42\nSELECT 2;",
		"multi",
	},
	{
		"short date and notes",
		"template",
		"IWE",
		"",
		"310402  6:15:09 [Note] store: 7 pages are read\n310402  6:15:10 [Warning] store: slow\n310402  6:15:11 " +
			"[ERROR] store: gone",
		"",
	},
	{
		"pairs with quoted times",
		"keyvalue",
		"IWI",
		"msg",
		"time=\"2031-04-02T06:15:09.123+01:00\" level=info msg=\"started a box\" " +
			"id=7f\ntime=\"2031-04-02T06:15:10.123+01:00\" level=warning msg=\"slow box\" " +
			"id=7f\ntime=\"2031-04-02T06:15:11.123+01:00\" level=info msg=ended id=7f",
		"",
	},
	{
		"level on the second line",
		"template",
		"IWI",
		"",
		"Apr 02, 2031 6:15:09 AM e.w.Main run\nINFO: started\nApr 02, 2031 6:15:10 AM e.w.Pay go\nWARNING: " +
			"slow\nApr 02, 2031 6:15:11 AM e.w.Main run\nINFO: ended",
		"multi",
	},
	{
		"router, milliseconds",
		"syslog",
		"IEE",
		"",
		"Apr  2 06:15:09.123: %SYS-5-CONFIG: configured from console by ada\nApr  2 06:15:10.123: %LINK-3-UPDOWN: " +
			"interface lane-4 is down\nApr  2 06:15:11.123: %LINK-3-UPDOWN: interface lane-4 is up",
		"",
	},
	{
		"balancer of a cloud",
		"template",
		"---",
		"",
		"2031-04-02T05:15:09.123456Z quay-lb 192.0.2.7:41 198.51.100.1:80 0.001 0.002 0.001 200 200 0 57 \"GET " +
			"http://skerry.example:80/ HTTP/1.1\" \"curl\" - -\n2031-04-02T05:15:10.123456Z quay-lb 192.0.2.8:42 " +
			"198.51.100.1:80 0.001 0.002 0.001 404 404 0 57 \"GET http://skerry.example:80/a HTTP/1.1\" \"curl\" - " +
			"-\n2031-04-02T05:15:11.123456Z quay-lb 192.0.2.7:43 198.51.100.2:80 0.001 0.002 0.001 200 200 0 57 " +
			"\"GET http://skerry.example:80/b HTTP/1.1\" \"curl\" - -",
		"",
	},
	{
		"store of objects",
		"template",
		"---",
		"",
		"79a5 tide-bucket [02/Apr/2031:05:15:09 +0000] 192.0.2.7 ada 3E57 REST.GET.OBJECT a.txt \"GET /a.txt " +
			"HTTP/1.1\" 200 - 12\n79a5 tide-bucket [02/Apr/2031:05:15:10 +0000] 192.0.2.8 kelp 3E58 REST.PUT.OBJECT " +
			"b.txt \"PUT /b.txt HTTP/1.1\" 200 - 99\n79a5 tide-bucket [02/Apr/2031:05:15:11 +0000] 192.0.2.7 ada " +
			"3E59 REST.GET.OBJECT a.txt \"GET /a.txt HTTP/1.1\" 404 - 0",
		"",
	},
	{
		"network sensor, tabs",
		"csv",
		"---",
		"",
		"#parted-by " +
			"\\x09\n#fields\tts\tuid\tid.orig_h\tid.orig_p\tproto\n1932873309.123\tCabc1\t192.0.2.7\t41\ttcp\n1932873310.123\tCabc2\t192.0.2.8\t42\tudp\n1932873311.123\tCabc3\t192.0.2.7\t43\ttcp",
		"head",
	},
	{
		"json with severities of syslog",
		"json",
		"IWE",
		"",
		`{"version":"1.1","host":"kelp","short_message":"up","timestamp":1932873309.123,"level":6}` + "\n" +
			`{"version":"1.1","host":"kelp","short_message":"slow","timestamp":1932873310.123,"level":4}` + "\n" +
			`{"version":"1.1","host":"kelp","short_message":"down","timestamp":1932873311.123,"level":3}`,
		"",
	},
	{
		"scripts of a web page",
		"template",
		"I-I",
		"",
		"[02-Apr-2031 05:15:09 UTC] notice: no such key in /srv/a on line 3\n[02-Apr-2031 05:15:10 UTC] fault: out " +
			"of memory in /srv/b on line 7\n[02-Apr-2031 05:15:11 UTC] notice: no such key in /srv/a on line 3",
		"",
	},
	{
		"level in brackets with a colon",
		"template",
		"IWE",
		"",
		"2031-04-02T05:15:09.123Z [info]: the kiosk is up\n2031-04-02T05:15:10.123Z [warn]: paper " +
			"low\n2031-04-02T05:15:11.123Z [error]: drawer stuck",
		"",
	},
	{
		"file and line, no level",
		"template",
		"---",
		"",
		"2031/04/02 06:15:09.123456 main.go:41: opened lane 4\n2031/04/02 06:15:10.123456 lane.go:7: lane 4 is " +
			"slow\n2031/04/02 06:15:11.123456 main.go:57: closed lane 4",
		"",
	},
	{
		"listener of a database",
		"template",
		"---",
		"",
		"02-APR-2031 06:15:09 * (CONNECT=(SERVICE=tide)) * (ADDRESS=(HOST=192.0.2.7)) * establish * tide * " +
			"0\n02-APR-2031 06:15:10 * (CONNECT=(SERVICE=tide)) * (ADDRESS=(HOST=192.0.2.8)) * establish * tide * " +
			"12514\n02-APR-2031 06:15:11 * service_update * tide * 0",
		"",
	},
	{
		"game server, time of day",
		"template",
		"IWE",
		"",
		"[06:15:09] [Server thread/INFO]: done in 3 s\n[06:15:10] [Server thread/WARN]: cannot keep up\n[06:15:11] " +
			"[Worker 2/ERROR]: failed",
		"",
	},
	{
		"host of the site first",
		"web-combined",
		"---",
		"",
		`skerry.example:443 192.0.2.7 - - [02/Apr/2031:06:15:09 +0100] "GET / HTTP/1.1" 200 12 "-" "App"` + "\n" +
			`skerry.example:443 192.0.2.8 - ada [02/Apr/2031:06:15:10 +0100] "GET /a HTTP/1.1" 200 12 "-" "App"` +
			"\n" + `tide.example:80 192.0.2.7 - - [02/Apr/2031:06:15:11 +0100] "GET / HTTP/1.1" 301 0 "-" "App"`,
		"",
	},
	{
		"combined with times behind",
		"web-combined",
		"---",
		"",
		`192.0.2.7 - - [02/Apr/2031:06:15:09 +0100] "GET / HTTP/1.1" 200 12 "-" "App" 0.003 [fares] 198.51.100.1:80 12` + "\n" + `192.0.2.8 - ada [02/Apr/2031:06:15:10 +0100] "GET /a HTTP/1.1" 200 12 "-" "App" 0.013 [fares] 198.51.100.2:80 12` + "\n" + `192.0.2.7 - - [02/Apr/2031:06:15:11 +0100] "GET / HTTP/1.1" 301 0 "-" "App" 0.001 [desk] 198.51.100.1:80 0`,
		"",
	},
	{
		"events behind syslog",
		"syslog",
		"---",
		"",
		"Apr  2 06:15:09 fw-1 CEF:0|Skerry|Wall|1.0|100|denied|5|src=192.0.2.7 dst=198.51.100.1\nApr  2 06:15:10 " +
			"fw-1 CEF:0|Skerry|Wall|1.0|101|passed|3|src=192.0.2.8 dst=198.51.100.1\nApr  2 06:15:11 fw-1 " +
			"CEF:0|Skerry|Wall|1.0|100|denied|5|src=192.0.2.9 dst=198.51.100.1",
		"",
	},
	{
		"two-line console",
		"template",
		"IWI",
		"",
		"info: Tide.Host[0]\n      now listening on 80\nwarn: Tide.Host[7]\n      slow\ninfo: Tide.Host[0]\n      " +
			"stopping",
		"-",
	},
	{
		"cache of old, no year",
		"template",
		"---",
		"",
		"[41] 02 Apr 06:15:09.123 * ready to accept\n[41] 02 Apr 06:15:10.123 # memory is overcommitted\n[42] 02 " +
			"Apr 06:15:11.123 - bytes 12 of 40",
		"",
	},
	{
		"clock and level in one bracket",
		"template",
		"IWE",
		"",
		"[06:15:09 INF] started in 3 s\n[06:15:10 WRN] pump is slow\n[06:15:11 ERR] pump has stopped",
		"",
	},
	{
		"letter, stamp and pid, then the word",
		"template",
		"IWE",
		"",
		"I, [2031-04-02T06:15:09.123456 #41]  INFO -- : started \"/fares\"\nW, [2031-04-02T06:15:10.123456 #41]  " +
			"WARN -- : slow\nE, [2031-04-02T06:15:11.123456 #42] ERROR -- : no such fare",
		"",
	},
	{
		"letter and tag of a handheld",
		"template",
		"DWE",
		"",
		"D/SeatPicker( 1702): seat 4 is free\nW/PumpService( 41): slow\nE/SeatPicker( 1702): no seat",
		"-",
	},
	{
		"dotted, offset in minutes, several lines",
		"template",
		"IWE",
		"",
		"2031-04-02-06.15.09.363779+060 I4121E411          LEVEL: Info\nPID     : 41                TID : " +
			"7\nMESSAGE : started\n\n2031-04-02-06.15.10.363779+060 I4122E411          LEVEL: Warning\nPID     : 41 " +
			"               TID : 7\nMESSAGE : slow\n\n2031-04-02-06.15.11.363779+060 I4123E411          LEVEL: " +
			"Error\nPID     : 41                TID : 8\nMESSAGE : stopped",
		"multi",
	},
	{
		"bracket of numbers, a glued stamp",
		"regex",
		"IWE",
		"",
		"[41:7:0402/061509.123456:INFO:seat_list.cc(41)] started\n[41:7:0402/061510.123456:WARNING:pump.cc(141)] " +
			"slow\n[41:8:0402/061511.123456:ERROR:pump.cc(142)] stopped",
		"",
	},
	{
		"paragraphs of a package manager",
		"template",
		"---",
		"",
		"Start-Date: 2031-04-02  06:15:09\nCommandline: get-tide install rope\nInstall: rope:amd64 " +
			"(1.2-3)\nEnd-Date: 2031-04-02  06:15:09\n\nStart-Date: 2031-04-02  06:15:10\nCommandline: get-tide " +
			"install knot\nInstall: knot:amd64 (1.4-1)\nEnd-Date: 2031-04-02  06:15:11\n\nStart-Date: 2031-04-02  " +
			"06:15:11\nInstall: oar:amd64 (0.4-1)\nEnd-Date: 2031-04-02  06:15:12",
		"multi",
	},
	{
		"date and clock in columns without a head",
		"csv",
		"---",
		"date time",
		"02.04.2031;06:15:09;kelp;12,40;open\n02.04.2031;06:15:10;wrasse;1,05;shut\n02.04.2031;06:15:11;kelp;9,90;open",
		"",
	},
	{
		"tabs with levels",
		"csv",
		"IWE",
		"message",
		"2031-04-02T05:15:09.123Z\tINFO\tseat/list.go:41\tseat 4 is free\t{\"id\": " +
			"41}\n2031-04-02T05:15:10.123Z\tWARN\tpump/pump.go:7\tpump is slow\t{\"id\": " +
			"42}\n2031-04-02T05:15:11.123Z\tERROR\tpump/pump.go:9\tpump has stopped\t{\"id\": 43}",
		"",
	},
	{
		"extended log of a web server",
		"csv",
		"---",
		"cs-method sc-status",
		"#Version: 1.0\n#Fields: date time s-ip cs-method cs-uri-stem sc-status\n2031-04-02 06:15:09 192.0.2.1 GET " +
			"/a 200\n2031-04-02 06:15:10 192.0.2.7 GET /b 404\n2031-04-02 06:15:11 192.0.2.1 PUT /c 200",
		"head",
	},
	{
		"file server, two lines",
		"template",
		"---",
		"",
		"[2031/04/02 06:15:09.123456,  3] ../smbd/process.c:41(main)\n  started\n[2031/04/02 06:15:10.123456,  0] " +
			"../smbd/lock.c:141(take)\n  cannot take the lock\n  of file 7\n[2031/04/02 06:15:11.123456,  1] " +
			"../smbd/process.c:44(main)\n  ended",
		"multi",
	},
	{
		"columns with bars",
		"template",
		"IWI",
		"ramp",
		"2031-04-02 06:15:09 | INFO  | ramp 2 | salted | gate-np-1.2.1\n2031-04-02 06:15:10 | WARN  | ramp 3 | " +
			"closed | gate-np-1.2.2\n2031-04-02 06:15:11 | INFO  | ramp 2 | salted | gate-np-1.2.3",
		"",
	},
	{
		"json over several lines",
		"json",
		"IWI",
		"lane",
		"{\n  \"time\": \"2031-04-02T05:15:09Z\",\n  \"level\": \"info\",\n  \"lane\": 4\n}\n{\n  \"time\": " +
			"\"2031-04-02T05:15:10Z\",\n  \"level\": \"warn\",\n  \"lane\": 5\n}\n{\n  \"time\": " +
			"\"2031-04-02T05:15:11Z\",\n  \"level\": \"info\",\n  \"lane\": 4\n}",
		"multi",
	},
	{
		"elements with attributes",
		"template",
		"IWI",
		"",
		"<event time=\"2031-04-02T05:15:09Z\" level=\"INFO\">\n  <lane>4</lane>\n</event>\n<event " +
			"time=\"2031-04-02T05:15:10Z\" level=\"WARN\">\n  <lane>5</lane>\n</event>\n<event " +
			"time=\"2031-04-02T05:15:11Z\" level=\"INFO\">\n  <lane>4</lane>\n</event>",
		"multi",
	},
	{
		"backtraces with lines first",
		"template",
		"EEI",
		"",
		"E, [2031-04-02T06:15:09.123456 #41] ERROR -- : no seat (SeatError)\n/srv/desk.rb:41:in " +
			"'hold'\n/srv/main.rb:7:in '<main>'\nE, [2031-04-02T06:15:10.123456 #41] ERROR -- : no desk " +
			"(DeskError)\nI, [2031-04-02T06:15:11.123456 #42]  INFO -- : going on",
		"multi",
	},
	{
		"level as a pair behind a time",
		"template",
		"IWI",
		"lane",
		"2031-04-02 06:15:09 level=info lane=4 opened the gate\n2031-04-02 06:15:10 level=warn lane=5 is slow " +
			"today\n2031-04-02 06:15:11 level=info lane=4 shut it again",
		"",
	},
	// What came later.
	{
		"device whose clock is not set",
		"template",
		"EIW",
		"mnemonic facility",
		"000412: *Apr  2 06:15:09.123: %LINK-3-UPDOWN: interface 0/1 is down\n000413: *Apr  2 06:15:10.123: " +
			"%LINEPROTO-5-UPDOWN: the line is down\n000414: *Apr  2 06:15:11.123: %SYS_X-4-LOGOUT: kelp has left",
		"",
	},
	{
		"script errors of two words",
		"template",
		"WFI",
		"",
		"[02-Apr-2031 06:15:09 Europe/Lisbon] WEB Warning:  no such pier in /srv/a.page on line 3\n[02-Apr-2031 " +
			"06:15:10 Europe/Lisbon] WEB Fatal error:  nobody caught it: no in /srv/b.page:7\nStack trace:\n#0 " +
			"{main}\n  it came from /srv/b.page on line 7\n[02-Apr-2031 06:15:11 Europe/Lisbon] WEB Notice:  no " +
			"fare in /srv/a.page on line 9",
		"",
	},
	{
		"exchange with a level before a bracket",
		"template",
		"IWD",
		"pid",
		"[2031-04-02 06:15:09] NOTICE[412][C-01]: chan.c:280 handle: it lags\n[2031-04-02 06:15:10] WARNING[412]: " +
			"pbx.c:12 go: no way\n[2031-04-02 06:15:11] VERBOSE[413][C-02]: dial.c:7 ring: called",
		"",
	},
	{
		"database that names users for some",
		"template",
		"IEIIFI",
		"pid message",
		"2031-04-02 06:15:09.123 WEST [412] kelp@tides LOG:  statement: select 1\n2031-04-02 06:15:10.123 WEST " +
			"[412] kelp@tides ERROR:  no relation tide at character 15\n2031-04-02 06:15:11.123 WEST [412] " +
			"kelp@tides STATEMENT:  select *\n\tfrom tide\n2031-04-02 06:15:12.123 WEST [77] LOG:  checkpoint " +
			"begins: time\n2031-04-02 06:15:13.123 WEST [413] wrasse@tides FATAL:  no entry for host " +
			"192.0.2.9\n2031-04-02 06:15:14.123 WEST [77] LOG:  checkpoint is complete",
		"",
	},
	{
		"levels and colons with a trace",
		"template",
		"IWED",
		"",
		"INFO:root:started\nWARNING:desk.pay:slow\nERROR:desk.pay:failed\nTraceback (most recent call last):\n  " +
			"File \"/srv/pay.py\", line 4, in pay\nValueError: no\nDEBUG:root:end",
		"-",
	},
	{
		"German levels",
		"template",
		"EWI",
		"",
		"02.04.2031 06:15:09 FEHLER  Pumpe 4 antwortet nicht\n02.04.2031 06:15:10 WARNUNG der Steg ist " +
			"zu\n02.04.2031 06:15:11 INFO    Pumpe 4 antwortet wieder",
		"",
	},
	{
		"bars with the time in the middle",
		"template",
		"IIE",
		"",
		"INFO   | run 1    | 2031/04/02 06:15:09 | starting\nSTATUS | keeper   | 2031/04/02 06:15:10 | launching " +
			"it\nERROR  | run 1    | 2031/04/02 06:15:11 | no",
		"",
	},
	{
		"load balancer, a word before the time",
		"template",
		"---",
		"",
		"http 2031-04-02T05:15:09.123456Z app/lb/50dc 192.0.2.7:2817 10.0.0.1:80 0.000 200 34 \"GET " +
			"http://fares.skerry.example:80/ HTTP/1.1\" \"Explorer/9\"\nhttps 2031-04-02T05:15:10.123456Z " +
			"app/lb/50dc 192.0.2.8:2818 10.0.0.2:80 0.010 404 84 \"GET https://fares.skerry.example:443/x " +
			"HTTP/1.1\" \"Whimbrel/4 (tide)\"\nhttp 2031-04-02T05:15:11.123456Z app/lb/50dc 192.0.2.9:2819 - -1 503 " +
			"- \"GET http://fares.skerry.example:80/ HTTP/1.1\" \"-\"",
		"",
	},
	{
		"events with a head that is too short",
		"csv",
		"IWE",
		"number message",
		"Level,Date and Time,Origin,Number,Group of Tasks\nInformation,4/2/2031 6:15:09 AM,Berth " +
			"Keeper,7036,None,\"The service runs.\"\nWarning,4/2/2031 6:15:10 AM,Clock-Keeper,36,None,no " +
			"time\nError,4/2/2031 6:15:11 AM,Disk,7,None,\"bad block, again\"",
		"odd",
	},
	{
		"links in columns with heads",
		"csv",
		"---",
		"ts proto",
		"#parted-by " +
			"\\x09\n#fields\tts\tid\thost\tport\tproto\n#types\ttime\tstring\taddr\tport\tenum\n1932873309.123456\tCx1\t192.0.2.7\t4711\ttcp\n1932873310.223456\tCx2\t192.0.2.8\t4712\tudp\n1932873311.323456\tCx3\t192.0.2.9\t4713\ttcp",
		"",
	},
	{
		"slow statements",
		"template",
		"---",
		"",
		"# Time: 2031-04-02T05:15:09.123456Z\n# Who@Where: kelp[kelp] @ desk-1 [192.0.2.7]  Id:    9\n# Took: " +
			"2.000123  Rows: 1\nAT moment=1932873309;\nselect * from sailings\nwhere pier = 9;\n# Time: " +
			"2031-04-02T05:15:10.123456Z\n# Who@Where: kelp[kelp] @ desk-1 [192.0.2.7]  Id:    10\n# Took: 2.000123 " +
			" Rows: 1\nAT moment=1932873310;\nselect * from sailings\nwhere pier = 10;\n# Time: " +
			"2031-04-02T05:15:11.123456Z\n# Who@Where: kelp[kelp] @ desk-1 [192.0.2.7]  Id:    11\n# Took: 2.000123 " +
			" Rows: 1\nAT moment=1932873311;\nselect * from sailings\nwhere pier = 11;",
		"multi",
	},
	{
		"objects among lines",
		"template",
		"IWIWI",
		"",
		"2031-04-02 06:15:09 INFO pier 4 is " +
			"open\n{\"time\":\"2031-04-02T05:15:10Z\",\"level\":\"warn\",\"msg\":\"slow\"}\n2031-04-02 06:15:11 " +
			"INFO the crew is " +
			"aboard\n{\"time\":\"2031-04-02T05:15:12Z\",\"level\":\"warning\",\"msg\":\"fine\"}\n2031-04-02 " +
			"06:15:13 INFO pier 6 is open",
		"",
	},
	{
		"database with a padded process",
		"template",
		"----",
		"",
		"2031-04-02 06:15:09.12 work51      opening the tables of 'tides'.\n2031-04-02 06:15:10.12 Server      " +
			"Fault: 17054, gravity 16, spot 1.\n2031-04-02 06:15:11.12 Logon       kelp may not come " +
			"in.\n2031-04-02 06:15:12.12 work7s      it is whole again.",
		"",
	},
	{
		"logger in a padded column",
		"template",
		"IEW",
		"logger message",
		"2031-04-02T06:15:09.123+01:00  INFO 412 --- [           main] c.e.fares.FaresService                   : " +
			"starting\n2031-04-02T06:15:10.123+01:00 ERROR 412 --- [   desk-8080-1] e.w.c.d.C.[.[/].[desk]          " +
			"         : it failed\n\njava.lang.IllegalStateException: no\n\tat " +
			"c.e.X(X.java:4)\n\n2031-04-02T06:15:11.123+01:00  WARN 412 --- [           main] o.h.x.Y               " +
			"                   : slow",
		"",
	},
	{
		"requests in a few words",
		"template",
		"---",
		"method path status",
		"GET /fares 200 12.345 ms - 512\nPOST /book 302 77.1 ms - -\nGET /x 404 1.2 ms - 9",
		"-",
	},
	{
		"scanner that names itself, or a level",
		"template",
		"-EW",
		"",
		"Wed Apr  2 06:15:09 2031 -> SelfCheck: the data is good.\nWed Apr  2 06:15:10 2031 -> ERROR: no room\nWed " +
			"Apr  2 06:15:11 2031 -> WARNING: it is old",
		"",
	},
	{
		"more heads than lines",
		"csv",
		"---",
		"cs-method c-ip",
		"#Software: Server\n#Version: 1.0\n#Date: 2031-04-02 05:15:09\n#Fields: date time s-ip cs-method " +
			"cs-uri-stem cs-uri-query s-port c-ip sc-status\n2031-04-02 06:15:09 198.51.100.3 GET /fares id=4 443 " +
			"192.0.2.7 200\n2031-04-02 06:15:10 198.51.100.3 POST /book - 443 192.0.2.8 500\n2031-04-02 06:15:11 " +
			"198.51.100.3 GET /x - 443 192.0.2.9 404",
		"odd",
	},
	{
		"flows in many numbers",
		"csv",
		"---",
		"",
		"2 1234567 eni-12 192.0.2.7 198.51.100.3 20641 22 6 20 4249 1932873309 1932873369 ACCEPT OK\n2 1234567 " +
			"eni-12 192.0.2.8 198.51.100.3 49761 3389 6 20 4249 1932873310 1932873370 REJECT OK\n2 1234567 eni-12 - " +
			"- - - - - - 1932873311 1932873371 - NODATA",
		"",
	},
	{
		"elements with a time far in",
		"template",
		"IWI",
		"",
		"<gate:event logger=\"tide.harbour.Gate\" thread=\"main\" timestamp=\"1932873309123\" " +
			"level=\"INFO\">\n<gate:text><![CDATA[started]]></gate:text>\n</gate:event>\n<gate:event " +
			"logger=\"tide.harbour.Gate\" thread=\"main\" timestamp=\"1932873310123\" " +
			"level=\"WARN\">\n<gate:text><![CDATA[slow]]></gate:text>\n</gate:event>\n<gate:event " +
			"logger=\"tide.Pier\" thread=\"main\" timestamp=\"1932873311123\" " +
			"level=\"INFO\">\n<gate:text><![CDATA[ended]]></gate:text>\n</gate:event>",
		"multi",
	},
	{
		"bars without spaces, and traces",
		"template",
		"IEW",
		"level message",
		"2031-04-02 06:15:09|INFO|main|it is ready in 812 ms\n2031-04-02 06:15:10|ERROR|http-4|the pool is closed " +
			"(4)\ne.w.PoolException: closed\n\tat e.w.Pool.get(Pool.java:41)\n\tat " +
			"e.w.Desk.hold(Desk.java:7)\n2031-04-02 06:15:11|WARN|http-5|a retry",
		"",
	},
	{
		"levels in the text of syslog",
		"syslog",
		"IEW",
		"syslog.appname",
		"Apr  2 06:15:09 desk-1 fares[41]: INFO ready\nApr  2 06:15:10 desk-1 sshd[42]: error: no such user\nApr  2 " +
			"06:15:11 desk-1 fares[41]: [warning] slow",
		"",
	},
	{"sentences", "raw", "---", "", "the gate is open\nnobody is here\nit rains on the pier", "-"},
}

// TestCorpus holds the guesses against the right answers: the kind, how records are cut, every level and every time.
func TestCorpus(t *testing.T) {
	t.Parallel()
	assert.GreaterOrEqual(t, len(corpus), 60)
	right, lines, timed := 0, 0, 0
	for _, c := range corpus {
		wrong, n, good := judge(c)
		if wrong == "" {
			right++
		} else {
			t.Logf("%s: %s", c.name, wrong)
		}
		lines, timed = lines+n, timed+good
	}
	t.Logf(
		"top guess right: %d of %d logs (%.1f %%); time right: %d of %d records (%.1f %%)",
		right,
		len(corpus),
		100*float64(right)/float64(len(corpus)),
		timed,
		lines,
		100*float64(timed)/float64(lines),
	)
	assert.GreaterOrEqual(t, float64(right), 0.95*float64(len(corpus)))
	assert.GreaterOrEqual(t, float64(timed), 0.99*float64(lines))
}

// judge tells what is wrong with the best guess, and of how many records the time is right.
func judge(c shaped) (wrong string, records, timed int) {
	best := Guess([]byte(c.text+"\n"), Options{Zone: "Europe/Lisbon", Observed: time.Date(2031, 4, 2, 12, 0, 0, 0,
		time.UTC)})[0]
	say := func(format string, args ...any) {
		if wrong == "" {
			wrong = fmt.Sprintf(
				format,
				args...) + fmt.Sprintf(
				" (%s %s%s begin %q)",
				best.Spec.Kind,
				best.Spec.Template,
				strings.Join(best.Spec.FirstOf, ","),
				best.Begin,
			)
		}
	}
	kind := best.Spec.Kind
	if kind == "first-of" && c.kind == "template" {
		kind = "template"
	}
	if string(kind) != c.kind {
		say("the kind is %s, not %s", best.Spec.Kind, c.kind)
	}
	all := 0
	for _, r := range best.Records {
		all += r.Lines
	}
	if n := strings.Count(c.text, "\n") + 1; all != n {
		say("%d lines of %d", all, n)
	}
	base := time.Date(2031, 4, 2, 5, 15, 0, 0, time.UTC)
	if strings.Contains(c.times, "utc") {
		base = base.Add(time.Hour)
	}
	second, i := 9, 0
	for _, r := range best.Records {
		if strings.HasPrefix(r.Original, "#") && !strings.Contains(c.times, "multi") ||
			strings.HasPrefix(r.Original, "time;") ||
			strings.Contains(c.times, "odd") && !r.Read {
			continue
		}
		level := "-"
		if i < len(c.levels) {
			level = c.levels[i : i+1]
		}
		got := "-"
		if r.Level != "" {
			got = r.Level[:1]
		}
		if got != level && !strings.Contains(c.times, "odd") {
			say("record %d has level %q, not %s", i+1, r.Level, level)
		}
		i++
		records++
		want := base.Add(time.Duration(second) * time.Second)
		second++
		if c.times == "-" {
			timed++
			continue
		}
		if r.Read && r.Time.Truncate(time.Second).Equal(want) {
			timed++
		} else {
			say("record %d is at %s, not %s", i, r.Time.Format(time.RFC3339), want.Format(time.RFC3339))
		}
	}
	if i != max(len(c.levels), 3) && !strings.Contains(c.times, "odd") {
		say("%d records", i)
	}
	for _, f := range strings.Fields(c.fields) {
		found := false
		for _, g := range best.Fields {
			found = found || g.Name == f
		}
		if !found {
			say("there is no field %s", f)
		}
	}
	return wrong, records, timed
}
