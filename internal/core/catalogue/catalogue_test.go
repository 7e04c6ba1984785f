package catalogue

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/schema"
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
	assert.Equal(t, []string{"archive", "desk"}, s.Destinations())
	assert.True(t, s.KeepOriginal)
	assert.Equal(t, ID{"destination", "archive"}, defs[2].ID)
	assert.Equal(t, delivery.Discard, defs[3].Destination.Kind)
	line, column := defs[0].At("send", "#1")
	assert.Equal(t, 12, line)
	assert.Equal(t, 23, column)
	cat, problems := New(defs)
	require.Empty(t, problems)
	assert.Equal(t, []string{"archive", "desk"}, cat.Names("destination"))
}

// TestNothingIsIgnored: what the language has for later is refused in words, never passed over.
func TestNothingIsIgnored(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		"kit: aa\n", "destination: aa\ndeliver: {relay: bb}\n", "destination: aa\ndeliver: {kafka: " +
			"bb}\n",
		"destination: aa\ndeliver: {s3: bb}\n", "destination: aa\ndeliver: {postgresql: bb}\n",
	} {
		_, problems := Parse("f.yaml", []byte(text))
		require.NotEmpty(t, problems, text)
		assert.Equal(t, "not-yet", problems[0].Code, text)
		assert.Contains(t, problems[0].Reason, "not available yet")
		assert.Positive(t, problems[0].Line)
	}
}

// language is a document of every kind with every key.
const language = `source: gate-scans
was: lane-scans
about: Boarding gate scanners, one file a lane
labels: {team: boarding, data: passenger}
hosts: labels.role == "gate" && observed.os == "linux"
read:
  files: ["${setting.log_root}/gate/lane-*.log"]
  except: ["*.tmp"]
  first-read: now
  encoding: utf-8
records: {begin: '^\d{4}-\d{2}-\d{2}', idle: 5s, largest: 1MiB}
format: gate-scan
time: {zone: Europe/Lisbon}
keep-original: true
record-ids: true
unparsed: held-back
expect: {at-least: 1000/h, every: 10m, during: "05:00-23:00", per: host, filled: {lane: 95%}}
steps:
  - drop: fields.result == "OK" && fields.lane == 0
  - keep: has(fields.lane)
  - parse: {from: note, format: json, prefix: note}
  - set: {dock: '"pier-" + string(fields.lane)'}
  - mask: [passport, phone]
  - rename: {doc: document}
  - remove: [note]
  - sample: {keep: 1 in 10, when: level < WARN}
  - limit: {records: 500/s, when: level < WARN}
send:
  - {to: watch-desk, when: level >= WARN}
  - {to: harbour-archive, when: 'fields.lane != 0'}
  - otherwise: held-back
---
source: bridges
hosts: {role: weighbridge}
read:
  syslog:
    listen: {address: 0.0.0.0, port: 5514, reached-at: 514, transport: udp}
    allow: [198.51.100.0/24]
    connections: 200
  senders:
    - {name: bridge-a, from: 198.51.100.20, labels: {lane: a}, format: gate-scan, time: {zone: UTC}, expect: {every: 10m}}
  unknown-senders: refuse
format: syslog
send: [watch-desk]
---
source: pushed
hosts: all
read: {http: {listen: {address: 127.0.0.1, port: "${setting.port}"}, path: /in, token: "${secret.push_token}"}}
format: json
send: [watch-desk]
---
source: raw-bytes
hosts: all
read: {socket: {listen: {port: 7001, transport: tls, certificate: "${secret.c}", key: "${secret.k}"}, framing: octet-count}}
format: raw
send: [watch-desk]
---
source: tide-command
hosts: all
read: {command: {run: [/usr/bin/tide, --now], every: 1m}}
format: raw
send: [watch-desk]
---
source: trial
hosts: all
read: {generate: {rate: 10/s, template: 'x'}}
format: raw
send: [watch-desk]
---
source: asked
hosts: all
read: {files-from: {command: [/bin/ls], every: 10m}, except: ['*.gz'], encoding: utf-16}
format: lines
send: [watch-desk]
---
source: otel
hosts: all
read: {otlp: {listen: {port: 4318}}}
format: raw
send: [watch-desk]
---
format: gate-scan
about: A line of a scanner
template: '{ts:time} lane={lane:int} doc={doc} result={result:token} note={note:remainder}'
time: {field: ts, layout: '%Y-%m-%d %H:%M:%S'}
level: {field: result, map: {DENIED: WARN, '*': INFO}}
body: note
samples:
  - {line: '2031-04-02 06:15:09 lane=4 doc=PA1234567 result=DENIED note={}', gives: {lane: 4, result: DENIED}, level: WARN}
  - {line: 'lane 4 rebooted', gives: none}
---
format: by-groups
regex: '(?P<lane>\d+)'
---
format: typed
json: {}
fields: {status: int, when: time}
---
format: pairs
keyvalue: true
---
format: sheet
csv: {separator: ';'}
columns: [a, b]
fields: {b: float}
---
format: lines
first-of: [gate-scan, raw]
---
mask: passport
find: '\b[A-Z]{2}\d{7}\b'
near: [passport, doc]
only: [body, doc]
sensitivity: high
regulation: [gdpr]
fill: '*'
mark: true
samples: {hits: ['doc=PA1234567'], misses: ['PA12']}
---
mask: hashed
detector: email
except: [url]
regulation: [gdpr]
fill: {hash: "${secret.mask_key}"}
---
guard: passenger-data
sources: {data: passenger}
masks: [passport, phone, payment-card]
---
destination: harbour-archive
was: old-archive
deliver: {otlp: {url: "https://archive.whimbrel.example:4318/v1/logs"}}
auth: {bearer: "${secret.archive_token}"}
tls: {ca: "${secret.archive_ca}", server-name: archive, verify: true}
compress: gzip
batch: {records: 2000, bytes: 1MiB, wait: 1s}
buffer: {disk: 1GiB, at-limit: pause}
isolate: false
at-once: 4
drain: 1h
retry: {first: 500ms, longest: 1m, give-up: 72h}
limit: 5MiB/s
rejects: {keep: 256MiB, for: 14d}
takes: {lane: int, document: text}
price: 0.35 EUR/GiB
budget: 20GiB/day
---
destination: watch-desk
deliver: {syslog: {address: "desk.whimbrel.example:6514", transport: tls}}
auth: {basic: {user: desk, password: "${secret.desk}"}}
---
destination: held-back
deliver: {discard: {}}
---
settings: saltmarsh
hosts: {site: saltmarsh}
rank: 10
values: {log_root: /srv/harbour}
---
agents: small-boxes
hosts: {role: gauge}
limits: {cpu: 20%, memory: 64MiB, disk: 512MiB}
report: {every: 30s}
away: 12h
---
notice: gates-fail
when: state == "failing"
for: 5m
repeat: 4h
quiet: "22:00-06:00"
zone: Europe/Lisbon
to: [{webhook: {url: "https://desk.whimbrel.example/in", secret: "${secret.hook_key}"}}]
---
plan: careful
for: {definitions: [source/gate-*], hosts: {role: gate}}
waves: [1 host, 5%, 'labels.site == "northpier"', rest]
at-once: 50
approve: [3]
spread-by: site
soak: 5m
stop-when: failing > 0 || degraded_share > 0.02
on-stop: hold
window: "Mon-Thu 09:00-16:00 Europe/Lisbon"
absent: catch-up
---
label-key: site
values: [northpier, saltmarsh, gull-point]
required: true
---
label-key: team
budgets: {gates: 20GiB/day}
`

// TestLanguage: every kind and key of the language is read, and each document is canonical when it is read again.
func TestLanguage(t *testing.T) {
	t.Parallel()
	defs, problems := Parse("f.yaml", []byte(language))
	require.Empty(t, problems)
	require.Len(t, defs, 26)
	for _, d := range defs {
		canonical := d.Schema().
			AppendCanonical([]byte(d.Kind+": "+d.Name+"\n"), d.Body(), "", func(*schema.Key) bool { return false },
				nil)
		again, problems := Parse("f.yaml", canonical)
		require.Empty(t, problems, string(canonical))
		assert.Equal(t, d.Digest(), again[0].Digest(), string(canonical))
	}
	s := defs[0].Source
	assert.Equal(t, []string{"watch-desk", "harbour-archive", "held-back"}, s.Destinations())
	assert.Equal(t, []string{"gate-scan", "json"}, s.Formats())
	require.Len(t, s.Steps, 9)
	assert.Equal(t, pipeline.Limit, s.Steps[8].Kind)
	cat, problems := New(defs)
	require.Empty(t, problems)
	masks, guards := cat.GuardMasks(s)
	assert.Equal(t, []string{"passport", "phone", "payment-card"}, masks)
	assert.Len(t, guards, 1)
	var parts []string
	for _, n := range cat.Needs(defs[0]) {
		parts = append(parts, n.Part)
	}
	assert.Equal(
		t,
		[]string{
			"at-once",
			"auth",
			"conditions",
			"deliver-http",
			"deliver-syslog",
			"disk-buffer",
			"drain",
			"files",
			"limit",
			"masks",
			"record-bounds",
			"rejects-bounds",
			"steps",
			"tls",
			"unparsed-route",
			"was",
			"watch",
		},
		parts,
	)
	assert.Equal(t, []string{"archive_ca", "archive_token"}, cat.Get("destination", "harbour-archive").SecretsOf())
	assert.Equal(t, "labels[\"role\"] == \"weighbridge\"", defs[1].Selector().Long())
	var used []string
	for _, d := range cat.UsedBy(ID{"mask", "passport"}) {
		used = append(used, d.ID.String())
	}
	assert.Equal(t, []string{"source gate-scans", "guard passenger-data"}, used)
}

// TestEveryKeyIsInTheLanguageTest: a key that is added to a schema is added to the document above.
func TestEveryKeyIsInTheLanguageTest(t *testing.T) {
	t.Parallel()
	defs, _ := Parse("f.yaml", []byte(language))
	for kind, s := range Schemas {
		for _, k := range s.Keys {
			if k.Later || k.Made || k.Name == "about" {
				continue
			}
			found := false
			for _, d := range defs {
				found = found || d.Kind == kind && d.Body().Get(k.Name) != nil
			}
			assert.True(t, found, "%s.%s", kind, k.Name)
			assert.NotEmpty(t, k.Doc, "%s.%s", kind, k.Name)
		}
	}
}

func TestParseRefuses(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"source: aa\nhosts: label.role == \"x\"\nread: {files: [/a]}\nformat: raw\nsend: [bb]\n":                     "there is no label.role; did you mean labels.role?",
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nsteps:\n  - drop: !has(fields.x)\nsend: [bb]\n":   "quote it",
		"source: aa\nhosts: all\nread: {files: [/a], syslog: {listen: {port: 1}}}\nformat: raw\nsend: [bb]\n":        "read holds exactly one of files,",
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nguards: [x]\nsend: [bb]\n":                        `a source has no key "guards"`,
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nsteps: [{sample: {keep: 10 in 1}}]\nsend: [bb]\n": "not a sample such as 1 in 10",
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: bb, otherwise: cc}]\n":                "exactly one of to, otherwise",
		"mask: aa\nfind: '.*'\n":                                 "finds an empty text",
		"mask: aa\nfind: 'x'\ndetector: phone\n":                 "exactly one of find, detector",
		"mask: phone\nfind: 'x'\n":                               "built-in mask",
		"mask: aa\nfind: 'x'\nfill: '**'\n":                      "not one character",
		"plan: aa\nwaves: [1 host]\n":                            "must end with rest",
		"plan: aa\nwaves: [0%, rest]\n":                          "must be above 0",
		"plan: aa\nwaves: ['labls.site == \"x\"', rest]\n":       "labls",
		"plan: aa\nwaves: [rest]\napprove: [2]\n":                "there is no wave 2",
		"plan: aa\nwaves: [rest]\nfor: {definitions: [gates]}\n": "is no KIND/NAME",
		"plan: aa\nwaves: [some, rest]\n":                        "is no wave",
		"plan: aa\nwaves: [rest]\nstop-when: failing > zero\n":   "there is no zero",
		"plan: aa\nwaves: [rest]\nwindow: always\n":              "a window is written as",
		"format: aa\nregex: '('\n":                               "missing closing )",
		"format: aa\nregex: 'a'\n":                               "no named group",
		"format: aa\ncsv: {}\n":                                  `needs "columns"`,
		"sorce: aa\n":                                            `f.yaml:1:1: a document begins with its kind; "sorce" is none (did you mean "source"?)`,
		"about: x\nsource: aa\n":                                 `f.yaml:1:1: a document begins with its kind; "about" is none`,
		"source: A b\nhosts: all\n":                              "the name \"A b\" holds",
		"source: a\nhosts: all\n":                                "2 to 63",
		"format: raw\ntemplate: '{a}'\n":                         "built-in format",
		"format: aa\ntemplate: '{a}{b}'\n":                       "nothing between",
		"format: aa\n":                                           "exactly one of template, regex",
		"source: aa\nhosts: {}\nformat: raw\n":                   "hosts is empty",
		"source: aa\nread: {files: [/a]}\n":                      `needs "hosts"`,
		"settings: aa\nhosts: all\n":                             `needs "values"`,
		"- a\n- b\n":                                             "a definition: expected a map, found a list",
		"format: aa\ntemplate: '{t:time} {m}'\nlevel: {field: m, map: {a: LOUD}}\n":                               `"LOUD" is not a level`,
		"source: aa\nhosts: all\nread: {file: [/a]}\nformat: raw\nsend: [{to: bb}]\n":                             `read has no key "file" (did you mean "files"?)`,
		"source: aa\nhosts: all\nread: {files: [/a]}\nformat: raw\ntime: {zone: EST}\nsend: [{to: bb}]\n":         "not a named time zone",
		"source: aa\nhosts: all\nread: {files: [/a]}\nrecords: {begin: '('}\nformat: raw\nsend: [{to: bb}]\n":     "begin: error parsing",
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
	defs, _ := Parse(
		"f.yaml",
		[]byte("settings: aa\nhosts: all\nvalues: {a: b}\n---\nsettings: aa\nhosts: all\nvalues: {a: c}\n"),
	)
	_, problems := New(defs)
	require.Len(t, problems, 1)
	assert.Equal(
		t,
		"f.yaml:5:1: settings aa is defined already in f.yaml, line 1 (rename or remove one)",
		problems[0].Error(),
	)
}

func TestExpand(t *testing.T) {
	t.Parallel()
	get := func(r Ref) (string, bool) {
		v, ok := map[Ref]string{{"setting", "a"}: "1", {"host", "name"}: "h", {"label", "site"}: "np"}[r]
		return v, ok
	}
	for text, want := range map[string]string{"x": "x", "${setting.a}/${host.name}-${label.site}": "1/h-np",
		"$${setting.a}": "${setting.a}", "a$b": "a$b"} {
		got, missing, err := Expand(text, get)
		require.NoError(t, err)
		assert.Empty(t, missing)
		assert.Equal(t, want, got)
	}
	_, missing, err := Expand("${setting.b}${label.c}", get)
	require.NoError(t, err)
	assert.Equal(t, []Ref{{"setting", "b"}, {"label", "c"}}, missing)
	for text, want := range map[string]string{"${setting.a": "not closed", "${a}": "not a reference",
		"${observed.disk}": "not known", "${host.id}": "not known", "${x.y}": "not known"} {
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
	defs, problems := Parse(
		"f",
		[]byte(
			"settings: aa\nhosts: all\nvalues: {a: 1, b: 1}\n---\nsettings: bb\nhosts: {x: y}\nvalues: {a: 2, b: 1, "+
				"c: 3}\n",
		),
	)
	require.Empty(t, problems)
	cat, _ := New(defs)
	values, conflicts := cat.Layers(&inventory.Host{Labels: map[string]string{"x": "y"}}, nil)
	assert.Equal(t, map[string]string{"b": "1", "c": "3"}, values)
	assert.Equal(t, []Conflict{{"a", "aa", "bb"}}, conflicts)
	values, conflicts = cat.Layers(
		&inventory.Host{Labels: map[string]string{"x": "y"}, Settings: map[string]string{"a": "own"}},
		nil,
	)
	assert.Equal(t, map[string]string{"a": "own", "b": "1", "c": "3"}, values)
	assert.Empty(t, conflicts)
}

// TestRank: the higher rank wins whatever the order of the names, and settles a quarrel of lower ranks.
func TestRank(t *testing.T) {
	t.Parallel()
	layers := func(ranks string) (string, []Conflict) {
		text := ""
		for i, rank := range strings.Fields(ranks) {
			text += "---\nsettings: s" + string(
				rune('0'+i),
			) + "\nhosts: all\nrank: " + rank + "\nvalues: {a: v" + string(
				rune('0'+i),
			) + "}\n"
		}
		defs, problems := Parse("f", []byte(text))
		require.Empty(t, problems)
		cat, _ := New(defs)
		values, conflicts := cat.Layers(&inventory.Host{}, nil)
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
