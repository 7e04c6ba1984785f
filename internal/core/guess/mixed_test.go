package guess

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// mixed are made-up logs of which some lines are not like the others. A line whose time is known has it before a bar,
// as a time of day of 2031-04-02 in UTC; zones are Lisbon where a line says none. A line without one begins no record
// with a known time.
var mixed = []struct{ name, text string }{
	// A stamp in seconds with a fraction, inside brackets, behind a word and before a serial number.
	{
		"kernel audit",
		`05:15:09|type=LOGIN msg=audit(1932873309.243:24287): pid=412 uid=0 old-auid=4294967295 auid=1000 ses=4294967295 res=1
05:15:10|type=SYSCALL msg=audit(1932873310.001:24288): arch=c000003e syscall=2 success=no exit=-13 a0=7fffd19c5592 ppid=2686 pid=3538 auid=1000 comm="cat" exe="/bin/cat"
05:15:11|type=CWD msg=audit(1932873311.950:24289):  cwd="/home/tern"
05:15:12|type=USER_AUTH msg=audit(1932873312.950:24290): pid=1 uid=0 auid=4294967295 ses=4294967295 msg='op=login acct="tern" res=failed'`,
	},
	{
		"audit behind a node",
		`05:15:09|node=lock-2 type=LOGIN msg=audit(1932873309.243:24287): pid=412 old-auid=4294967295 auid=1000
05:15:10|node=lock-2 type=CWD msg=audit(1932873310.001:24288): cwd="/srv/gate"
05:15:11|node=lock-2 type=PATH msg=audit(1932873311.002:24289): item=0 name="/srv/gate/x" inode=4294967295`,
	},
	{
		"audit in the kernel's ring",
		`05:15:09|audit: type=1400 audit(1932873309.243:24): apparmor="DENIED" operation="open" pid=412 comm="gated"
05:15:10|audit: type=1300 audit(1932873310.243:25): arch=c000003e syscall=257 auid=4294967295
05:15:11|audit: type=1400 audit(1932873311.243:26): apparmor="ALLOWED" operation="exec" pid=413 comm="rampd"`,
	},
	{"trace with serial numbers", `05:15:09|trace(1932873309.100200:1) gate opens for lane 4
05:15:10|trace(1932873310.100200:2) ramp goes down
05:15:11|trace(1932873311.100200:3) gate shuts behind lane 4`},
	{"event in square brackets", `05:15:09|evt[1932873309.5:77] INFO ferry is in berth 2
05:15:10|evt[1932873310.5:78] WARN swell above one metre
05:15:11|evt[1932873311.5:79] INFO ferry has left berth 2`},
	// A zone's name before the month, or before the date.
	{"clock, zone, date", `06:15:09|06:15:09.123 UTC Wed Apr 2 2031: link 4 is up
06:15:10|06:15:10.123 UTC Wed Apr 2 2031: link 4 is down
06:15:11|06:15:11.123 UTC Wed Apr 2 2031: link 5 is up`},
	{"zone before the month", `06:15:09|Wed UTC Apr  2 06:15:09 2031 gate: opened lane 4
06:15:10|Wed UTC Apr  2 06:15:10 2031 gate: shut lane 4
06:15:11|Wed UTC Apr  2 06:15:11 2031 ramp: no answer`},
	{"zone first", `05:15:09|WEST Apr 02 2031 06:15:09 pump on
05:15:10|WEST Apr 02 2031 06:15:10 pump off
05:15:11|WEST Apr 02 2031 06:15:11 hatch open`},
	{"clock and zone before day and month", `04:15:09|[06:15:09 CEST 02-Apr-2031] winch 2 turns
04:15:10|[06:15:10 CEST 02-Apr-2031] winch 2 stops
04:15:11|[06:15:11 CEST 02-Apr-2031] winch 3 turns`},
	{
		"a zone of the world behind",
		`04:15:09|[02-Apr-2031 06:15:09 Europe/Berlin] PHP Warning:  no such berth in /srv/www/b.php on line 4
04:15:10|[02-Apr-2031 06:15:10 Europe/Berlin] PHP Notice:  no such lane in /srv/www/b.php on line 9
04:15:11|[02-Apr-2031 06:15:11 Europe/Berlin] PHP Warning:  no such ramp in /srv/www/c.php on line 4`,
	},
	// A pair whose value holds the stamp, among others.
	{
		"many pairs, one of them in seconds",
		`05:15:09|id=firewall sn=004 time=1932873309 fw=192.0.2.1 pri=6 mark=4294967295 msg="flow ends"
05:15:10|id=firewall sn=004 time=1932873310 fw=192.0.2.1 pri=5 mark=4294967295 msg="flow begins"
05:15:11|id=firewall sn=004 time=1932873311 fw=192.0.2.1 pri=6 mark=4294967295 msg="flow ends"`,
	},
	{"a quoted stamp among pairs", `05:15:09|gate n=7 limit=4294967295 at="2031-04-02 06:15:09" state=open
05:15:10|gate n=8 limit=4294967295 at="2031-04-02 06:15:10" state=shut
05:15:11|gate n=9 limit=4294967295 at="2031-04-02 06:15:11" state=open`},
	{
		"date and time in two pairs",
		`05:15:09|date=2031-04-02 time=06:15:09 dev="fw-1" logid=0100032001 type=event level=notice session=4294967295
05:15:10|date=2031-04-02 time=06:15:10 dev="fw-1" logid=0100032002 type=event level=warning session=4294967295
05:15:11|date=2031-04-02 time=06:15:11 dev="fw-1" logid=0100032003 type=event level=notice session=4294967295`,
	},
	{
		"a stamp in a pair behind a word",
		`05:15:09|REQ client=192.0.2.7 max=4294967295 start=1932873309.250 end=1932873309.900 lane=4
05:15:10|REQ client=192.0.2.8 max=4294967295 start=1932873310.250 end=1932873310.900 lane=5
05:15:11|REQ client=192.0.2.9 max=4294967295 start=1932873311.250 end=1932873311.900 lane=4`,
	},
	{"a large number first", `05:15:09|4294967295 open 2031-04-02T06:15:09 lane four
05:15:10|4294967295 shut 2031-04-02T06:15:10 lane four
05:15:11|4294967294 open 2031-04-02T06:15:11 lane five`},
	{
		"pairs with a month in a value",
		`05:15:09|act=denied src=192.0.2.7 count=4294967295 rt="Apr 02 2031 06:15:09" lane=4
05:15:10|act=passed src=192.0.2.8 count=4294967295 rt="Apr 02 2031 06:15:10" lane=5
05:15:11|act=denied src=192.0.2.9 count=4294967295 rt="Apr 02 2031 06:15:11" lane=4`,
	},
	// A record of two lines in one spot, and lines that begin with a stamp of another shape.
	{"two shapes and one trace", `05:15:09|2031-04-02 06:15:09,123 INFO ferry is in berth 2
05:15:10|2031-04-02 06:15:10,123 ERROR ramp does not answer
|java.lang.IllegalStateException: no ramp
|	at e.w.Ramp.down(Ramp.java:41)
05:15:11|Apr 2, 2031 6:15:11 AM e.w.Pool start
05:15:12|2031-04-02 06:15:12,123 INFO ramp answers
05:15:13|Apr 2, 2031 6:15:13 AM e.w.Pool stop
05:15:14|2031-04-02 06:15:14,123 INFO ferry leaves`},
	{"syslog's shape among ISO", `05:15:09|2031-04-02T06:15:09 gated: opened
05:15:10|2031-04-02T06:15:10 gated: a report of two lines
|  lane 4 is open
05:15:11|Apr  2 06:15:11 lock-2 kernel: eth0 up
05:15:12|2031-04-02T06:15:12 gated: shut
05:15:13|Apr  2 06:15:13 lock-2 kernel: eth0 down
05:15:14|2031-04-02T06:15:14 gated: opened`},
	{"brackets and none", `05:15:09|[2031-04-02 06:15:09] berth 2 is taken
05:15:10|[2031-04-02 06:15:10] berth 3 is taken
|    by the Dunlin
05:15:11|2031/04/02 06:15:11 worker 7 begins
05:15:12|[2031-04-02 06:15:12] berth 2 is free
05:15:13|2031/04/02 06:15:13 worker 7 ends
05:15:14|[2031-04-02 06:15:14] berth 3 is free`},
	{"a statement over two lines", `05:15:09|2031-04-02 06:15:09.250 UTC+1 [412] LOG:  connection received
05:15:10|2031-04-02 06:15:10.250 UTC+1 [412] LOG:  statement: select lane
|	from gates where pier = 2
05:15:11|2031-04-02 06:15:11.250 UTC+1 [413] ERROR:  no such table
05:15:12|2031-04-02 06:15:12.250 UTC+1 [412] LOG:  disconnection`},
	{"slashes and dashes", `05:15:09|2031/04/02 06:15:09 [notice] 1#1: start worker 7
05:15:10|2031/04/02 06:15:10 [error] 7#7: no such file
05:15:11|02-Apr-2031 06:15:11 child started
|  as user tern
05:15:12|2031/04/02 06:15:12 [notice] 1#1: start worker 8
05:15:13|02-Apr-2031 06:15:13 child ended
05:15:14|2031/04/02 06:15:14 [notice] 1#1: exit`},
	{"an older part and a newer part", `05:15:09|Apr  2 06:15:09 lock-2 gated[7]: opened
05:15:10|Apr  2 06:15:10 lock-2 gated[7]: shut
05:15:11|Apr  2 06:15:11 lock-2 gated[7]: opened
05:15:12|2031-04-02T06:15:12.250+01:00 lock-2 gated[9]: opened
05:15:13|2031-04-02T06:15:13.250+01:00 lock-2 gated[9]: shut
05:15:14|2031-04-02T06:15:14.250+01:00 lock-2 gated[9]: opened`},
	// Several programs in one log; a few lines have another head, or none.
	{"a banner before the lines", `|Gate server 4.2, built for the pier
|Copyright of nobody
05:15:09|2031-04-02 06:15:09 0 [Note] starting as process 412
05:15:10|2031-04-02 06:15:10 0 [Warning] no lane is named
05:15:11|2031-04-02 06:15:11 0 [Note] listening on port 33060
05:15:12|2031-04-02 06:15:12 4 [Note] client 4 connects
05:15:13|2031-04-02 06:15:13 4 [Note] client 4 leaves`},
	{"output of a program among lines with a head", `05:15:09|2031-04-02 06:15:09 status installed gate-tools 1.2
05:15:10|2031-04-02 06:15:10 status half-configured ramp-tools 1.1
|Setting up ramp-tools
05:15:11|2031-04-02 06:15:11 status installed ramp-tools 1.1
05:15:12|2031-04-02 06:15:12 startup archives unpack
|done
05:15:13|2031-04-02 06:15:13 install winch <none> 3.0
05:15:14|2031-04-02 06:15:14 status unpacked winch 3.0`},
	{"boot of a machine", `05:15:09|2031-04-02T06:15:09.120+01:00 lock-2 kernel: Linux version 7
05:15:10|2031-04-02T06:15:10.120+01:00 lock-2 systemd[1]: Starting gate
|
05:15:11|2031-04-02T06:15:11.120+01:00 lock-2 gated[7]: opened
05:15:12|2031-04-02T06:15:12.120+01:00 lock-2 gated[7]: lane 4: a car waits
05:15:13|2031-04-02T06:15:13.120+01:00 lock-2 CRON[99]: (tern) CMD (tide)`},
	{"three programs in one file", `05:15:09|2031-04-02 06:15:09 INFO booking: seats held
05:15:10|[Wed Apr 02 06:15:10 2031] [notice] resuming
05:15:11|2031-04-02 06:15:11 INFO booking: seats sold
05:15:12|[Wed Apr 02 06:15:12 2031] [error] no such page
05:15:13|Apr  2 06:15:13 lock-2 cron[7]: run
05:15:14|2031-04-02 06:15:14 WARN booking: no seats
05:15:15|Apr  2 06:15:15 lock-2 cron[8]: run`},
	{"a few lines with milliseconds, others without", `05:15:09|2031-04-02 06:15:09 gate: opened
05:15:10|2031-04-02 06:15:10.250 gate: shut
05:15:11|2031-04-02 06:15:11 gate: opened
05:15:12|2031-04-02 06:15:12.5 ramp: down
05:15:13|2031-04-02 06:15:13 ramp: up`},
	{
		"one line of another shape in many",
		strings.TrimSuffix(
			strings.Repeat("05:15:09|Apr  2 06:15:09 lock-2 gated[7]: opened\n", 12),
			"\n",
		) + "\n05:15:10|2031-04-02 06:15:10 gated restarts\n" + strings.TrimSuffix(
			strings.Repeat("05:15:11|Apr  2 06:15:11 lock-2 gated[8]: opened\n", 12),
			"\n",
		),
	},
	{"no head at the end", `05:15:09|06:15:09 02/04/2031 the pump is on
05:15:10|06:15:10 02/04/2031 the pump is off
05:15:11|06:15:11 02/04/2031 the hatch is open
05:15:12|06:15:12 02/04/2031 the hatch is shut
|bye`},
	{"a task's heads and output", `05:15:09|[2031-04-02 06:15:09] task tide starts
|12 gauges read
05:15:10|[2031-04-02 06:15:10] task tide ends
05:15:11|[2031-04-02 06:15:11] task fares starts
|7 fares read
05:15:12|[2031-04-02 06:15:12] task fares ends`},
	// The month is the same in all lines.
	{"year, month's name, day", `05:15:09|2031 Apr  2 06:15:09 switch-1 %LINK-3-UP: port 4 is up
05:15:10|2031 Apr  2 06:15:10 switch-1 %LINK-3-UP: port 5 is up
05:15:11|2031 Apr  2 06:15:11 switch-1 %LINK-3-DOWN: port 4 is down`},
	{"pid, role, day, month", `05:15:09|412:M 02 Apr 2031 06:15:09.123 * Ready to accept
05:15:10|412:M 02 Apr 2031 06:15:10.123 # Memory is low
05:15:11|412:M 02 Apr 2031 06:15:11.123 * Saved`},
	{"day and month without a year", `05:15:09|02 Apr 06:15:09 gauge saltmarsh 2.41
05:15:10|02 Apr 06:15:10 gauge saltmarsh 2.43
05:15:11|02 Apr 06:15:11 gauge saltmarsh 2.44`},
	{"day/month with slashes and no year", `05:15:09|[02/Apr 06:15:09] berth 2 is taken
05:15:10|[02/Apr 06:15:10] berth 3 is taken
05:15:11|[02/Apr 06:15:11] berth 2 is free`},
	{"a month's name behind slashes", `05:15:09|2031/Apr/02 06:15:09 gate opens
05:15:10|2031/Apr/02 06:15:10 ramp goes down
05:15:11|2031/Apr/02 06:15:11 gate shuts`},
	{"a dotted month", `05:15:09|Apr. 2, 2031 06:15:09 gate opens
05:15:10|Apr. 2, 2031 06:15:10 ramp goes down
05:15:11|Apr. 2, 2031 06:15:11 gate shuts`},
	{"day of the week, day, month, clock", `05:15:09|Wed 02 Apr 2031 06:15:09 AM WEST: gate opens
05:15:10|Wed 02 Apr 2031 06:15:10 AM WEST: ramp goes down
05:15:11|Wed 02 Apr 2031 06:15:11 AM WEST: gate shuts`},
	{"weekday, month, day, year, clock", `05:15:09|Wed Apr  2, 2031 06:15:09 : TLS: client 4 greets
05:15:10|Wed Apr  2, 2031 06:15:10 : TLS: client 4 leaves
05:15:11|Wed Apr  2, 2031 06:15:11 : TLS: client 5 greets`},
	{"glued day, month, year", `05:15:09|02Apr31 06:15:09 gate opens
05:15:10|02Apr31 06:15:10 ramp goes down
05:15:11|02Apr31 06:15:11 gate shuts`},
	{"year, month and day with dots", `05:15:09|2031.Apr.02 06:15:09 gate opens
05:15:10|2031.Apr.02 06:15:10 ramp goes down
05:15:11|2031.Apr.02 06:15:11 gate shuts`},
	// Stamps glued to words, in other quotes, or counted otherwise.
	{"a stamp behind a word and a sign", `05:15:09|gate@2031-04-02T06:15:09 opened lane 4
05:15:10|ramp@2031-04-02T06:15:10 no answer
05:15:11|gate@2031-04-02T06:15:11 shut lane 4`},
	{"a stamp in single quotes", `05:15:09|WHEN: 'Apr  2 06:15:09', who: 'gate'
05:15:10|WHEN: 'Apr  2 06:15:10', who: 'ramp'
05:15:11|WHEN: 'Apr  2 06:15:11', who: 'gate'`},
	{"a pair with spaces in its stamp", `05:15:09|act=denied count=4294967295 rt=Apr 02 2031 06:15:09 lane=4
05:15:10|act=passed count=4294967295 rt=Apr 02 2031 06:15:10 lane=5
05:15:11|act=denied count=4294967295 rt=Apr 02 2031 06:15:11 lane=4`},
	{"seconds in hexadecimal digits", `05:15:09|73354e5d.18d56dc1 0x7f0667591200 gated starting
05:15:10|73354e5e.19fcd459 0x7f0667591200 gated runs
05:15:11|73354e5f.17bf0629 0x7f0625bff6c0 gated ends`},
	// A time of day beside a whole date.
	{"a clock first, the date behind words", `05:15:09|06:15:09 gate 4 (2031-04-02T06:15:09) opened
05:15:10|06:15:10 gate 5 (2031-04-02T06:15:10) opened
05:15:11|06:15:11 gate 4 (2031-04-02T06:15:11) shut`},
	{"uptime, then the date", `05:15:09|[   12.345678] 2031-04-02 06:15:09 gate opens
05:15:10|[   13.345678] 2031-04-02 06:15:10 ramp goes down
05:15:11|[   14.345678] 2031-04-02 06:15:11 gate shuts`},
}

// TestMixed: every time that is known is read, by the best guess, from a record that begins at its line.
func TestMixed(t *testing.T) {
	t.Parallel()
	known, right := 0, 0
	for _, c := range mixed {
		var text []string
		var want []string
		for line := range strings.Lines(c.text) {
			at, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "|")
			text, want = append(text, rest), append(want, at)
		}
		best := Guess([]byte(strings.Join(text, "\n")+"\n"), Options{Zone: "Europe/Lisbon", Observed: time.Date(2031,
			4, 2, 12, 0, 0, 0, time.UTC)})[0]
		times := map[int]string{}
		for _, r := range best.Records {
			if r.Read {
				times[r.Line] = r.Time.UTC().Format("2006-01-02 15:04:05")
			}
		}
		for i, w := range want {
			if w == "" {
				continue
			}
			known++
			if times[i+1] == "2031-04-02 "+w {
				right++
			} else {
				t.Logf("%s: %q is at %q, not %s, by %s %s %v, begin %q", c.name, text[i], times[i+1], w,
					best.Spec.Kind, best.Spec.Template, best.Spec.FirstOf, best.Begin)
			}
		}
		for _, w := range best.Warnings {
			assert.NotContains(t, w, "no time was found", c.name)
		}
	}
	t.Logf(
		"%d of %d times are right (%.1f %%) in %d logs",
		right,
		known,
		100*float64(right)/float64(known),
		len(mixed),
	)
	assert.GreaterOrEqual(t, float64(right), 0.99*float64(known))
}

// TestGuessesOfEveryMonth: whatever the month, and however it is spelled, a guess reads its stamps.
func TestGuessesOfEveryMonth(t *testing.T) {
	t.Parallel()
	local := [][]string{
		{
			"januar",
			"februar",
			"märz",
			"april",
			"mai",
			"juni",
			"juli",
			"august",
			"september",
			"oktober",
			"november",
			"dezember",
		}, {"janv", "févr", "mars", "avr", "mai", "juin", "juil", "août", "sept", "oct", "nov", "déc"},
		{
			"ene",
			"feb",
			"mar",
			"abr",
			"may",
			"jun",
			"jul",
			"ago",
			"sep",
			"oct",
			"nov",
			"dic",
		}, {"gen", "feb", "mar", "apr", "mag", "giu", "lug", "ago", "set", "ott", "nov", "dic"}, {"sty", "lut", "mar",
			"kwi", "maj", "cze", "lip", "sie", "wrz", "paź", "lis", "gru"},
		{"янв", "фев", "мар", "апр", "мая", "июн", "июл", "авг", "сен", "окт", "ноя", "дек"},
	}
	for m := time.January; m <= time.December; m++ {
		names := []string{m.String()[:3], m.String(), strings.ToUpper(m.String()[:3])}
		for _, l := range local {
			names = append(names, l[m-1])
		}
		for _, name := range names {
			for _, shape := range []string{"M  D 06:15:0S lock-2 gated[7]: opened", "<38>M  D 06:15:0S lock-2 " +
				"gated[7]: opened", "Wed M  D 06:15:0S 2031 gate opens", "Wed, D M 2031 06:15:0S +0000 gate opens",
				"[0D/M/2031:06:15:0S +0000] gate opens",
				"M 0D, 2031 06:15:0S gate opens", "0D M 2031 06:15:0S gate opens", "0D M 06:15:0S gate opens",
				"0D-M-2031 06:15:0S gate opens", "2031-M-0D 06:15:0S gate opens", "2031 M  D 06:15:0S gate opens"} {
				var log string
				for s := range 3 {
					log += strings.NewReplacer("M", name, "D", "7", "S", string(rune('1'+s))).
						Replace(shape) +
						strings.Repeat(
							" again",
							s,
						) + "\n"
				}
				best := Guess([]byte(log), Options{Zone: "UTC", Observed: time.Date(2031, 12, 30, 12, 0, 0, 0,
					time.UTC)})[0]
				want := time.Date(2031, m, 7, 6, 15, 1, 0, time.UTC)
				if len(best.Records) != 3 || !best.Records[0].Time.Equal(want) {
					assert.Fail(
						t,
						"not read",
						"%q: %s %s at %s, not %s",
						log,
						best.Spec.Kind,
						best.Spec.Template,
						best.Records[0].Time,
						want,
					)
				}
			}
		}
	}
}
