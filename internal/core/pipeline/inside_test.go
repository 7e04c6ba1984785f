package pipeline

import (
	"encoding/json"
	"fmt"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
	"synaxis/internal/core/yamldoc"
)

// TestAnyFormatInsideAnyOther: what one format finds is read by any other one.
func TestAnyFormatInsideAnyOther(t *testing.T) {
	t.Parallel()
	custom := map[string]string{
		"tpl":   "template: '{a:token} has {b:int} crates'",
		"rx":    `regex: '^(?P<a>\w+) has (?P<b>\d+) crates$'`,
		"table": "csv: {}\ncolumns: [a, b]\nfields: {b: int}",
		"one":   "first-of: [tpl, table]",
	}
	formats := map[string]format.Spec{}
	for name, text := range custom {
		docs, problems := yamldoc.Parse("f", []byte(text))
		require.Empty(t, problems)
		r := &yamldoc.Reader{File: "f"}
		formats[name] = format.Decode(r, docs[0].Root, name)
		require.Empty(t, r.Problems)
	}
	find := func(name string) (format.Spec, bool) {
		if f, ok := formats[name]; ok {
			return f, true
		}
		return format.BuiltIn(name)
	}
	inner := map[string]struct{ text, field, want string }{
		"tpl":        {"pier has 7 crates", "in.b", "7"},
		"rx":         {"pier has 7 crates", "in.b", `"7"`},
		"table":      {"pier,7", "in.b", "7"},
		"one":        {"pier,7", "in.b", "7"},
		"json":       {`{"a":"pier","b":7}`, "in.b", "7"},
		"keyvalue":   {"a=pier b=7", "in.b", "7"},
		"syslog":     {"<13>1 2031-04-02T06:15:09Z pier app 7 - - hello", "in.syslog.hostname", `"pier"`},
		"web-common": {`198.51.100.7 - ada [02/Apr/2031:06:15:09 +0000] "GET /fares HTTP/1.1" 200 7`, "in.url.path", `"/fares"`},
	}
	outer := map[string]func(text string) string{
		"json":     func(text string) string { return fmt.Sprintf(`{"note":%s}`, strconv.Quote(text)) },
		"keyvalue": func(text string) string { return "note=" + strconv.Quote(text) },
	}
	for out, line := range outer {
		for in, c := range inner {
			src := source(t, fmt.Sprintf("read: {files: [/a]}\nformat: %s\nsteps: [{parse: {from: note, format: %s, prefix: in}}]\n"+
				"send: [d]", out, in))
			f, ok := find(out)
			require.True(t, ok)
			tr, err := Compile(src, f, Parts{Formats: find})
			require.NoError(t, err, "%s in %s", in, out)
			got := treated(t, tr, line(c.text)+"\n")
			v, ok := got[c.field]
			require.True(t, ok, "%s in %s: %v", in, out, got)
			text, err := json.Marshal(v)
			require.NoError(t, err)
			assert.Equal(t, c.want, string(text), "%s in %s", in, out)
		}
	}
}

// treated are the fields of the one record of a line.
func treated(t *testing.T, tr *Treatment, line string) map[string]any {
	t.Helper()
	b := &record.Batch{Arena: []byte(line), Origin: record.NewOrigin("h", "", "s", "", nil)}
	_, _ = tr.Run(b, 0, 1e18, 1e6, true)
	require.Len(t, b.Records, 1)
	var e record.Encoder
	var out struct{ Fields map[string]any }
	require.NoError(t, json.Unmarshal(e.AppendNDJSON(nil, b, &b.Records[0]), &out))
	return out.Fields
}
