package check

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
)

const good = `source: gates
hosts: {role: gate}
read: {files: ["${setting.root}/*.log"]}
format: gate
time: {zone: UTC}
send: [{to: archive}]
---
format: gate
template: '{ts:time} {n:int}'
time: {field: ts, layout: '%H:%M'}
samples: [{line: '06:15 4', gives: {n: 4}}]
---
destination: archive
deliver: {discard: {}}
`

func fleet() []inventory.Host {
	return []inventory.Host{
		{Name: "g1", Labels: map[string]string{"role": "gate"}, Settings: map[string]string{"root": "/a"}},
		{Name: "g2", Labels: map[string]string{"role": "gate"}, Settings: map[string]string{"root": "/b"}},
		{Name: "k1", Labels: map[string]string{"role": "kiosk"}},
	}
}

func parse(t *testing.T, text string) *catalogue.Catalogue {
	defs, problems := catalogue.Parse("f.yaml", []byte(text))
	require.Empty(t, problems)
	cat, problems := catalogue.New(defs)
	require.Empty(t, problems)
	return cat
}

func findings(t *testing.T, text string, hosts []inventory.Host) []Finding {
	cat := parse(t, text)
	if hosts == nil {
		return Run(cat, World{})
	}
	return Run(cat, World{Fleet: render.NewFleet(render.Input{Catalogue: cat}, inventory.NewIndex(hosts))})
}

func TestGood(t *testing.T) {
	t.Parallel()
	assert.Empty(t, findings(t, good, fleet()))
	assert.Empty(t, findings(t, good, nil))
}

// TestEachCheck trips each check once, and looks at what the person reads.
func TestEachCheck(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		old, new string
		want     Finding
	}{
		"format": {"format: gate\ntime", "format: gat\ntime", Finding{Code: "dangling-reference", Severity: Error,
			Kind: "source", Name: "gates", File: "f.yaml", Line: 4, Column: 9, Reason: `there is no format "gat"`,
			Fix: `did you mean "gate"?`}},
		"destination": {"[{to: archive}]", "[{to: archiv}]", Finding{Code: "dangling-reference", Severity: Error,
			Kind: "source", Name: "gates", File: "f.yaml", Line: 6, Column: 13,
			Reason: `there is no destination "archiv"`, Fix: `did you mean "archive"?`}},
		"zone": {"time: {zone: UTC}\n", "", Finding{Code: "zone-missing", Severity: Error, Kind: "source",
			Name: "gates", File: "f.yaml", Line: 4, Column: 9, Reason: "format gate reads a time without a zone, " +
				"and neither it nor this source names one", Fix: "add time: {zone: Europe/Lisbon}, or whatever zone " +
				"the hosts write in"}},
		"sample": {"gives: {n: 4}", "gives: {n: 5}", Finding{Code: "sample-failed", Severity: Error,
			Kind: "format", Name: "gate", File: "f.yaml", Line: 11, Column: 12,
			Reason: "field n is 4 (int), expected 5 (int)", Fix: "mend the format or the sample"}},
		"no hosts": {"{role: gate}", "{role: gates}", Finding{Code: "no-hosts", Severity: Warning, Kind: "source",
			Name: "gates", File: "f.yaml", Line: 2, Column: 9, Reason: "hosts (role=gates) chooses no host of the " +
				"fleet", Fix: `no host has role=gates; did you mean "gate"?`}},
		"no label": {"{role: gate}", "{rôle: gate}", Finding{Code: "no-hosts", Severity: Warning, Kind: "source",
			Name: "gates", File: "f.yaml", Line: 2, Column: 9,
			Reason: "hosts (rôle=gate) chooses no host of the fleet",
			Fix:    `no host has the label rôle; did you mean "role"?`}},
		"setting": {"${setting.root}", "${setting.roots}", Finding{Code: "setting-undefined", Severity: Error,
			Kind: "source", Name: "gates", File: "f.yaml", Line: 3, Column: 16, Hosts: []string{"g1", "g2"},
			Reason: "${setting.roots} is not defined on g1, g2", Fix: "synaxis host set g1 roots=VALUE, or a " +
				"settings definition for these hosts"}},
		"label": {"${setting.root}", "${label.lane}", Finding{Code: "setting-undefined", Severity: Error,
			Kind: "source", Name: "gates", File: "f.yaml", Line: 3, Column: 16, Hosts: []string{"g1", "g2"},
			Reason: "${label.lane} is not defined on g1, g2", Fix: "synaxis host label g1 lane=VALUE"}},
		"reference": {"${setting.root}", "${sitting.root}", Finding{Code: "reference-unknown", Severity: Error,
			Kind: "source", Name: "gates", File: "f.yaml", Line: 3, Column: 16, Reason: "${sitting.root} is not " +
				"known; known are ${setting.NAME}, ${host.name}, ${label.KEY}, ${observed.os}, ${observed.arch}, " +
				"${observed.name}, ${secret.NAME}"}},
		"relative": {"${setting.root}/", "logs/", Finding{Code: "path-relative", Severity: Error, Kind: "source",
			Name: "gates", File: "f.yaml", Line: 3, Column: 16, Reason: `"logs/*.log" is not an absolute path`,
			Fix: "begin it with / or a setting"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			require.Contains(t, good, c.old)
			all := findings(t, replaceOnce(good, c.old, c.new), fleet())
			require.NotEmpty(t, all)
			assert.Contains(t, all, c.want)
		})
	}
	all := findings(
		t,
		good+"---\nsettings: aa\nhosts: all\nvalues: {x: 1}\n---\nsettings: bb\nhosts: {role: kiosk}\nvalues: {x: 2}\n",
		fleet(),
	)
	require.Len(t, all, 1)
	assert.Equal(t, "settings-disagree", all[0].Code)
	assert.Equal(t, []string{"k1"}, all[0].Hosts)
	all = findings(t, good+"---\ndestination: spare\ndeliver: {discard: {}}\n", nil)
	require.Len(t, all, 1)
	assert.Equal(t, "destination-unused", all[0].Code)
	assert.False(t, HasErrors(all))
}

// TestReferencesWhereNoneIsRead: what looks like a reference is never passed over as plain text.
func TestReferencesWhereNoneIsRead(t *testing.T) {
	t.Parallel()
	for old, new := range map[string]string{
		"format: gate\ntime": "records: {begin: '^${setting.begin}'}\nformat: gate\ntime",
		"discard: {}}":       "discard: {}} # ${setting.x} in a remark is a remark",
		"# end":              "---\nsettings: ss\nhosts: all\nvalues: {root: '${host.name}/x', key: '${secret.k}'}\n",
	} {
		text := replaceOnce(good+"# end", old, new)
		require.NotEqual(t, good+"# end", text)
		var got []string
		for _, f := range findings(t, text, nil) {
			if f.Code == "reference-misplaced" {
				assert.Equal(t, Error, f.Severity)
				got = append(got, f.Reason)
			}
		}
		switch old {
		case "discard: {}}":
			assert.Empty(t, got)
		case "# end":
			assert.Equal(
				t,
				[]string{
					`${host.name} would stay as it is written here: references are not read in values.root`,
					`${secret.k} would stay as it is written here: references are not read in values.key`,
				},
				got,
			)
		default:
			assert.Equal(
				t,
				[]string{
					`${setting.begin} would stay as it is written here: references are not read in records.begin`,
				},
				got,
			)
		}
	}
}

// TestOverlaps: one file read by two sources, and a source that reads what the agent writes.
func TestOverlaps(t *testing.T) {
	t.Parallel()
	source := func(name, files, rest string) string {
		return "---\nsource: " + name + "\nhosts: {role: gate}\nread: {files: [" + files + "]" + rest +
			"}\nformat: raw\nsend: [{to: archive}]\n"
	}
	for name, c := range map[string]struct {
		more, code string
		hosts      []string
	}{
		"same pattern":   {source("zz", `"${setting.root}/*.log"`, ""), "file-read-twice", []string{"g1", "g2"}},
		"one file of it": {source("zz", `/b/x.log`, ""), "file-read-twice", []string{"g2"}},
		"wider":          {source("zz", `/**/*.log`, ""), "file-read-twice", []string{"g1", "g2"}},
		"excepted":       {source("zz", `"${setting.root}/lane.log"`, `, except: ["lane.*"]`), "", nil},
		"another end":    {source("zz", `"${setting.root}/*.txt"`, ""), "", nil},
		"own output": {source("zz", `/out/*`, "") + "---\nsource: yy\nhosts: all\nread: {files: " +
			"[/in]}\nformat: raw\nsend: [{to: shelf}]\n---\ndestination: shelf\ndeliver: {file: {path: " +
			"/out/all.ndjson}}\n", "reads-own-output", []string{"g1", "g2"}},
		"other host's file": {source("zz", `/out/*`, "") + "---\nsource: yy\nhosts: {role: kiosk}\nread: {files: " +
			"[/in]}\nformat: raw\nsend: [{to: shelf}]\n---\ndestination: shelf\ndeliver: {file: {path: " +
			"/out/all.ndjson}}\n", "", nil},
		"everything": {source("zz", `/**`, ""), "pattern-too-wide", nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var found *Finding
			for _, f := range findings(t, good+c.more, fleet()) {
				if f.Code == c.code {
					found = &f
				}
				if c.code == "" {
					assert.NotContains(
						t,
						[]string{"file-read-twice", "reads-own-output", "pattern-too-wide"},
						f.Code,
						f.Reason,
					)
				}
			}
			if c.code != "" {
				require.NotNil(t, found)
				assert.Equal(t, c.hosts, found.Hosts)
				assert.Equal(t, "zz", found.Name)
			}
		})
	}
	for pattern, want := range map[string]bool{"/**": true, "/*": true, "**/*": true, "/**/*": true, "/var/**": false,
		"/**/*.log": false, "${setting.root}/**": false} {
		assert.Equal(t, want, tooWide(pattern), pattern)
	}
}

// TestManyHosts: the cost for each host stays small, so that thousands of hosts are checked in seconds.
func TestManyHosts(t *testing.T) {
	t.Parallel()
	text := "destination: archive\ndeliver: {discard: {}}\n"
	for i := range 50 {
		text += fmt.Sprintf(
			"---\nsource: source-%d\nhosts: all\nread: {files: [\"${setting.root}/part-%d/*.log\"]}\nformat: "+
				"raw\nsend: [{to: archive}]\n",
			i,
			i,
		)
	}
	var f []inventory.Host
	for i := range 2000 {
		f = append(
			f,
			inventory.Host{
				Name:     fmt.Sprintf("h%d", i),
				Settings: map[string]string{"root": fmt.Sprintf("/srv/%d", i)},
			},
		)
	}
	began := time.Now()
	assert.Empty(t, findings(t, text, f))
	assert.Less(t, time.Since(began), 10*time.Second)
}

func replaceOnce(s, old, new string) string {
	for i := 0; i+len(old) <= len(s); i++ {
		if s[i:i+len(old)] == old {
			return s[:i] + new + s[i+len(old):]
		}
	}
	return s
}

func TestErrorsComeFirst(t *testing.T) {
	t.Parallel()
	list := []Finding{
		{Severity: Note, Line: 1},
		{Severity: Error, Line: 9},
		{Severity: Warning, Line: 2},
		{Severity: Error, Line: 3},
	}
	Sort(list)
	assert.Equal(
		t,
		[]Finding{
			{Severity: Error, Line: 3},
			{Severity: Error, Line: 9},
			{Severity: Warning, Line: 2},
			{Severity: Note, Line: 1},
		},
		list,
	)
	assert.True(t, HasErrors(list))
}
