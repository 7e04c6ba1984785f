package format

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/record"
)

// kase is a line with what a format makes of it: fields as JSON, time and body only where they are given.
type kase struct {
	line, fields, time, body string
	level                    uint8
	none                     bool
}

func check(t *testing.T, p *Parser, c kase) {
	t.Helper()
	b := &record.Batch{Schema: p.Schema()}
	r := record.Record{Body: b.Put([]byte(c.line)), Observed: time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC).UnixNano()}
	ok := p.Read(b, &r)
	require.Equal(t, !c.none, ok, c.line)
	if c.none {
		assert.Zero(t, len(b.Values), "a line that is not read leaves nothing behind")
		return
	}
	assert.Zero(t, r.Flags&record.Unparsed)
	if c.fields != "" {
		got := map[string]string{}
		for _, v := range b.Fields(&r) {
			got[p.Schema().Name(v.Slot)] = kindName(v.Kind) + " " + Show(b, v)
		}
		want := map[string]string{}
		require.NoError(t, json.Unmarshal([]byte(c.fields), &want), c.fields)
		assert.Equal(t, want, got, c.line)
	}
	if c.time != "" {
		assert.Equal(t, c.time, time.Unix(0, r.Time).UTC().Format(time.RFC3339Nano), c.line)
	}
	if c.body != "" {
		assert.Equal(t, c.body, string(b.Bytes(r.Body)), c.line)
	}
	assert.Equal(t, c.level, r.Level, c.line)
}

func TestSyslog(t *testing.T) {
	t.Parallel()
	p, err := Compile(Spec{Kind: "syslog"}, Time{Zone: "Europe/Lisbon"}, nil)
	require.NoError(t, err)
	const lock = `"syslog.facility":"int 20","syslog.severity":"int 5"`
	for name, c := range map[string]kase{
		"5424": {line: `<165>1 2031-04-02T06:15:09.003Z lock-2.whimbrel.example gated 412 GATE - sluice opened`,
			level: 10, time: "2031-04-02T06:15:09.003Z", body: "sluice opened",
			fields: `{` + lock + `,"syslog.version":"int 1","syslog.hostname":"text lock-2.whimbrel.example","syslog.appname":"text gated","syslog.procid":"text 412","syslog.msgid":"text GATE"}`},
		"5424, structured data": {line: `<165>1 2031-04-02T06:15:09+01:00 lock-2 gated - - [gate@32473 lane="4" note="a \"b\" \] c"][x@1] ` + "\xef\xbb\xbf" + `opened`, level: 10, time: "2031-04-02T05:15:09Z", body: "opened",
			fields: `{` + lock + `,"syslog.version":"int 1","syslog.hostname":"text lock-2","syslog.appname":"text gated","syslog.data.gate@32473.lane":"text 4","syslog.data.gate@32473.note":"text a \"b\" ] c"}`},
		"5424, nothing known": {line: `<0>1 - - - - - -`, level: 21,
			fields: `{"syslog.facility":"int 0","syslog.severity":"int 0","syslog.version":"int 1"}`},
		"5424, no text": {line: `<14>1 2031-04-02T06:15:09Z h a 1 - [x@1 a="b"]`, level: 9,
			fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.version":"int 1","syslog.hostname":"text h","syslog.appname":"text a","syslog.procid":"text 1","syslog.data.x@1.a":"text b"}`},
		"5424, torn data is text": {line: `<14>1 2031-04-02T06:15:09Z h a 1 - [x@1 a="b`, level: 9,
			time: "2031-04-02T06:15:09Z", body: `[x@1 a="b`,
			fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.version":"int 1","syslog.hostname":"text h","syslog.appname":"text a","syslog.procid":"text 1"}`},
		"5424, torn behind good data": {line: `<14>1 2031-04-02T06:15:09Z h a 1 - [x@1 a="b"][y c x`, level: 9,
			time: "2031-04-02T06:15:09Z", body: `[x@1 a="b"][y c x`},
		"sequence, host and clock mark": {line: `<190>000412: sw-1: *Apr  2 06:15:09.123 WEST: %SYS-5-CONFIG: set by kelp`, level: 9, time: "2031-04-02T05:15:09.123Z", body: "set by kelp", fields: `{"syslog.facility":"int 23","syslog.severity":"int 6","syslog.hostname":"text sw-1","syslog.appname":"text %SYS-5-CONFIG"}`},
		"colon apart from the host": {line: `<166>Apr 02 2031 06:15:09 fw-1 : %WALL-6-302: built`, level: 9,
			time: "2031-04-02T05:15:09Z", body: "built",
			fields: `{"syslog.facility":"int 20","syslog.severity":"int 6","syslog.hostname":"text fw-1","syslog.appname":"text %WALL-6-302"}`},
		"colon apart from the pid": {line: `<14>Apr  2 06:15:09 h app[412] : x`, level: 9, body: "x",
			fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.hostname":"text h","syslog.appname":"text app","syslog.procid":"text 412"}`},
		"pid apart from the tag": {line: `<14>Apr  2 06:15:09 h app [412]: x`, level: 9, body: "x",
			fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.hostname":"text h","syslog.appname":"text app","syslog.procid":"text 412"}`},
		"no number in the priority": {line: `<>Apr  2 06:15:09 h app: x`, body: "x", time: "2031-04-02T05:15:09Z",
			fields: `{"syslog.hostname":"text h","syslog.appname":"text app"}`},
		"space behind the priority": {line: `<14> Apr  2 06:15:09 h app: x`, level: 9, body: "x",
			time: "2031-04-02T05:15:09Z"},
		"an address of IPv6": {line: `<14>Apr  2 06:15:09 2001:db8::1 app: x`, level: 9, body: "x",
			time: "2031-04-02T05:15:09Z", fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.hostname":"text 2001:db8::1","syslog.appname":"text app"}`},
		"time in the json alone": {line: `<14>{"time":"2031-04-02T06:15:09Z","msg":"x"}`, level: 9, body: "x",
			time: "2031-04-02T06:15:09Z"},
		"time in two pairs alone": {line: `<134>date=2031-04-02 time=06:15:09 level="warning" msg="x y"`,
			level: 9, body: "x y", time: "2031-04-02T05:15:09Z"},
		"time in both": {line: `<14>Apr  2 06:15:09 h app: {"time":"2030-01-01T00:00:00Z","msg":"x"}`,
			level: 9, body: "x", time: "2031-04-02T05:15:09Z"},
		"3164": {line: `<34>Apr  2 06:15:09 lock-2 su[77]: 'root' failed on /dev/pts/8`,
			level: 21, time: "2031-04-02T05:15:09Z", body: "'root' failed on /dev/pts/8",
			fields: `{"syslog.facility":"int 4","syslog.severity":"int 2","syslog.hostname":"text lock-2","syslog.appname":"text su","syslog.procid":"text 77"}`},
		"3164, from a file": {line: `Apr 12 06:15:09 lock-2 cron[77]: (tide) CMD (run)`,
			time: "2030-04-12T05:15:09Z", body: "(tide) CMD (run)",
			fields: `{"syslog.hostname":"text lock-2","syslog.appname":"text cron","syslog.procid":"text 77"}`},
		"3164, iso in a file": {line: `2031-04-02T06:15:09.5+02:00 lock-2 kernel: link is up`,
			time: "2031-04-02T04:15:09.5Z", body: "link is up",
			fields: `{"syslog.hostname":"text lock-2","syslog.appname":"text kernel"}`},
		"no host": {line: `<13>Apr  2 06:15:09 gated: opened`, level: 10,
			time: "2031-04-02T05:15:09Z", body: "opened",
			fields: `{"syslog.facility":"int 1","syslog.severity":"int 5","syslog.appname":"text gated"}`},
		"no tag": {line: `<13>Apr  2 06:15:09 198.51.100.7 the gate is open`, level: 10,
			body: "the gate is open", fields: `{"syslog.facility":"int 1","syslog.severity":"int 5","syslog.hostname":"text 198.51.100.7"}`},
		"an address with its port is no host": {
			line: `<6>2031-04-02T06:15:09.5+01:00 198.51.100.7:4312 [x] f`, level: 9,
			time: "2031-04-02T05:15:09.5Z", body: "198.51.100.7:4312 [x] f",
			fields: `{"syslog.facility":"int 0","syslog.severity":"int 6"}`},
		"as programs write to people, with no host": {
			line: `<12>2031-04-02 06:15:09,828 tickets.sales WARNING sold out`, level: 13,
			time: "2031-04-02T05:15:09.828Z", body: "tickets.sales WARNING sold out",
			fields: `{"syslog.facility":"int 1","syslog.severity":"int 4"}`},
		"a host by the address of its hardware": {line: `<14>Apr  2 06:15:09 02:00:5e:10:00:01 ap: joined`, level: 9,
			time: "2031-04-02T05:15:09Z", body: "joined", fields: `{"syslog.facility":"int 1","syslog.severity":"int 6",` +
				`"syslog.hostname":"text 02:00:5e:10:00:01","syslog.appname":"text ap"}`},
		"year behind the day": {line: `<13>Apr 2 2030 06:15:09 sw1 : %LINK-5-UP: port 4`, level: 10,
			time: "2030-04-02T05:15:09Z"},
		"year behind the clock": {line: `<13>Apr  2 06:15:09 2030 sw1 gated: x`, level: 10,
			time: "2030-04-02T05:15:09Z", body: "x"},
		"sequence and clock mark": {line: `<189>000123: *Apr  2 06:15:09.250 UTC: %LINK-5-UP: port 4 is up`,
			level: 10, time: "2031-04-02T06:15:09.25Z", body: "port 4 is up",
			fields: `{"syslog.facility":"int 23","syslog.severity":"int 5","syslog.appname":"text %LINK-5-UP"}`},
		"priority alone": {line: `<13>the gate is open`, level: 10, body: "the gate is open",
			fields: `{"syslog.facility":"int 1","syslog.severity":"int 5"}`},
		"odd priority":          {line: `<999>Apr  2 06:15:09 h t: x`, level: 5, body: "x"},
		"byte order mark first": {line: "\xef\xbb\xbf<13>Apr  2 06:15:09 h t: x", level: 10, body: "x"},
		"json behind it": {line: `<14>Apr  2 06:15:09 h app[1]: {"msg":"sold","cents":450,"ok":true}`,
			level: 9, time: "2031-04-02T05:15:09Z", body: "sold",
			fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.hostname":"text h","syslog.appname":"text app","syslog.procid":"text 1","msg":"text sold","cents":"int 450","ok":"bool true"}`},
		"marked json behind it": {line: `<14>Apr  2 06:15:09 h app: @cee: {"a":1}`, level: 9,
			body: `@cee: {"a":1}`, fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.hostname":"text h","syslog.appname":"text app","a":"int 1"}`},
		"torn json behind it": {line: `<14>Apr  2 06:15:09 h app: {"a":1,"b`, level: 9, body: `{"a":1,"b`,
			time: "2031-04-02T05:15:09Z", fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.hostname":"text h","syslog.appname":"text app"}`},
		"key=value behind it": {line: `<14>Apr  2 06:15:09 fw1 date=2031-04-02 srcip=192.0.2.1 action="deny it"`,
			level: 9, fields: `{"syslog.facility":"int 1","syslog.severity":"int 6","syslog.hostname":"text fw1","date":"text 2031-04-02","srcip":"text 192.0.2.1","action":"text deny it"}`},
		"level out of the text": {line: `Apr  2 06:15:09 h app: level=error msg=broke`, level: record.Error,
			body: "broke"},
		"level first in the text": {line: `Apr  2 06:15:09 h app: ERROR it broke`, level: record.Error,
			body: "ERROR it broke"},
		"level and a colon in the text": {line: `Apr  2 06:15:09 h sshd[4]: error: no such user`, level: record.Error,
			body: "error: no such user"},
		"level in brackets in the text": {line: `Apr  2 06:15:09 h app: [warn] it is slow`, level: record.Warn,
			body: "[warn] it is slow"},
		"a word that is none":      {line: `Apr  2 06:15:09 h app: error in the ramp`, body: "error in the ramp"},
		"severity before the text": {line: `<14>Apr  2 06:15:09 h app: ERROR it broke`, level: 9},
		"a sentence is none":       {line: `the gate is open`, none: true},
		"no priority, no time":     {line: `lock-2 gated: open`, none: true},
		"priority without an end":  {line: `<13 x`, none: true},
		"february 30":              {line: `Feb 30 06:15:09 h t: x`, none: true},
		"month of another name":    {line: `April 2 06:15:09 h t: x`, body: "x", time: "2031-04-02T05:15:09Z"},
		"empty":                    {line: ``, none: true},
		"iso with a space": {line: `2031-04-02 06:15:09,250 h t[5]: x`, body: "x",
			time: "2031-04-02T05:15:09.25Z"},
	} {
		t.Run(name, func(t *testing.T) { check(t, p, c) })
	}
}

func TestRegexCSVAndFirstOf(t *testing.T) {
	t.Parallel()
	specs := map[string]Spec{
		"gate": {
			Name:     "gate",
			Kind:     "template",
			Template: "gate {lane:int} {result:token}",
			Level:    Level{Field: "result", Map: map[string]uint8{"denied": record.Warn}},
		},
		"reboot": {Name: "reboot", Kind: "regex", Regex: `^lane (?P<lane>\d+) rebooted(?: by (?P<who>\w+))?$`},
	}
	other := func(name string) (Spec, bool) {
		s, ok := specs[name]
		return s, ok
	}
	first := Spec{Kind: "first-of", FirstOf: []string{"gate", "reboot", "web-common", "json"}}
	semi := Spec{
		Kind:      "csv",
		Separator: ";",
		Columns:   []string{"ts", "kg", "ok", "from", "note"},
		Fields:    map[string]string{"kg": "float", "ok": "bool", "from": "ip"},
		Time:      Time{Field: "ts", Layout: "%d.%m.%Y %H:%M", Zone: "UTC"},
		Body:      "note",
	}
	typedJSON := Spec{
		Kind:   "json",
		Fields: map[string]string{"status": "int", "took": "float", "id": "text", "ok": "bool"},
	}
	for name, c := range map[string]struct {
		spec Spec
		kase
	}{
		"regex": {specs["reboot"], kase{line: "lane 4 rebooted by ada",
			fields: `{"lane":"text 4","who":"text ada"}`}},
		"regex, a group left out": {specs["reboot"], kase{line: "lane 4 rebooted", fields: `{"lane":"text 4"}`}},
		"regex, other":            {specs["reboot"], kase{line: "lane x rebooted", none: true}},
		"first-of, first": {first, kase{line: "gate 4 DENIED", level: record.Warn,
			fields: `{"lane":"int 4","result":"text DENIED"}`}},
		"first-of, second": {first, kase{line: "lane 4 rebooted by ada",
			fields: `{"lane":"text 4","who":"text ada"}`}},
		"first-of, built in": {first, kase{
			line: `192.0.2.1 - - [02/Apr/2031:06:15:09 +0000] "GET / HTTP/1.1" 200 5`, time: "2031-04-02T06:15:09Z"}},
		"first-of, last": {first, kase{line: `{"lane":5}`, fields: `{"lane":"int 5"}`}},
		"first-of, none": {first, kase{line: "lane", none: true}},
		"csv": {semi, kase{line: `02.04.2031 06:15;900.5;yes;192.0.2.7;"too heavy; ""deck 2"""`,
			time: "2031-04-02T06:15:00Z", body: `too heavy; "deck 2"`,
			fields: `{"ts":"text 02.04.2031 06:15","kg":"float 900.5","ok":"bool true","from":"text 192.0.2.7","note":"text too heavy; \"deck 2\""}`}},
		"csv, empty values": {semi, kase{line: `02.04.2031 06:15;;;;`,
			fields: `{"ts":"text 02.04.2031 06:15"}`}},
		"csv, its head":   {semi, kase{line: `ts;kg;ok;from;note`, none: true}},
		"csv, too few":    {semi, kase{line: `02.04.2031 06:15;1`, none: true}},
		"csv, too many":   {semi, kase{line: `02.04.2031 06:15;1;yes;192.0.2.7;x;y`, none: true}},
		"csv, open quote": {semi, kase{line: `02.04.2031 06:15;1;yes;192.0.2.7;"x`, none: true}},
		"csv, built in": {Spec{Kind: "csv"}, kase{line: `a,"b, c",3,4.5,`,
			fields: `{"column1":"text a","column2":"text b, c","column3":"int 3","column4":"float 4.5"}`}},
		"csv, one value is text": {Spec{Kind: "csv"}, kase{line: `just words`, none: true}},
		"declared": {typedJSON, kase{line: `{"status":"200","took":3,"id":17,"ok":"true","other":1}`,
			fields: `{"status":"int 200","took":"float 3","id":"text 17","ok":"bool true","other":"int 1"}`}},
		"declared, not fitting": {typedJSON, kase{line: `{"status":"ok","took":"long"}`,
			fields: `{"status":"text ok","took":"text long"}`}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p, err := Compile(c.spec, Time{}, other)
			require.NoError(t, err)
			check(t, p, c.kase)
			again := c.kase // a parser is used again and again
			check(t, p, again)
		})
	}
	for words, spec := range map[string]Spec{
		"there is no format":      {Name: "x", Kind: "first-of", FirstOf: []string{"nobody"}},
		"is a first-of itself":    {Name: "x", Kind: "first-of", FirstOf: []string{"y"}},
		"names no format":         {Name: "x", Kind: "first-of"},
		"has no group":            {Name: "x", Kind: "regex", Regex: "(?P<a>x)", Body: "b"},
		"cannot be the separator": {Name: "x", Kind: "csv", Separator: `"`},
	} {
		specs := map[string]Spec{"y": {Kind: "first-of", FirstOf: []string{"raw"}}}
		_, err := Compile(spec, Time{}, func(n string) (Spec, bool) { s, ok := specs[n]; return s, ok })
		assert.ErrorContains(t, err, words)
	}
}

// TestOneSetOfNames: the formats of a first-of give their fields the same places, whoever reads the line.
func TestOneSetOfNames(t *testing.T) {
	t.Parallel()
	p, err := Compile(Spec{Kind: "first-of", FirstOf: []string{"json", "keyvalue"}}, Time{}, nil)
	require.NoError(t, err)
	b := &record.Batch{Schema: p.Schema()}
	var slots []uint16
	for _, line := range []string{`{"a":1}`, `a=2`} {
		r := record.Record{Body: b.Put([]byte(line))}
		require.True(t, p.Read(b, &r))
		slots = append(slots, b.Fields(&r)[0].Slot)
	}
	assert.Equal(t, slots[0], slots[1])
}

// FuzzSyslog: any line is read or not without a panic; what is read lies in the line or the arena, and a line that is
// not read leaves nothing behind.
func FuzzSyslog(f *testing.F) {
	for _, s := range []string{`<165>1 2031-04-02T06:15:09.003Z h a 4 m [x@1 a="b"] t`,
		`<34>Apr  2 06:15:09 h su[1]: x`, `<13>x`, `Apr  2 06:15:09 2030 h: {"a":1}`, `<1>1 - - - - - - a=b c="d"`,
		"\xef\xbb\xbf<9>"} {
		f.Add([]byte(s))
	}
	syslog, err := Compile(Spec{Kind: "syslog"}, Time{Zone: "UTC"}, nil)
	require.NoError(f, err)
	csv, err := Compile(
		Spec{Kind: "csv", Columns: []string{"a", "b"}, Fields: map[string]string{"a": "int"}},
		Time{},
		nil,
	)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, line []byte) {
		for _, p := range []*Parser{syslog, csv} {
			b := &record.Batch{Schema: p.Schema()}
			r := record.Record{Body: b.Put(line)}
			if !p.Read(b, &r) {
				require.Empty(t, b.Values)
				continue
			}
			require.LessOrEqual(t, int(r.Body.Off+r.Body.Len), len(b.Arena))
			for _, v := range b.Fields(&r) {
				require.LessOrEqual(t, int(v.Span.Off+v.Span.Len), len(b.Arena))
			}
		}
	})
}
