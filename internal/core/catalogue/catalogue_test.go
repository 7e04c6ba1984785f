package catalogue

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/inventory"
)

const whole = `# everything that this version runs
source: gate-scans
about: Gates
labels: {team: boarding}
hosts: {role: gate, site: [northpier, saltmarsh]}
read: {files: ["${setting.root}/*.log"], except: ["*.tmp"], first-read: start}
records: {begin: '^\d'}
format: gate
time: {zone: "${setting.zone}"}
keep-original: true
unparsed: drop
send: [{to: archive}, desk]
---
format: gate
template: '{ts:time} {m}'
time: {field: ts, layout: '%Y-%m-%d %H:%M:%S'}
level: {field: m, map: {bad: ERROR, '*': INFO}}
body: m
samples: [{line: '2031-04-02 06:15:09 x', gives: {m: x}, level: INFO}]
---
kind: destination
name: archive
deliver: {http: {url: "http://127.0.0.1:1/in"}}
---
{"destination": "desk", "deliver": {"discard": {}}}
---
settings: all-of-them
hosts: all
values: {root: /var/log, zone: UTC}
`

func TestParseWhole(t *testing.T) {
	t.Parallel()
	defs, problems := Parse("all.yaml", []byte(whole))
	require.Empty(t, problems)
	require.Len(t, defs, 5)
	s := defs[0].Source
	assert.Equal(t, "role=gate site=northpier|saltmarsh", s.Hosts.String())
	assert.Equal(t, []string{"archive", "desk"}, s.Send)
	assert.True(t, s.KeepOriginal)
	assert.Equal(t, ID{"destination", "archive"}, defs[2].ID)
	assert.Equal(t, "discard", defs[3].Destination.Kind)
	line, column := defs[0].At("send", "#1")
	assert.Equal(t, 12, line)
	assert.Equal(t, 23, column)
	cat, problems := New(defs)
	require.Empty(t, problems)
	assert.Equal(t, []string{"archive", "desk"}, cat.Names("destination"))
}

// TestNothingIsIgnored loads every key and kind of the language that is for later, and each must be refused in words.
func TestNothingIsIgnored(t *testing.T) {
	t.Parallel()
	source := "source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: bb}]\n"
	for _, text := range []string{
		"mask: aa\nfind: x\n", "guard: aa\n", "agents: aa\n", "plan: aa\n", "label-key: aa\n", "notice: aa\n", "kit: aa\n",
		source + "was: bb\n", source + "expect: {every: 10m}\n", source + "steps: [{drop: 'true'}]\n", source + "senders: []\n",
		"source: aa\nhosts: all\nread: {syslog: {listen: {port: 5514}}}\nformat: raw\nsend: [{to: bb}]\n",
		"source: aa\nhosts: all\nread: {command: {run: [a]}}\nformat: raw\nsend: [{to: bb}]\n",
		"source: aa\nhosts: all\nread: {files: [/a], encoding: utf-16}\nformat: raw\nsend: [{to: bb}]\n",
		"source: aa\nhosts: 'labels.role == \"gate\"'\nread: {files: [/a]}\nformat: raw\nsend: [{to: bb}]\n",
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nunparsed: bb\nsend: [{to: bb}]\n",
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: bb, when: level >= WARN}]\n",
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{otherwise: bb}]\n",
		"format: aa\nregex: '(?P<a>.)'\n", "format: aa\njson: {}\n", "format: aa\ncsv: {}\n", "format: aa\nfirst-of: [a, b]\n",
		"destination: aa\ndeliver: {discard: {}}\nauth: {bearer: x}\n", "destination: aa\ndeliver: {discard: {}}\ntls: {}\n",
		"destination: aa\ndeliver: {discard: {}}\nbuffer: {disk: 1GiB}\n", "destination: aa\ndeliver: {discard: {}}\nlimit: 5MiB/s\n",
		"destination: aa\ndeliver: {discard: {}}\nrejects: {keep: 1MiB}\n", "destination: aa\ndeliver: {discard: {}}\nexpects: {a: int}\n",
		"destination: aa\ndeliver: {discard: {}}\nbudget: 1GiB/day\n", "destination: aa\ndeliver: {discard: {}}\nisolate: true\n",
		"destination: aa\ndeliver: {syslog: {}}\n", "destination: aa\ndeliver: {relay: bb}\n",
	} {
		_, problems := Parse("f.yaml", []byte(text))
		require.NotEmpty(t, problems, text)
		found := false
		for _, p := range problems {
			found = found || p.Code == "not-yet" && strings.Contains(p.Reason, "not available yet") && p.Line > 0 && p.Column > 0
		}
		assert.True(t, found, "%s\n%v", text, problems)
	}
}

func TestParseRefuses(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"sorce: aa\n":                          `f.yaml:1:1: a document begins with its kind; "sorce" is none (did you mean "source"?)`,
		"about: x\nsource: aa\n":               `f.yaml:1:1: a document begins with its kind; "about" is none`,
		"source: A b\nhosts: all\n":            "the name \"A b\" holds",
		"source: a\nhosts: all\n":              "2 to 63",
		"format: raw\ntemplate: '{a}'\n":       "built-in format",
		"format: aa\ntemplate: '{a}{b}'\n":     "nothing between",
		"format: aa\n":                         `needs "template"`,
		"source: aa\nhosts: {}\nformat: raw\n": "hosts is empty",
		"source: aa\nread: {files: [/a]}\n":    `needs "hosts"`,
		"settings: aa\nhosts: all\n":           `need "values"`,
		"- a\n- b\n":                           "a definition: expected a map, found a list",
		"format: aa\ntemplate: '{t:time} {m}'\nlevel: {field: m, map: {a: LOUD}}\n":                               `"LOUD" is not a level`,
		"source: aa\nhosts: all\nread: {file: [/a]}\nformat: raw\nsend: [{to: bb}]\n":                             `read has no key "file" (did you mean "files"?)`,
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\ntime: {zone: EST}\nsend: [{to: bb}]\n":         "not a named time zone",
		"source: aa\nhosts: all\nread: {files: [/a]}\nrecords: {begin: '('}\nformat: raw\nsend: [{to: bb}]\n":     "records.begin",
		"source: aa\nhosts: all\nread: {files: [/a], first-read: soon}\nformat: raw\nsend: [{to: bb}]\n":          "one of: now, start",
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\n":                                              `needs "send"`,
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nkeep-original: yes please\nsend: [{to: bb}]\n": "true or false",
	} {
		_, problems := Parse("f.yaml", []byte(text))
		var all []string
		for _, p := range problems {
			all = append(all, p.Error())
		}
		assert.Contains(t, strings.Join(all, "\n"), want, text)
	}
	defs, _ := Parse("f.yaml", []byte("settings: aa\nhosts: all\nvalues: {a: b}\n---\nsettings: aa\nhosts: all\nvalues: {a: c}\n"))
	_, problems := New(defs)
	require.Len(t, problems, 1)
	assert.Equal(t, "f.yaml:5:1: settings aa is defined already in f.yaml, line 1 (rename or remove one)", problems[0].Error())
}

func TestExpand(t *testing.T) {
	t.Parallel()
	get := func(r Ref) (string, bool) {
		v, ok := map[Ref]string{{"setting", "a"}: "1", {"host", "name"}: "h", {"label", "site"}: "np"}[r]
		return v, ok
	}
	for text, want := range map[string]string{"x": "x", "${setting.a}/${host.name}-${label.site}": "1/h-np", "$${setting.a}": "${setting.a}", "a$b": "a$b"} {
		got, missing, err := Expand(text, get)
		require.NoError(t, err)
		assert.Empty(t, missing)
		assert.Equal(t, want, got)
	}
	_, missing, err := Expand("${setting.b}${label.c}", get)
	require.NoError(t, err)
	assert.Equal(t, []Ref{{"setting", "b"}, {"label", "c"}}, missing)
	for text, want := range map[string]string{"${setting.a": "not closed", "${a}": "not a reference", "${secret.a}": "not available yet", "${observed.os}": "not available yet", "${host.id}": "not known", "${x.y}": "not known"} {
		_, _, err := Expand(text, get)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestDigestIsOverMeaning(t *testing.T) {
	t.Parallel()
	digest := func(text string) string {
		defs, problems := Parse("f", []byte(text))
		require.Empty(t, problems)
		return defs[0].Digest()
	}
	a := digest("settings: aa\nhosts: all\nvalues: {a: b, c: d}\n")
	assert.Equal(t, a, digest("# why\nsettings: aa\nvalues:\n  c: d\n  a: b\nhosts: all\n"))
	assert.NotEqual(t, a, digest("settings: aa\nhosts: all\nvalues: {a: b, c: e}\n"))
	assert.NotEqual(t, a, digest("settings: aa\nhosts: {x: y}\nvalues: {a: b, c: d}\n"))
}

func TestLayers(t *testing.T) {
	t.Parallel()
	defs, problems := Parse("f", []byte("settings: aa\nhosts: all\nvalues: {a: 1, b: 1}\n---\nsettings: bb\nhosts: {x: y}\nvalues: {a: 2, b: 1, c: 3}\n"))
	require.Empty(t, problems)
	cat, _ := New(defs)
	values, conflicts := cat.Layers(inventory.Host{Labels: map[string]string{"x": "y"}})
	assert.Equal(t, map[string]string{"b": "1", "c": "3"}, values)
	assert.Equal(t, []Conflict{{"a", "aa", "bb"}}, conflicts)
	values, conflicts = cat.Layers(inventory.Host{Labels: map[string]string{"x": "y"}, Settings: map[string]string{"a": "own"}})
	assert.Equal(t, map[string]string{"a": "own", "b": "1", "c": "3"}, values)
	assert.Empty(t, conflicts)
}

// TestRank: the higher rank wins whatever the order of the names, and settles a quarrel of lower ranks.
func TestRank(t *testing.T) {
	t.Parallel()
	layers := func(ranks string) (string, []Conflict) {
		text := ""
		for i, rank := range strings.Fields(ranks) {
			text += "---\nsettings: s" + string(rune('0'+i)) + "\nhosts: all\nrank: " + rank + "\nvalues: {a: v" + string(rune('0'+i)) + "}\n"
		}
		defs, problems := Parse("f", []byte(text))
		require.Empty(t, problems)
		cat, _ := New(defs)
		values, conflicts := cat.Layers(inventory.Host{})
		return values["a"], conflicts
	}
	for ranks, want := range map[string]string{"1 2": "v1", "2 1": "v0", "0 0 5": "v2", "5 0 0": "v0", "1 3 2": "v1"} {
		got, conflicts := layers(ranks)
		assert.Equal(t, want, got, ranks)
		assert.Empty(t, conflicts, ranks)
	}
	got, conflicts := layers("1 7 7")
	assert.Empty(t, got)
	assert.Equal(t, []Conflict{{"a", "s1", "s2"}}, conflicts)
	_, problems := Parse("f", []byte("settings: aa\nhosts: all\nrank: high\nvalues: {a: b}\n"))
	require.Len(t, problems, 1)
	assert.Contains(t, problems[0].Reason, "rank: expected a whole number, 0 or more")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(whole))
	f.Add([]byte("source: aa\nhosts: {a: [b]}\nread: {files: [x]}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		defs, problems := Parse("f", text)
		for _, p := range problems {
			require.NotEmpty(t, p.Reason)
			require.Positive(t, p.Line)
			require.Positive(t, p.Column)
		}
		if len(problems) == 0 {
			for _, d := range defs {
				require.NotEmpty(t, d.Digest())
				again, p := Parse("f", []byte(d.Text))
				require.Empty(t, p)
				require.Equal(t, d.Digest(), again[0].Digest(), "a definition means the same alone")
			}
		}
	})
}
