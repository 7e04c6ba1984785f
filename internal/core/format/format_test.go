package format

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/record"
)

// read reads one line; its fields come back as text with their kinds.
func read(
	t require.TestingT,
	spec Spec,
	line string,
) (fields map[string]string, r record.Record, ok bool, body string) {
	p, err := Compile(spec, Time{}, nil)
	require.NoError(t, err)
	b := &record.Batch{Schema: p.Schema()}
	r = record.Record{Body: b.Put([]byte(line)), Observed: time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC).UnixNano()}
	ok = p.Read(b, &r)
	fields = map[string]string{}
	for _, v := range b.Fields(&r) {
		fields[p.Schema().Name(v.Slot)] = kindName(v.Kind) + " " + Show(b, v)
	}
	return fields, r, ok, string(b.Bytes(r.Body))
}

func TestFormats(t *testing.T) {
	t.Parallel()
	gate := Spec{
		Kind:     "template",
		Template: `{ts:time} lane={lane:int} doc={doc} result={result:token} note={note:remainder}`,
		Time: Time{
			Field:  "ts",
			Layout: "%Y-%m-%d %H:%M:%S",
			Zone:   "Europe/Lisbon",
		},
		Level: Level{Field: "result", Map: map[string]uint8{"denied": record.Warn, "*": record.Info}},
	}
	for name, c := range map[string]struct {
		spec   Spec
		line   string
		none   bool
		fields string // as JSON
		time   string
		level  uint8
		body   string
	}{
		"template": {spec: gate, line: "2031-04-02 06:15:09 lane=4 doc=PA 12 result=Denied note={x}",
			level: record.Warn, time: "2031-04-02T05:15:09Z",
			fields: `{"ts":"text 2031-04-02 06:15:09","lane":"int 4","doc":"text PA 12","result":"text Denied","note":"text {x}"}`},
		"template, other": {spec: gate, line: "lane 4 rebooted", none: true},
		"level, mapped without its case": {spec: Spec{Kind: "template", Template: `{w:token} {m:remainder}`,
			Level: Level{Field: "w", Map: map[string]uint8{"silly": record.Debug, "warn": record.Info}}},
			line: "Silly x", level: record.Debug, fields: `{"w":"text Silly","m":"text x"}`},
		"level, mapped otherwise": {spec: Spec{Kind: "template", Template: `{w:token} {m:remainder}`,
			Level: Level{Field: "w", Map: map[string]uint8{"silly": record.Debug, "warn": record.Info}}},
			line: "warn x", level: record.Info, fields: `{"w":"text warn","m":"text x"}`},
		"level, not in the map": {spec: Spec{Kind: "template", Template: `{w:token} {m:remainder}`,
			Level: Level{Field: "w", Map: map[string]uint8{"silly": record.Debug, "warn": record.Info}}},
			line: "error x", level: record.Error, fields: `{"w":"text error","m":"text x"}`},
		"level, not in the map, nor known": {spec: Spec{Kind: "template", Template: `{w:token} {m:remainder}`,
			Level: Level{Field: "w", Map: map[string]uint8{"silly": record.Debug}}}, line: "dull x",
			fields: `{"w":"text dull","m":"text x"}`},
		"template, types": {spec: Spec{Kind: "template",
			Template: `{a:int}{{{b:float}}} {c:quoted} {d:ip} {-:token} end`},
			line:   `-3{2.5} "x \"y\"" 2001:db8::1 zz end`,
			fields: `{"a":"int -3","b":"float 2.5","c":"text x \"y\"","d":"text 2001:db8::1"}`},
		"template, anchored": {spec: Spec{Kind: "template", Template: `{a:token} end`}, line: "x end more",
			none: true},
		"template, last literal": {spec: Spec{Kind: "template", Template: `{a} end`}, line: "x end y end",
			fields: `{"a":"text x end y"}`},
		"template, lined up": {spec: Spec{Kind: "template", Template: `{l:token} [{c}] {w:token} - {m:remainder}`},
			line:   "INFO   [main]  e.w.Main   -  x  y",
			fields: `{"l":"text INFO","c":"text main","w":"text e.w.Main","m":"text x  y"}`},
		"template, two spaces": {spec: Spec{Kind: "template", Template: `{a}  {b}`}, line: "x y   z",
			fields: `{"a":"text x y","b":"text z"}`},
		"template, one too few": {spec: Spec{Kind: "template", Template: `{a}  {b}`}, line: "x y z", none: true},
		"template, tail": {spec: Spec{Kind: "template", Template: `{a:int} of {b:int}{c:remainder}`},
			line: "4 of  5\n more", fields: `{"a":"int 4","b":"int 5","c":"text \n more"}`},
		"template, mark first": {spec: Spec{Kind: "template", Template: `{a}: {b}`}, line: "x:y: z",
			fields: `{"a":"text x:y","b":"text z"}`},
		"json": {spec: Spec{Kind: "json"},
			line: `{"time":"2031-04-02T06:15:09.5+02:00","level":"warning","msg":"hi \u00e9","a":{"b":1,"c":[1,"x"]},"d":1.5,"e":true,"f":null}`,
			time: "2031-04-02T04:15:09.5Z", level: record.Warn, body: "hi é",
			fields: `{"time":"text 2031-04-02T06:15:09.5+02:00","level":"text warning","msg":"text hi é","a.b":"int 1","a.c":"json [1,\"x\"]","d":"float 1.5","e":"bool true"}`},
		"json, epoch": {spec: Spec{Kind: "json"}, line: `{"ts":1932963309.25}`, time: "2031-04-03T06:15:09.25Z",
			fields: `{"ts":"float 1.93296330925e+09"}`},
		"json, milli": {spec: Spec{Kind: "json"}, line: `{"timestamp":1932963309250}`,
			time: "2031-04-03T06:15:09.25Z", fields: `{"timestamp":"int 1932963309250"}`},
		"json, surrogates": {spec: Spec{Kind: "json"}, line: `{"a":"\ud83d\ude00 \ud800"}`,
			fields: `{"a":"text 😀 \ufffd"}`},
		"json, twice":    {spec: Spec{Kind: "json"}, line: `{"a":1,"a":2}`, fields: `{"a":"int 2"}`},
		"json, list":     {spec: Spec{Kind: "json"}, line: `[1]`, none: true},
		"json, torn":     {spec: Spec{Kind: "json"}, line: `{"a":1`, none: true},
		"json, trailing": {spec: Spec{Kind: "json"}, line: `{"a":1} x`, none: true},
		"json, octal":    {spec: Spec{Kind: "json"}, line: `{"a":01}`, none: true},
		"keyvalue": {spec: Spec{Kind: "keyvalue"},
			line:  `ts=2031-04-02T06:15:09Z lvl=error msg="it \"broke\"" n=7 zip=007 f=1.5 ok=true note=two words x=`,
			level: record.Error, time: "2031-04-02T06:15:09Z", body: `it "broke"`,
			fields: `{"ts":"text 2031-04-02T06:15:09Z","lvl":"text error","msg":"text it \"broke\"","n":"int 7","zip":"text 007","f":"float 1.5","ok":"bool true","note":"text two words","x":"text "}`},
		"keyvalue, words only": {spec: Spec{Kind: "keyvalue"}, line: "just some words", none: true},
		"keyvalue, no zone": {spec: Spec{Kind: "keyvalue"}, line: "time=2031-04-02T06:15:09",
			time: "2031-04-02T12:00:00Z", fields: `{"time":"text 2031-04-02T06:15:09"}`},
		"web-combined": {spec: Spec{Kind: "web-combined"},
			line: `198.51.100.7 - ada [02/Apr/2031:06:15:09 +0100] "GET /a/b?x=1&y=2 HTTP/1.1" 200 512 "-" "Explorer \"7\""`, time: "2031-04-02T05:15:09Z",
			fields: `{"client.address":"text 198.51.100.7","user.name":"text ada","http.request.method":"text GET","url.path":"text /a/b","url.query":"text x=1&y=2","network.protocol.version":"text 1.1","http.response.status_code":"int 200","http.response.body.size":"int 512","user_agent.original":"text Explorer \"7\""}`},
		"web-common": {spec: Spec{Kind: "web-common"}, line: `2001:db8::1 - - [02/Apr/2031:06:15:09 +0000] "-" 408 -`,
			time:   "2031-04-02T06:15:09Z",
			fields: `{"client.address":"text 2001:db8::1","http.response.status_code":"int 408"}`},
		"web-common, odd request": {spec: Spec{Kind: "web-common"},
			line: `192.0.2.1 - - [02/Apr/2031:06:15:09 +0000] "\x16\x03" 400 0`, time: "2031-04-02T06:15:09Z",
			fields: `{"client.address":"text 192.0.2.1","url.original":"text \\x16\\x03","http.response.status_code":"int 400","http.response.body.size":"int 0"}`},
		"keyvalue, commas and semicolons": {spec: Spec{Kind: "keyvalue"}, line: `a=1, b=x; c=2.5, d="e f", g=h,`,
			fields: `{"a":"int 1","b":"text x","c":"float 2.5","d":"text e f","g":"text h,"}`},
		"keyvalue, nothing else between": {spec: Spec{Kind: "keyvalue"}, line: `a=1;b=2,c=x|d="y z";e=`,
			fields: `{"a":"int 1","b":"int 2","c":"text x","d":"text y z","e":"text "}`},
		"keyvalue, words and semicolons": {spec: Spec{Kind: "keyvalue", Time: Time{Field: "EventTime", Zone: "UTC"}},
			line: `EventTime=2031-04-02 06:15:09;Level=ERROR;Text=it went wrong;Code=7`, time: "2031-04-02T06:15:09Z",
			fields: `{"EventTime":"text 2031-04-02 06:15:09","Level":"text ERROR","Text":"text it went wrong","Code":"int 7"}`},
		"keyvalue, pairs in a value": {spec: Spec{Kind: "keyvalue"},
			line:   `url=http://a.example/x?a=b,c=d&e=f q=a=b;c=d list=1,2,3 end=x;y`,
			fields: `{"url":"text http://a.example/x?a=b,c=d&e=f","q":"text a=b;c=d","list":"text 1,2,3","end":"text x;y"}`},
		"keyvalue, single quotes": {spec: Spec{Kind: "keyvalue"},
			line:   `a='x y' b='it''s' c='', d='open e=O'Brien f='p', g='q';h=1`,
			fields: `{"a":"text x y","b":"text 'it''s'","c":"text ","d":"text 'open","e":"text O'Brien","f":"text p","g":"text q","h":"int 1"}`},
		"web-common, proxies before it": {spec: Spec{Kind: "web-common"},
			line:   `192.0.2.1, 198.51.100.3, 198.51.100.4 - ada [02/Apr/2031:06:15:09 +0000] "GET / HTTP/1.1" 200 1`,
			time:   "2031-04-02T06:15:09Z",
			fields: `{"client.address":"text 192.0.2.1","user.name":"text ada","http.request.method":"text GET","url.path":"text /","network.protocol.version":"text 1.1","http.response.status_code":"int 200","http.response.body.size":"int 1"}`},
		"web-common, ISO time": {spec: Spec{Kind: "web-common"},
			line: `192.0.2.1 - - [2031-04-02T06:15:09.5+01:00] "GET / HTTP/1.1" 200 1`, time: "2031-04-02T05:15:09.5Z",
			fields: `{"client.address":"text 192.0.2.1","http.request.method":"text GET","url.path":"text /","network.protocol.version":"text 1.1","http.response.status_code":"int 200","http.response.body.size":"int 1"}`},
		"web-common, no zone, no status": {spec: Spec{Kind: "web-common", Time: Time{Zone: "Europe/Lisbon"}},
			line: `"192.0.2.1" - - [02/Apr/2031:06:15:09.25]  "GET /a" - -`, time: "2031-04-02T05:15:09.25Z",
			fields: `{"client.address":"text 192.0.2.1","http.request.method":"text GET","url.path":"text /a"}`},
		"web-common, comma and nothing": {spec: Spec{Kind: "web-common"}, line: `192.0.2.1, `, none: true},
		"web-common, torn": {spec: Spec{Kind: "web-common"}, line: `192.0.2.1 - - [02/Apr/2031:06:15`,
			none: true},
		"raw": {spec: Spec{Kind: "raw"}, line: "anything {at} all", fields: `{}`},
		"body of a field": {spec: Spec{Kind: "template", Template: "{a:token} {b}", Body: "b"},
			line: "x the body", body: "the body", fields: `{"a":"text x","b":"text the body"}`},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			fields, r, ok, body := read(t, c.spec, c.line)
			require.Equal(t, !c.none, ok)
			if c.none {
				assert.NotZero(t, r.Flags&record.Unparsed)
				assert.Equal(t, c.line, body)
				return
			}
			want := map[string]string{}
			require.NoError(t, json.Unmarshal([]byte(c.fields), &want))
			assert.Equal(t, want, fields)
			assert.Equal(t, c.level, r.Level)
			if c.time != "" {
				assert.Equal(t, c.time, time.Unix(0, r.Time).UTC().Format(time.RFC3339Nano))
			}
			if c.body != "" {
				assert.Equal(t, c.body, body)
			}
		})
	}
}

func TestTimes(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ layout, zone, text, want, note string }{
		{"%d.%m.%Y %H:%M:%S", "Europe/Lisbon", "02.04.2031 06:15:09", "2031-04-02T05:15:09Z", ""},
		{"%Y-%m-%d %H:%M:%S,%f", "UTC", "2031-04-02 06:15:09,120", "2031-04-02T06:15:09.12Z", ""},
		{"%b %e %H:%M:%S", "UTC", "Apr  2 06:15:09", "2031-04-02T06:15:09Z", "guessed-year"},
		{"%b %e %H:%M:%S", "UTC", "Dec 31 23:59:59", "2030-12-31T23:59:59Z", "guessed-year"},
		{"%y%m%d %I:%M %p", "UTC", "310402 12:30 AM", "2031-04-02T00:30:00Z", ""},
		{"%A, %d %B %Y %T %z", "", "Wednesday, 02 April 2031 06:15:09 -0330", "2031-04-02T09:45:09Z", ""},
		{"%Y.%j %H:%M:%S", "UTC", "2031.092 06:15:09", "2031-04-02T06:15:09Z", ""},
		{"%d %b %Y %T %Z", "", "02 Apr 2031 06:15:09 WEST", "2031-04-02T05:15:09Z", ""},
		{"%F %T %Z", "", "2031-04-02 06:15:09 UTC+2", "2031-04-02T04:15:09Z", ""},
		{"%F %T %Z", "", "2031-04-02 06:15:09 XYZ", "2031-04-02T12:00:00Z", "unreadable"},
		{"%d. %B %Y %R", "UTC", "2. März 2031 06:15", "2031-03-02T06:15:00Z", ""},
		{"%a %d %b %Y %r", "UTC", "mié 02 abr 2031 06:15:09 PM", "2031-04-02T18:15:09Z", ""},
		{"%d.%b.%Y %T", "UTC", "02.мая.2031 06:15:09", "2031-05-02T06:15:09Z", ""},
		{"%c", "UTC", "Wed Apr  2 06:15:09 2031", "2031-04-02T06:15:09Z", ""},
		{"%D %k:%M", "UTC", "04/02/31  6:15", "2031-04-02T06:15:00Z", ""},
		{"%h %e %l:%M %p %Y", "UTC", "Apr  2  6:15 AM 2031", "2031-04-02T06:15:00Z", ""},
		{"%a %d%bT%T %Y", "UTC", "Wed 02AprT06:15:09 2031", "2031-04-02T06:15:09Z", ""},
		{"%d %b %Y", "UTC", "02 Juno 2031", "2031-04-02T12:00:00Z", "unreadable"},
		{"%s", "", "1932963309", "2031-04-03T06:15:09Z", ""},
		{"", "", "2031-04-02T06:15:09.123456789Z", "2031-04-02T06:15:09.123456789Z", ""},
		{"", "Europe/Lisbon", "2031/04/02 06:15:09", "2031-04-02T05:15:09Z", ""},
		{"", "", "2031-04-02 06:15:09 +0200", "2031-04-02T04:15:09Z", ""},
		{"", "", "2031-04-02 06:15", "2031-04-02T12:00:00Z", "no-zone"},
		{"%Y-%m-%d %H:%M:%S", "Europe/Lisbon", "2031-10-26 01:30:00", "2031-10-26T00:30:00Z", "repeated-hour"},
		{"%Y-%m-%d %H:%M:%S", "Europe/Lisbon", "2031-03-30 01:30:00", "2031-03-30T01:30:00Z", "skipped-hour"},
		{"%Y-%m-%d %H:%M:%S", "UTC", "2031-02-29 06:15:09", "2031-04-02T12:00:00Z", "unreadable"},
		{"%Y-%m-%d %H:%M:%S", "UTC", "yesterday", "2031-04-02T12:00:00Z", "unreadable"},
	} {
		t.Run(c.layout+" "+c.text, func(t *testing.T) {
			t.Parallel()
			line := fmt.Sprintf(`{"when":%q}`, c.text)
			_, r, ok, _ := read(t, Spec{Kind: "json", Time: Time{Field: "when", Layout: c.layout, Zone: c.zone}}, line)
			require.True(t, ok)
			assert.Equal(t, c.want, time.Unix(0, r.Time).UTC().Format(time.RFC3339Nano))
			assert.Equal(t, c.note, r.TimeNote.String())
		})
	}
}

func TestCacheOfTheClockFollowsTheZone(t *testing.T) {
	t.Parallel()
	p, err := Compile(Spec{Kind: "json", Time: Time{Field: "t", Zone: "Europe/Lisbon"}}, Time{}, nil)
	require.NoError(t, err)
	var got []string
	for _, text := range []string{"2031-03-30 00:59:59", "2031-03-30 02:00:00", "2031-03-30 02:00:00+05:00",
		"2031-03-30 02:00:01"} {
		b := &record.Batch{Schema: p.Schema()}
		r := record.Record{Body: b.Put(fmt.Appendf(nil, `{"t":%q}`, text))}
		require.True(t, p.Read(b, &r))
		got = append(got, time.Unix(0, r.Time).UTC().Format("15:04:05"))
	}
	assert.Equal(t, []string{"00:59:59", "01:00:00", "21:00:00", "01:00:01"}, got)
}

func TestSpecsThatAreWrong(t *testing.T) {
	t.Parallel()
	for template, want := range map[string]string{
		"no field":         "has no field",
		"{a}{b}":           "nothing between",
		"{a:remainder} x":  "after a remainder",
		"{a:number}":       "known are",
		"{a":               "not closed",
		"a} {b}":           "closes nothing",
		"{a} {a}":          "twice",
		"{:int}":           "no name",
		"{a b}":            "may hold",
		"{a:time} {b:int}": "",
	} {
		_, err := Compile(Spec{Kind: "template", Template: template}, Time{}, nil)
		if want == "" {
			require.NoError(t, err)
			continue
		}
		require.ErrorContains(t, err, want, template)
	}
	for _, s := range []struct {
		spec Spec
		want string
	}{
		{Spec{Kind: "template", Template: "{a}", Time: Time{Field: "b"}}, `no field "b"`},
		{Spec{Kind: "json", Time: Time{Layout: "%Q"}}, "%Q is not known"},
		{Spec{Kind: "json", Time: Time{Zone: "+02:00"}}, "not a named time zone"},
		{Spec{Kind: "json", Time: Time{Zone: "Europe/Atlantis"}}, "not a time zone that is known"},
		{Spec{Kind: "future"}, "not known to this version"},
	} {
		_, err := Compile(s.spec, Time{}, nil)
		require.ErrorContains(t, err, s.want)
	}
}

func TestNeedsZone(t *testing.T) {
	t.Parallel()
	assert.True(t, Spec{Kind: "template", Template: "{t:time} {m}"}.NeedsZone(nil))
	assert.True(t, Spec{Kind: "template", Template: "{t:time} {m}", Time: Time{Layout: "%H:%M"}}.NeedsZone(nil))
	assert.False(t, Spec{Kind: "template", Template: "{t:time} {m}", Time: Time{Layout: "%FT%T%z"}}.NeedsZone(nil))
	assert.False(t, Spec{Kind: "template", Template: "{m}"}.NeedsZone(nil))
	assert.False(t, Spec{Kind: "web-combined"}.NeedsZone(nil))
	sampled := func(lines ...string) Spec {
		s := Spec{Kind: "template", Template: "{t:time} {m:remainder}"}
		for _, l := range lines {
			s.Samples = append(s.Samples, Sample{Text: l})
		}
		return s
	}
	assert.False(
		t,
		sampled("2031-04-02T06:15:09+0000 a", "2031-04-02T06:15:09Z b", "2031-04-02 06:15:09 CEST c").NeedsZone(nil),
	)
	assert.True(t, sampled("2031-04-02T06:15:09+0000 a", "2031-04-02T06:15:09 b").NeedsZone(nil))
	assert.True(t, sampled("no time").NeedsZone(nil))
	parts := map[string]Spec{"a": sampled("2031-04-02T06:15:09Z a"), "b": sampled()}
	other := func(name string) (Spec, bool) { s, ok := parts[name]; return s, ok }
	assert.False(t, Spec{Kind: "first-of", FirstOf: []string{"a", "raw"}}.NeedsZone(other))
	assert.True(t, Spec{Kind: "first-of", FirstOf: []string{"a", "b"}}.NeedsZone(other))
	assert.True(t, Spec{Kind: "json", Time: Time{Layout: "%F %T"}}.NeedsZone(nil))
}

func TestSamples(t *testing.T) {
	t.Parallel()
	spec := Spec{Kind: "template", Template: "{n:int} {w:token}", Samples: []Sample{
		{Text: "1 a", Gives: map[string]Want{"n": {record.Int, "1"}}},
		{Text: "1 a", Gives: map[string]Want{"n": {record.Text, "1"}}},
		{Text: "1 a", Gives: map[string]Want{"n": {record.Int, "1"}}, Exactly: true},
		{Text: "x", None: true},
		{Text: "1 a", None: true},
		{Text: "x", Gives: map[string]Want{}},
		{Text: "1 a", Level: "WARN"},
	}}
	failures, err := CheckSamples(spec, Time{}, nil)
	require.NoError(t, err)
	var why []string
	for _, f := range failures {
		why = append(why, f.Why)
	}
	assert.Equal(t, []string{
		"field n is 1 (int), expected 1 (text)",
		"field w is not in gives-exactly",
		"the format reads this line, though the sample says it gives none",
		"the format does not read this line",
		"level is not set, expected WARN",
	}, why)
}

func TestReadDoesNotAllocate(t *testing.T) {
	for _, c := range []struct{ kind, line string }{
		{"web-combined", `198.51.100.7 - - [02/Apr/2031:06:15:09 +0100] "GET /a/b?x=1 HTTP/1.1" 200 512 "-" "Explorer/126.0.0.0"`},
		{"json", `{"time":"2031-04-02T06:15:09.5+02:00","level":"warn","msg":"hi","a":{"b":1},"d":true}`},
		{"keyvalue", `ts=2031-04-02T06:15:09Z lvl=error msg="it broke" n=7`},
	} {
		p, err := Compile(Spec{Kind: Kind(c.kind)}, Time{}, nil)
		require.NoError(t, err)
		b := &record.Batch{Schema: p.Schema()}
		once := func() {
			b.Reset()
			r := record.Record{Body: b.Put([]byte(c.line))}
			if !p.Read(b, &r) {
				t.Fatal("not read: " + c.line)
			}
		}
		once()
		assert.Zero(t, testing.AllocsPerRun(100, once), c.kind)
	}
}

// FuzzJSON holds the reader of JSON against the standard library's: what the one takes as an object the other takes
// too.
func FuzzJSON(f *testing.F) {
	f.Add(`{"a":{"b":[1,{"c":null}]},"d":"\ud83d\ude00","e":-1.5e3}`)
	f.Add(`{"a": tru}`)
	f.Fuzz(func(t *testing.T, line string) {
		if strings.ToValidUTF8(line, "") != line || strings.Contains(line, "\n") {
			return
		}
		_, _, ok, _ := read(t, Spec{Kind: "json"}, line)
		var v map[string]any
		d := json.NewDecoder(strings.NewReader(line))
		d.UseNumber()
		err := d.Decode(&v)
		std := err == nil && v != nil && !d.More() && json.Valid([]byte(line))
		if ok {
			require.True(t, std, "taken here only: %q (%v)", line, err)
		} else if std && strings.Count(line, "{")+strings.Count(line, "[") < maxJSONDepth && !strings.ContainsAny(line,
			"eE") && len(line) < 200 {
			require.Fail(t, "refused here only", "%q", line)
		}
	})
}

func FuzzLines(f *testing.F) {
	f.Add(
		`198.51.100.7 - - [02/Apr/2031:06:15:09 +0100] "GET /a HTTP/1.1" 200 5 "-" "x\"y"`,
		"{a:time} {b:quoted} {c:ip} {d}",
	)
	f.Add(`a=b c="d" e`, "{a:int}{b:float}{c:token} {d:remainder}")
	f.Fuzz(func(t *testing.T, line, template string) {
		line = strings.ToValidUTF8(line, "?")
		specs := []Spec{{Kind: "keyvalue"}, {Kind: "web-common"}, {Kind: "web-combined"}}
		if _, err := parseTemplate(template); err == nil {
			specs = append(specs, Spec{Kind: "template", Template: template})
		}
		for _, s := range specs {
			fields, r, _, _ := read(t, s, line)
			require.LessOrEqual(t, len(fields), int(r.N))
		}
	})
}

func FuzzTime(f *testing.F) {
	f.Add("2031-04-02T06:15:09.5+02:00", "%d/%b/%Y:%H:%M:%S %z")
	f.Add("1932963309250", "%s")
	f.Fuzz(func(t *testing.T, text, layoutText string) {
		c, n, ok := recognise([]byte(text))
		if ok {
			require.LessOrEqual(t, n, len(text))
			if !c.isEpoch {
				require.True(t, c.valid())
			}
		}
		if l, err := compileLayout(layoutText); err == nil {
			if _, n, ok := l.parse([]byte(text)); ok {
				require.LessOrEqual(t, n, len(text))
			}
		}
	})
}

func BenchmarkWebCombined(b *testing.B) {
	p, err := Compile(Spec{Kind: "web-combined"}, Time{}, nil)
	require.NoError(b, err)
	line := []byte(
		`198.51.100.7 - - [02/Apr/2031:06:15:09 +0100] "GET /a/b?x=1 HTTP/1.1" 200 512 "-" "Explorer/126.0.0.0 (tide)"`,
	)
	batch := &record.Batch{Schema: p.Schema()}
	b.SetBytes(int64(len(line)))
	for b.Loop() {
		batch.Reset()
		r := record.Record{Body: batch.Put(line)}
		p.Read(batch, &r)
	}
}
