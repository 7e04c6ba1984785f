package yamldoc

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const page = `# what we collect   <- this stays
source: gates      # and this
about:   Gates  
labels: {team: boarding, data: 'pass,enger'}   # beside
hosts:
  role: gate
  site: [northpier,   saltmarsh]  # two
read:
  files:
    - "${setting.root}/*.log"   # the lanes
    # a remark between
    - /b/x.log
  except: ["*.tmp"]

records: {begin: '^\d{4}'}
steps:
- drop: fields.a == "x"
- parse: {from: note, format: json}
text: |
  several
    lines

# the end
send: [{to: archive}, desk]
`

// TestSplice: an edit changes the bytes of its place, and not one other.
func TestSplice(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		path     string
		value    any
		old, new string
	}{
		"scalar":               {"about", "All gates", "about:   Gates  \n", "about:   All gates  \n"},
		"scalar with a remark": {"source", "kiosks", "gates      #", "kiosks      #"},
		"in brackets":          {"labels/team", "desk", "team: boarding,", "team: desk,"},
		"keeps its quotes":     {"labels/data", "x's", "'pass,enger'", "'x''s'"},
		"needs quotes":         {"labels/team", "a, b", "team: boarding,", `team: "a, b",`},
		"would be a number":    {"labels/team", "12", "team: boarding,", `team: "12",`},
		"a number":             {"labels/team", int64(12), "team: boarding,", `team: 12,`},
		"new key in brackets":  {"labels/new", "v", "'pass,enger'}", "'pass,enger', new: v}"},
		"key away":             {"labels/team", nil, "{team: boarding, data", "{data"},
		"last key away":        {"labels/data", nil, ", data: 'pass,enger'}", "}"},
		"item of a list":       {"hosts/site/#1", "gull", "saltmarsh]", "gull]"},
		"new item":             {"hosts/site/#+", "gull", "saltmarsh]", "saltmarsh, gull]"},
		"item away":            {"hosts/site/#0", nil, "[northpier,   saltmarsh]", "[saltmarsh]"},
		"new key of a block":   {"hosts/lane", "4", "# two\n", "# two\n  lane: \"4\"\n"},
		"block key away":       {"hosts/role", nil, "  role: gate\n", ""},
		"block item":           {"read/files/#0", "/new/*", `"${setting.root}/*.log"`, `"/new/*"`},
		"new block item":       {"read/files/#+", "/c", "- /b/x.log\n", "- /b/x.log\n    - /c\n"},
		"block item away":      {"read/files/#1", nil, "    - /b/x.log\n", ""},
		"block becomes a flow": {"read/files", []any{"/only"}, "  files:\n    - \"${setting.root}/*.log\"   # the " +
			"lanes\n    # a remark between\n    - /b/x.log\n", "  files: [/only]\n"},
		"whole block": {"hosts", "all", "hosts:\n  role: gate\n  site: [northpier,   saltmarsh]  # two\n",
			"hosts: all\n"},
		"dashes without indent": {"steps/#0/drop", "fields.b", `drop: fields.a == "x"`, "drop: fields.b"},
		"step away":             {"steps/#1", nil, "- parse: {from: note, format: json}\n", ""},
		"new step": {"steps/#+", []Pair{{"remove", []any{"a"}}}, "format: json}\n",
			"format: json}\n- {remove: [a]}\n"},
		"text of lines": {"text", "one", "|\n  several\n    lines\n", "one\n"},
		"new top key":   {"keep-original", true, "desk]\n", "desk]\nkeep-original: true\n"},
		"new nested":    {"time/zone", "Europe/Lisbon", "desk]\n", "desk]\ntime: {zone: Europe/Lisbon}\n"},
		"expression":    {"records/begin", `^\w`, `'^\d{4}'`, `'^\w'`},
		"pairs": {"send/#1", []Pair{{"to", "desk"}, {"when", `level >= WARN`}}, ", desk]",
			`, {to: desk, when: "level >= WARN"}]`},
		"nothing to take away": {"buffer", nil, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			require.Contains(t, page, c.old)
			got, err := Splice(page, Edit{strings.Split(c.path, "/"), c.value})
			require.NoError(t, err)
			assert.Equal(t, strings.Replace(page, c.old, c.new, 1), got)
		})
	}
}

func TestSpliceRefuses(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		text, path string
		value      any
	}{
		"no such item":          {page, "hosts/site/#9", "x"},
		"below a scalar":        {page, "about/x", "x"},
		"not a document":        {"a: [", "a", "x"},
		"a list":                {"- a\n", "a", "x"},
		"the last of a block":   {"a:\n  b: 1\n", "a/b", nil},
		"a text over two lines": {"a: one\n  two\nb: 3\n", "a", "x"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, err := Splice(c.text, Edit{strings.Split(c.path, "/"), c.value})
			require.Error(t, err)
		})
	}
}

// FuzzSplice: whatever the text, an edit gives an error or a text that means what was asked; lines before the place
// stay.
func FuzzSplice(f *testing.F) {
	f.Add(page, "labels/team", "x: y")
	f.Add("a: {b: [1, {c: d}]}\n", "a/b/#1/c", "'")
	f.Add("a:\n- b\n- c: 1\n  d: 2\n", "a/#1/d", "#")
	f.Add("a: \"x\\\"y\" # z\n", "a", "\\")
	f.Fuzz(func(t *testing.T, text, path, value string) {
		if len(text) > 2000 {
			return
		}
		for _, v := range []any{value, nil, []any{value, int64(3)}, []Pair{{"k", value}}} {
			e := Edit{strings.Split(path, "/"), v}
			out, err := Splice(text, e)
			if err != nil {
				continue
			}
			before, p1 := read(text, 0)
			after, p2 := read(out, 0)
			require.Nil(t, p1)
			require.Nil(t, p2)
			require.True(t, apply(before, e.Path, v))
			require.True(t, equal(before, after), "%q -> %q", text, out)
		}
	})
}
