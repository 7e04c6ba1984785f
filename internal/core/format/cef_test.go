package format

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/record"
)

// read reads one line by a spec, and answers its fields as Go values.
func readLine(t testing.TB, spec Spec, line string) (fields map[string]any, r record.Record, b *record.Batch,
	ok bool) {
	p, err := Compile(spec, Time{Zone: "UTC"}, nil)
	require.NoError(t, err)
	b = &record.Batch{Arena: []byte(line), Schema: p.Schema()}
	r = record.Record{Observed: time.Date(2031, 4, 2, 7, 0, 0, 0, time.UTC).UnixNano(),
		Body: record.Span{Len: uint32(len(line))}}
	ok = p.Read(b, &r)
	fields = map[string]any{}
	for _, v := range b.Fields(&r) {
		name := b.Schema.Name(v.Slot)
		if v.Kind == record.Int {
			fields[name] = int(int64(v.Num))
		} else {
			fields[name] = string(b.Bytes(v.Span))
		}
	}
	return fields, r, b, ok
}

func TestCEF(t *testing.T) {
	t.Parallel()
	cef, ok := BuiltIn("cef")
	require.True(t, ok)
	head := func(more map[string]any) map[string]any {
		out := map[string]any{"cef.version": 0, "cef.device.vendor": "Quay", "cef.device.product": "Gate", "cef.device.version": "1.0",
			"cef.class": "100", "cef.name": "door forced", "cef.severity": "7"}
		for k, v := range more {
			out[k] = v
		}
		return out
	}
	const plain = "CEF:0|Quay|Gate|1.0|100|door forced|7|"
	for name, c := range map[string]struct {
		line, body, when string
		level            uint8
		fields           map[string]any
	}{
		"header alone": {plain, "door forced", "", record.Error, head(nil)},
		"no last bar":  {plain[:len(plain)-1], "door forced", "", record.Error, head(nil)},
		"pairs with spaces": {plain + "src=198.51.100.7 act=let in by hand cnt=12 code=007 neg=-3", "door forced", "", record.Error,
			head(map[string]any{"src": "198.51.100.7", "act": "let in by hand", "cnt": 12, "code": "007", "neg": -3})},
		"a message is the body": {plain + "msg=forced at lane 4 ", "forced at lane 4", "", record.Error,
			head(map[string]any{"msg": "forced at lane 4"})},
		"escapes": {`CEF:0|Qu\|ay|Gate|1.0|100|door \\ forced|Low|path=C:\\a b\=c msg=one\ntwo empty= last=x`, "one\ntwo", "",
			record.Info, head(map[string]any{"cef.device.vendor": "Qu|ay", "cef.name": `door \ forced`, "cef.severity": "Low",
				"path": `C:\a b=c`, "msg": "one\ntwo", "empty": "", "last": "x"})},
		"time in milliseconds": {plain + "rt=1932883509123", "door forced", "2031-04-02T08:05:09.123Z", record.Error,
			head(map[string]any{"rt": 1932883509123})},
		"time in words": {plain + "end=Apr 02 2031 06:15:09 src=a", "door forced", "2031-04-02T06:15:09Z",
			record.Error,
			head(map[string]any{"end": "Apr 02 2031 06:15:09", "src": "a"})},
		"behind syslog": {"<134>Apr  2 06:15:09 gate-4 " + plain + "src=a", "door forced", "2031-04-02T06:15:09Z",
			record.Error,
			head(map[string]any{"syslog.facility": 16, "syslog.severity": 6, "syslog.hostname": "gate-4",
				"src": "a"})},
		"behind new syslog": {"<134>1 2031-04-02T06:15:09Z gate-4 - - - - " + plain, "door forced", "2031-04-02T06:15:09Z", record.Error,
			head(map[string]any{"syslog.facility": 16, "syslog.severity": 6, "syslog.hostname": "gate-4"})},
		"its own time wins": {"Apr  2 06:15:09 gate-4 " + plain + "rt=1932883509123", "door forced", "2031-04-02T08:05:09.123Z",
			record.Error, head(map[string]any{"syslog.hostname": "gate-4", "rt": 1932883509123})},
	} {
		fields, r, b, ok := readLine(t, cef, c.line)
		require.True(t, ok, name)
		assert.Equal(t, c.fields, fields, name)
		assert.Equal(t, c.body, string(b.Bytes(r.Body)), name)
		assert.Equal(t, c.level, r.Level, name)
		if c.when != "" {
			assert.Equal(t, c.when, time.Unix(0, r.Time).UTC().Format(time.RFC3339Nano), name)
		}
	}
	for _, bad := range []string{"", "no event", "CEF:", "CEF:0|a|b|c|d", "CEF:x|a|b|c|d|e|f|", `CEF:0|a|b|c|d\|e|f`} {
		_, _, _, ok := readLine(t, cef, bad)
		assert.False(t, ok, bad)
	}
	for word, level := range map[string]uint8{"0": record.Info, "3": record.Info, "4": record.Warn, "6": record.Warn, "8": record.Error,
		"10": record.Fatal, "Very-High": record.Fatal, "Unknown": 0, "": 0} {
		assert.Equal(t, level, cefLevel([]byte(word)), word)
	}
}

func FuzzCEF(f *testing.F) {
	f.Add("CEF:0|Quay|Gate|1.0|100|door forced|7|src=a msg=x\\=y")
	f.Add("<13>Apr  2 06:15:09 h CEF:0|\\||\\\\|||a|b|k=\\")
	cef, _ := BuiltIn("cef")
	f.Fuzz(func(t *testing.T, line string) {
		fields, r, b, ok := readLine(t, cef, line)
		if ok {
			assert.NotEmpty(t, fields)
			assert.LessOrEqual(t, int(r.Body.Off+r.Body.Len), len(b.Arena))
		}
	})
}

// TestRelayed: a header inside a relay's header is kept as fields, with its own time, level and text.
func TestRelayed(t *testing.T) {
	t.Parallel()
	syslog, _ := BuiltIn("syslog")
	for name, c := range map[string]struct {
		line, body, inner, program, when string
		level                            uint8
	}{
		"old in old": {"<13>Apr  2 06:15:09 relay <11>Apr  2 06:15:01 gate prog[7]: here lane=4", "here lane=4", "gate", "prog",
			"2031-04-02T06:15:01Z", record.Error},
		"old in new": {"<13>1 2031-04-02T06:15:09Z relay fwd - - - <11>Apr  2 06:15:01 gate prog[7]: here", "here", "gate", "prog",
			"2031-04-02T06:15:01Z", record.Error},
		"new in new": {"<13>1 2031-04-02T06:15:09Z relay fwd - - - <11>1 2031-04-02T06:15:01Z gate prog 7 ID - here", "here", "gate",
			"prog", "2031-04-02T06:15:01Z", record.Error},
		"new in old": {"<13>Apr  2 06:15:09 relay fwd: <11>1 2031-04-02T06:15:01Z gate prog 7 ID [a@1 b=\"c\"] here", "here", "gate",
			"prog", "2031-04-02T06:15:01Z", record.Error},
		"no priority": {"<13>Apr  2 06:15:09 relay Apr  2 06:15:01 gate prog: here", "here", "gate", "prog", "2031-04-02T06:15:01Z",
			record.Info + 1},
		"no header: a time of the program's own": {"<13>Apr  2 06:15:09 gate prog: Apr  2 06:15:01 gate prog: here",
			"Apr  2 06:15:01 gate prog: here", "", "", "2031-04-02T06:15:09Z", record.Info + 1},
		"no header: a number in marks": {"<13>Apr  2 06:15:09 gate prog: <b>bold</b>", "<b>bold</b>", "", "", "2031-04-02T06:15:09Z",
			record.Info + 1},
		"a header that is torn": {"<13>Apr  2 06:15:09 gate prog: <11>", "<11>", "", "", "2031-04-02T06:15:09Z",
			record.Info + 1},
	} {
		fields, r, b, ok := readLine(t, syslog, c.line)
		require.True(t, ok, name)
		assert.Equal(t, c.body, string(b.Bytes(r.Body)), name)
		assert.Equal(t, c.level, r.Level, name)
		assert.Equal(t, c.when, time.Unix(0, r.Time).UTC().Format(time.RFC3339Nano), name)
		if c.inner == "" {
			assert.Nil(t, fields["syslog.inner.hostname"], name)
			continue
		}
		assert.Equal(t, c.inner, fields["syslog.inner.hostname"], name)
		assert.Equal(t, c.program, fields["syslog.inner.appname"], name)
		assert.Equal(t, "relay", fields["syslog.hostname"], name)
	}
}
