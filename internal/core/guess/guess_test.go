package guess

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
)

// logs are made-up logs in the shapes that programs write, with the right answer beside each.
var logs = []struct {
	name, kind string
	template   string // of a template, as it should be proposed
	begin      bool   // records go over several lines
	records    int
	first      string // time of the first record, with times in Lisbon where they have no zone
	level      string // of the first record
	text       string
}{
	{
		"json",
		"json",
		"",
		false,
		2,
		"2031-04-02T06:15:09Z",
		"WARN",
		`{"time":"2031-04-02T06:15:09Z","level":"warn","msg":"paper low"}` + "\n" +
			`{"time":"2031-04-02T06:15:10Z","level":"info","msg":"sold","fare":{"cents":450}}`,
	},
	{
		"json, epoch",
		"json",
		"",
		false,
		2,
		"2031-04-03T06:15:09.25Z",
		"",
		`{"ts":1932963309.25,"a":1}` + "\n" + `{"ts":1932963310,"a":2}`,
	},
	{
		"keyvalue",
		"keyvalue",
		"",
		false,
		2,
		"2031-04-02T06:15:09Z",
		"ERROR",
		`ts=2031-04-02T06:15:09Z level=error msg="gate stuck" lane=4` + "\n" +
			`ts=2031-04-02T06:15:10Z level=info msg=ok lane=5`,
	},
	{
		"web-combined",
		"web-combined",
		"",
		false,
		2,
		"2031-04-02T05:15:09Z",
		"",
		`198.51.100.7 - - [02/Apr/2031:06:15:09 +0100] "GET /fares HTTP/1.1" 200 512 "-" "Explorer/9"` + "\n" +
			`198.51.100.8 - ada [02/Apr/2031:06:15:10 +0100] "POST /book?x=1 HTTP/1.1" 302 0 "https://whimbrel.example/" "App"`,
	},
	{
		"web-common",
		"web-common",
		"",
		false,
		2,
		"2031-04-02T05:15:09Z",
		"",
		`198.51.100.7 - - [02/Apr/2031:06:15:09 +0100] "GET /fares HTTP/1.1" 200 512` + "\n" +
			`198.51.100.8 - ada [02/Apr/2031:06:15:10 +0100] "GET / HTTP/1.0" 404 -`,
	},
	{
		"syslog 5424",
		"syslog",
		"",
		false,
		2,
		"2031-04-02T06:15:09Z",
		"INFO",
		`<165>1 2031-04-02T06:15:09Z lock-2 gated 412 GATE - opened` + "\n" +
			`<165>1 2031-04-02T06:15:19Z lock-2 gated 412 GATE [x@1 lane="4"] closed`,
	},
	{
		"syslog 3164",
		"syslog",
		"",
		false,
		3,
		"2031-04-02T05:15:09Z",
		"FATAL",
		"<34>Apr  2 06:15:09 lock-2 su[77]: failed\n<38>Apr  2 06:15:10 lock-2 cron[78]: run\n<38>Apr  2 06:16:10 " +
			"lock-2 kernel: up",
	},
	{
		"syslog in a file",
		"syslog",
		"",
		false,
		3,
		"2031-04-02T05:15:09Z",
		"",
		"Apr  2 06:15:09 lock-2 su[77]: failed\nApr  2 06:15:10 lock-2 cron[78]: run\nApr  2 06:16:10 lock-2 " +
			"kernel: up",
	},
	{
		"time, level, message",
		"template",
		"{ts:time} {level:token} {message:remainder}",
		false,
		3,
		"2031-04-02T05:15:09.123Z",
		"INFO",
		"2031-04-02 06:15:09,123 INFO ferry is in berth 2\n2031-04-02 06:15:10,001 WARN swell above one " +
			"metre\n2031-04-02 06:16:10,001 ERROR ramp does not answer",
	},
	{
		"brackets",
		"template",
		"[{ts:time}] [{level:token}] [{context}] {message:remainder}",
		false,
		3,
		"2031-04-02T05:15:09Z",
		"INFO",
		"[2031-04-02 06:15:09] [INFO] [main-1] ready\n[2031-04-02 06:15:10] [ERROR] [worker-2] ramp does not " +
			"answer\n[2031-04-02 06:15:11] [INFO] [main-1] going on",
	},
	{
		"level with a colon",
		"template",
		"{ts:time} {level:token}: {message:remainder}",
		false,
		3,
		"2031-04-02T05:15:09Z",
		"WARN",
		"2031/04/02 06:15:09 warning: low water\n2031/04/02 06:15:10 info: dredger passes\n2031/04/02 06:15:11 " +
			"info: tide turns",
	},
	{
		"level first",
		"template",
		"{level:token} {ts:time} {message:remainder}",
		false,
		3,
		"2031-04-02T06:15:09Z",
		"ERROR",
		"ERROR 2031-04-02T06:15:09Z engine two overheats\nINFO 2031-04-02T06:15:10Z pump on\nINFO " +
			"2031-04-02T06:15:11Z temperature falls",
	},
	{
		"thread and logger",
		"template",
		"{ts:time} [{context}] {level:token} {logger:token} - {message:remainder}",
		false,
		3,
		"2031-04-02T05:15:09.25Z",
		"DEBUG",
		"2031-04-02 06:15:09.250 [pool-1-thread-4] DEBUG e.w.Booking - seats held\n2031-04-02 06:15:09.350 [main] " +
			"INFO  e.w.Main - started\n2031-04-02 06:15:09.450 [pool-1-thread-5] WARN  e.w.Fares - no fare for W017",
	},
	{
		"dotted day first",
		"template",
		"{ts:time} gauge {gauge:token} level={level:float} {message:remainder}",
		false,
		3,
		"2031-04-02T05:15:09Z",
		"",
		"02.04.2031 06:15:09 gauge saltmarsh-1 level=2.41 rising fast\n02.04.2031 06:15:10 gauge saltmarsh-2 " +
			"level=2.43 slack\n02.04.2031 06:15:11 gauge saltmarsh-1 level=2.44 rising slowly again",
	},
	{
		"pairs behind a time",
		"template",
		"{ts:time} lane={lane:int} result={result:token} took={took:int}",
		false,
		3,
		"2031-04-02T05:15:09Z",
		"",
		"2031-04-02 06:15:09 lane=4 result=OK took=12\n2031-04-02 06:15:10 lane=5 result=DENIED took=9\n2031-04-02 " +
			"06:15:11 lane=4 result=OK took=30",
	},
	{
		"csv with a head",
		"csv",
		"",
		false,
		3,
		"",
		"",
		"time;plate;kg\n2031-04-02 06:15:09;none;900\n2031-04-02 06:15:10;none;1200",
	},
	{
		"csv",
		"csv",
		"",
		false,
		3,
		"2031-04-02T05:15:09Z",
		"",
		"2031-04-02 06:15:09,NP-1,4,ok\n2031-04-02 06:15:10,NP-2,5,ok\n2031-04-02 06:15:11,NP-1,4,jam",
	},
	{
		"stack traces",
		"template",
		"{ts:time} {level:token} {message:remainder}",
		true,
		3,
		"2031-04-02T05:15:09Z",
		"ERROR",
		"2031-04-02 06:15:09 ERROR booking failed\njava.lang.IllegalStateException: no seats\n\tat " +
			"e.w.Booking.hold(Booking.java:41)\n\tat e.w.Main.run(Main.java:7)\n2031-04-02 06:15:10 INFO going " +
			"on\n2031-04-02 06:15:11 WARN again\n  with more\n",
	},
	{
		"framed reports",
		"template",
		"== {ts:time} petrel engine {engine:int} rpm {rpm:int}\n{message:remainder}",
		true,
		2,
		"2031-04-02T06:15:09Z",
		"",
		"== 2031-04-02T06:15:09+0000 petrel engine 1 rpm 900\n   oil 3.1 bar\n== 2031-04-02T06:16:09+0000 petrel " +
			"engine 2 rpm 950\n   oil 3.0 bar\n",
	},
	{
		"padded levels in brackets",
		"template",
		"[{ts:time}] [{level}] [{context}] {message:remainder}",
		false,
		3,
		"2031-04-02T04:15:09.12Z",
		"WARN",
		"[2031-04-02T06:15:09.120+02:00] [WARN ] [lane-pool-3] queue is 17 long\n[2031-04-02T06:15:10.121+02:00] " +
			"[INFO ] [lane-pool-1] gate opened for 4\n[2031-04-02T06:15:11.122+02:00] [ERROR] [lane-pool-2] the " +
			"ramp is stuck",
	},
	{
		"a host, a number and a method in all lines",
		"template",
		"{ts:time} {word:token} {number:int} {address:ip} {method:token} {url:token} done",
		false,
		2,
		"2031-04-03T06:15:09.12Z",
		"",
		"1932963309.120 gate-west 17 192.0.2.17 GET http://store.skerry.example/a done\n1932963310.220 gate-west 17 " +
			"192.0.2.17 GET http://store.skerry.example/b done",
	},
	{
		"names of columns behind a #",
		"template",
		"{ts:time} {address:ip} {message:remainder}",
		false,
		4,
		"",
		"",
		"#Fields: date time c-ip method path\n2031-04-02 06:15:09 192.0.2.1 open lane four\n2031-04-02 06:15:10 " +
			"192.0.2.7 shut the bow gate\n2031-04-02 06:15:11 192.0.2.1 nobody came",
	},
	{"words", "raw", "", false, 3, "", "", "the gate is open\nnobody is here\nit rains on the pier"},
	{
		"sentences that come again",
		"raw",
		"",
		false,
		6,
		"",
		"",
		"swell at the pier below one metre\nfog bank west of the pier now\nswell at the pier below one metre\nfog " +
			"bank west of the pier now\nswell at the pier below one metre\nfog bank west of the pier now",
	},
	{
		"framed reports over many days",
		"template",
		"={level:token} REPORT==== {ts:time} ===\n{message:remainder}",
		true,
		3,
		"2031-04-09T05:15:09Z",
		"INFO",
		"=INFO REPORT==== 9-Apr-2031::06:15:09 ===\nlink up\n=ERROR REPORT==== 10-Apr-2031::06:15:09 ===\nlink " +
			"down\nfor good\n=INFO REPORT==== 11-Apr-2031::06:15:09 ===\nlink up\n",
	},
	{"one line", "raw", "", false, 1, "", "", "hello"},
}

func TestGuess(t *testing.T) {
	t.Parallel()
	for _, c := range logs {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			got := Guess(
				[]byte(strings.TrimRight(c.text, "\n")+"\n"),
				Options{Zone: "Europe/Lisbon", Observed: time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)},
			)
			require.NotEmpty(t, got)
			best := got[0]
			assert.Equal(t, format.Kind(c.kind), best.Spec.Kind, "%+v", best.Spec)
			if c.template != "" {
				assert.Equal(t, c.template, best.Spec.Template)
			}
			assert.Equal(t, c.begin, best.Begin != "", best.Begin)
			require.Len(t, best.Records, c.records)
			if c.first != "" {
				assert.Equal(t, c.first, best.Records[0].Time.Format(time.RFC3339Nano))
			}
			assert.Equal(t, c.level, best.Records[0].Level)
			lines := 0
			for _, r := range best.Records {
				lines += r.Lines
			}
			assert.Equal(t, strings.Count(strings.TrimRight(c.text, "\n"), "\n")+1, lines, "no line is lost")

			// What is proposed is a good definition that reads its own sample.
			zone := ""
			if best.NoZone || !best.From.IsZero() {
				zone = "Europe/Lisbon"
			}
			text := best.Definition("guessed", zone)
			defs, problems := catalogue.Parse("g.yaml", []byte(text))
			require.Empty(t, problems, text)
			failures, err := format.CheckSamples(*defs[0].Format, format.Time{}, nil)
			require.NoError(t, err, text)
			assert.Empty(t, failures, text)
		})
	}
}

func TestZoneIsAskedFor(t *testing.T) {
	t.Parallel()
	got := Guess(
		[]byte("2031-04-02 06:15:09 INFO a b\n2031-04-02 06:15:10 WARN c d e\n"),
		Options{Observed: time.Now()},
	)
	assert.True(t, got[0].NoZone)
	assert.Contains(t, got[0].Warnings, "the times have no zone: choose one")
	assert.Equal(
		t,
		"2031-04-02T06:15:09Z",
		got[0].From.Format(time.RFC3339),
		"until then they are shown as if they were UTC",
	)
	assert.Equal(t, "2031-04-02T06:15:10Z", got[0].Records[1].Time.Format(time.RFC3339))
	assert.Equal(t, record.TimeNoZone, got[0].Records[1].TimeNote)
	assert.NotContains(t, got[0].Definition("guessed", ""), "zone")
}

// TestSamplesHoldNothingPrivate: a definition takes a line without private data along, or says what it holds.
func TestSamplesHoldNothingPrivate(t *testing.T) {
	t.Parallel()
	private := "2031-04-02 06:15:09 INFO call +351 210 555 017 or kelp@skerry.example or +351 210 555 018"
	got := Guess([]byte(private+"\n2031-04-02 06:15:10 WARN nobody calls\n"), Options{
		Observed: time.Now()})[0].Definition(
		"crane",
		"UTC",
	)
	assert.Contains(t, got, "nobody calls")
	assert.NotContains(t, got, "skerry")
	got = Guess([]byte(private+"\n"+private+"\n"), Options{Observed: time.Now()})[0].Definition("crane", "UTC")
	assert.Contains(
		t,
		got,
		"# This sample seems to hold private data (email, phone): make up other data before it is saved.\nsamples:\n",
	)
	_, problems := catalogue.Parse("g.yaml", []byte(got))
	assert.Empty(t, problems)
}

// TestPlainBeforeRich: a plain answer that reads all lines is better than a rich one that reads half.
func TestPlainBeforeRich(t *testing.T) {
	t.Parallel()
	got := Guess([]byte("{\"a\":1}\nthe gate is open\nnobody is here\n{\"a\":2}\n"), Options{Observed: time.Now()})
	assert.Equal(t, format.Kind("raw"), got[0].Spec.Kind)
	for _, c := range got {
		if c.Spec.Kind == "json" {
			assert.InDelta(t, 0.5, c.Share, 0.01)
			assert.Contains(t, c.Warnings, "50% of the records are not read")
		}
	}
}

// TestDatesOfSeveralOrders: what a date means is told by all lines together, and by what lies nearest.
func TestDatesOfSeveralOrders(t *testing.T) {
	t.Parallel()
	observed := time.Date(2031, 7, 1, 0, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{
		// the year first, since 2004 is long ago
		"31/06/04 06:15:09 INFO a b\n31/06/05 06:15:09 INFO c d\n":     "2031-06-04",
		"04/06/31 06:15:09 INFO a b\n13/06/31 06:15:09 INFO c d\n":     "2031-06-04",
		"06/04/31 06:15:09 INFO a b\n06/13/31 06:15:09 INFO c d\n":     "2031-06-04",
		"04/06/2031 06:15:09 INFO a b\n13/06/2031 06:15:09 INFO c d\n": "2031-06-04",
		"06/04/2031 06:15:09 INFO a b\n06/13/2031 06:15:09 INFO c d\n": "2031-06-04",
		"04/06/2031 06:15:09 INFO a b\n05/06/2031 06:15:09 INFO c d\n": "2031-06-04", // June lies nearer than April
	} {
		best := Guess([]byte(text), Options{Zone: "UTC", Observed: observed})[0]
		assert.Equal(t, want, best.Records[0].Time.Format("2006-01-02"), text)
		defs, problems := catalogue.Parse("g.yaml", []byte(best.Definition("guessed", "UTC")))
		require.Empty(t, problems)
		assert.Equal(t, best.Spec.Time.Layout, defs[0].Format.Time.Layout)
	}
}

// TestOwnLevels: a column of a few words over and over, levels among them, is the level, also where most lines have a
// word of the program's own.
func TestOwnLevels(t *testing.T) {
	t.Parallel()
	var log strings.Builder
	for i := range 60 {
		word := []string{"chatty", "chatty", "chatty", "info", "http", "chatty", "warn", "verbose", "chatty",
			"chatty"}[i%10]
		text := []string{"looks for its ramp", "fare table read from /srv/fares", "GET 200 /sailings", "a kiosk asks",
			"pier 7: free", "ramp is up", "two crews wait for each other"}[i%7]
		fmt.Fprintf(&log, "%d %s %s\n", i, word, text)
	}
	log.WriteString("60 error there is none\n")
	best := Guess([]byte(log.String()), Options{Observed: time.Now()})[0]
	assert.Equal(t, "{number:int} {level:token} {message:remainder}", best.Spec.Template)
	assert.Equal(
		t,
		map[string]uint8{
			"chatty":  record.Info,
			"info":    record.Info,
			"http":    record.Info,
			"warn":    record.Warn,
			"verbose": record.Debug,
			"error":   record.Error,
		},
		best.Spec.Level.Map,
	)
	assert.Equal(t, "WARN", best.Records[6].Level)
	sentences := Guess([]byte(strings.Repeat("1 open the gate now\n2 close the gate now\n3 error in the gate now\n4 "+
		"warning of the gate now\n5 wait for the gate now\n6 call the crew now\n", 12)), Options{
		Observed: time.Now()})[0]
	assert.NotContains(t, sentences.Spec.Template, "level", "verbs are none")
}

// TestEncodings: a log in another encoding gives the same guess, and the encoding; what is no text gives raw, and says
// so.
func TestEncodings(t *testing.T) {
	t.Parallel()
	const log = "2031-04-02 06:15:09 INFO Fähre ist bereit\n2031-04-02 06:15:10 WARN Brücke zu\n2031-04-02 06:15:11 " +
		"INFO Türen offen\n"
	little, latin := []byte("\xff\xfe"), []byte{}
	for _, r := range log {
		little, latin = append(little, byte(r), byte(r>>8)), append(latin, byte(r))
	}
	plain := Guess([]byte(log), Options{Zone: "UTC", Observed: time.Now()})[0]
	for encoding, data := range map[string][]byte{"": []byte(log), "utf-16le": little, "latin-1": latin} {
		got := Guess(data, Options{Zone: "UTC", Observed: time.Now()})[0]
		assert.Equal(t, encoding, got.Encoding)
		assert.Equal(t, plain.Definition("ferry", "UTC"), got.Definition("ferry", "UTC"))
		assert.Equal(t, "Brücke zu", got.Records[1].Body)
	}
	packed := make([]byte, 4096)
	for i := range packed {
		packed[i] = byte(i*i*31 + i>>3)
	}
	got := Guess(packed, Options{Observed: time.Now()})
	require.Len(t, got, 1)
	assert.Equal(t, format.Kind("raw"), got[0].Spec.Kind)
	assert.Contains(t, got[0].Warnings[0], "not text")
}

// TestPaddingBeforeAMark: columns that are filled up before a mark are read also where a longer word leaves less room.
func TestPaddingBeforeAMark(t *testing.T) {
	t.Parallel()
	best := Guess([]byte("2031-04-02 06:15:09 | INFO  | ramp 1 | opened\n2031-04-02 06:15:10 | WARN  | ramp 2 | "+
		"slow\n2031-04-02 06:15:11 | INFO  | ramp 1 | closed\n"), Options{Zone: "UTC", Observed: time.Now()})[0]
	assert.Equal(t, "{ts:time} | {level:token} | ramp {ramp:int} | {message:remainder}", best.Spec.Template)
	best = Guess([]byte("2031-04-02 06:15:09 | INFO  | ramp 1 | opened\n2031-04-02 06:15:10 | ERROR | ramp 2 | "+
		"slow\n2031-04-02 06:15:11 | INFO  | ramp 1 | closed\n"), Options{Zone: "UTC", Observed: time.Now()})[0]
	assert.Equal(t, "{ts:time} | {level:token} | ramp {ramp:int} | {message:remainder}", best.Spec.Template)
	assert.InDelta(t, 1, best.Share, 0)
}

// TestCells: what is alone between bars is a value, also where a few lines have the same one; and no way is listed
// twice.
func TestCells(t *testing.T) {
	t.Parallel()
	all := Guess(
		[]byte(
			"2031-04-02 06:15:09 | WARN  | ramp 1 | closed | gate-1.2.15\n2031-04-02 06:15:10 | INFO  | ramp 2 | "+
				"closed | gate-1.2.16\n2031-04-02 06:15:11 | INFO  | ramp 3 | closed | gate-1.2.17\n",
		),
		Options{Zone: "UTC", Observed: time.Now()},
	)
	assert.Equal(t, "{ts:time} | {level:token} | ramp {ramp:int} | {word:token} | {word2:token}", all[0].Spec.Template)
	kinds := []string{}
	for _, c := range all {
		kinds = append(kinds, string(c.Spec.Kind))
	}
	assert.Equal(t, []string{"template", "raw"}, kinds)
}

// FuzzGuess: any bytes end in a guess that loses no line, and in definitions that can be read.
func FuzzGuess(f *testing.F) {
	for _, c := range logs {
		f.Add([]byte(c.text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 16<<10 {
			return
		}
		for _, c := range Guess(data, Options{Observed: time.Unix(0, 0)}) {
			_, problems := catalogue.Parse("g.yaml", []byte(c.Definition("guessed", "")))
			require.Empty(t, problems, c.Definition("guessed", ""))
		}
	})
}
