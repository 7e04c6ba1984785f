package render

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
)

const text = `source: gates
labels: {where: "${label.site}"}
hosts: {role: gate}
read: {files: ["${setting.root}/*.log"]}
format: gate
time: {zone: UTC}
send: [{to: archive}, {to: desk}]
---
source: all-notes
hosts: all
read: {files: [/notes]}
format: raw
send: [{to: desk}]
---
format: gate
template: '{ts:time} {n:int}'
time: {field: ts, layout: '%H:%M'}
---
destination: archive
deliver: {http: {url: "http://${host.name}.example/in", headers: {X-Site: "${label.site}"}}}
---
destination: desk
deliver: {discard: {}}
---
destination: unused
deliver: {discard: {}}
`

func cat(t testing.TB, text string) *catalogue.Catalogue {
	defs, problems := catalogue.Parse("f", []byte(text))
	require.Empty(t, problems)
	c, problems := catalogue.New(defs)
	require.Empty(t, problems)
	return c
}

func gate(name string) *inventory.Host {
	return &inventory.Host{
		Name:     name,
		Labels:   map[string]string{"role": "gate", "site": "np"},
		Settings: map[string]string{"root": "/log"},
	}
}

func TestHost(t *testing.T) {
	t.Parallel()
	r := New(Input{Catalogue: cat(t, text), Changed: map[catalogue.ID]int{{Kind: "source", Name: "gates"}: 7}})
	m := r.Host(gate("g1"))
	assert.Equal(t, []string{"all-notes", "gates"}, m.Sources())
	assert.Contains(t, m.Text(), "  - source: gates  # revision 7\n")
	assert.NotContains(t, m.Text(), "unused")
	c, err := hostconfig.Read([]byte(m.Text()), hostconfig.Runs)
	require.NoError(t, err)
	assert.Equal(t, m.Hash, c.Hash)
	d, _ := c.Destination("archive")
	assert.Equal(t, []string{"http://g1.example/in"}, d.URLs)
	assert.Equal(t, "np", d.Headers["X-Site"])
	assert.Equal(t, []string{"/log/*.log"}, c.Sources[1].Files)
	assert.Equal(t, "np", c.Sources[1].Labels["where"])
	f, ok := c.Format("gate")
	require.True(t, ok)
	assert.Equal(t, "%H:%M", f.Time.Layout)

	other := r.Host(&inventory.Host{Name: "k1", Labels: map[string]string{"role": "kiosk"}})
	assert.Equal(t, []string{"all-notes"}, other.Sources())
	assert.Empty(t, other.LeftOut)
}

func TestLeftOut(t *testing.T) {
	t.Parallel()
	h := gate("g1")
	delete(h.Settings, "root")
	m := New(Input{Catalogue: cat(t, text)}).Host(h)
	assert.Equal(t, []string{"all-notes"}, m.Sources())
	assert.Equal(t, []LeftOut{{"gates", "${setting.root} is not defined on this host"}}, m.LeftOut)
}

// TestHashIsOverMeaning: the same inputs give the same bytes; what changes nothing for a host leaves its hash.
func TestHashIsOverMeaning(t *testing.T) {
	t.Parallel()
	base := New(Input{Catalogue: cat(t, text)}).Host(gate("g1"))
	same := New(
		Input{Catalogue: cat(t, text), Changed: map[catalogue.ID]int{{Kind: "source", Name: "gates"}: 9}},
	).Host(gate("g1"))
	assert.Equal(t, base.Hash, same.Hash, "the revision is a comment")
	assert.Equal(
		t,
		base.Hash,
		New(
			Input{Catalogue: cat(t, strings.Replace(text, "source: all-notes", "# why\nsource: all-notes", 1))},
		).Host(gate("g1")).
			Hash,
	)
	assert.Equal(
		t,
		base.Hash,
		New(
			Input{Catalogue: cat(t, strings.Replace(text, "destination: unused", "destination: unused-too", 1))},
		).Host(gate("g1")).
			Hash,
	)
	for what, h := range map[string]*inventory.Host{
		"label": {Name: "g1", Labels: map[string]string{"role": "gate", "site": "sm"}, Settings: map[string]string{
			"root": "/log"}},
		"setting": {Name: "g1", Labels: gate("").Labels, Settings: map[string]string{"root": "/logs"}},
		"name":    gate("g2"),
	} {
		assert.NotEqual(t, base.Hash, New(Input{Catalogue: cat(t, text)}).Host(h).Hash, what)
	}
	assert.NotEqual(
		t,
		base.Hash,
		New(Input{Catalogue: cat(t, strings.Replace(text, "%H:%M", "%M:%H", 1))}).Host(gate("g1")).Hash,
	)
	assert.NotEqual(
		t,
		base.Hash,
		New(
			Input{
				Catalogue: cat(
					t,
					strings.Replace(text, "desk\ndeliver: {discard: {}}", "desk\ndeliver: {file: {path: /x}}", 1),
				),
			},
		).Host(gate("g1")).
			Hash,
	)
}

func TestExplain(t *testing.T) {
	t.Parallel()
	c := cat(t, text)
	lines := func(h *inventory.Host, source string) (bool, string) {
		gets, why := Explain(Input{Catalogue: c}, h, source, nil)
		var b strings.Builder
		for _, w := range why {
			fmt.Fprintf(&b, "%v %s\n", w.Holds, w.Text)
		}
		return gets, b.String()
	}
	gets, why := lines(gate("g1"), "gates")
	assert.True(t, gets)
	assert.Equal(
		t,
		"true label role is gate, as it asks\ntrue ${label.site}, which source gates uses, is np\ntrue "+
			"${setting.root}, which source gates uses, is /log\n"+
			"true ${host.name}, which destination archive uses, is g1\ntrue ${label.site}, which destination "+
			"archive uses, is np\n",
		why,
	)
	gets, why = lines(&inventory.Host{Name: "k", Labels: map[string]string{"role": "kiosk"}}, "gates")
	assert.False(t, gets)
	assert.Contains(t, why, "false label role is kiosk; it asks for gate\n")
	assert.Contains(t, why, "false ${setting.root}, which source gates uses, is not defined on this host\n")
	_, why = lines(&inventory.Host{Name: "k"}, "gates")
	assert.Contains(t, why, "false the host has no label role; it asks for gate\n")
	_, why = lines(gate("g1"), "gats")
	assert.Equal(t, "false there is no source gats in the catalogue; did you mean gates?\n", why)
	gets, why = lines(&inventory.Host{Name: "k"}, "all-notes")
	assert.True(t, gets)
	assert.Equal(t, "true it is for all hosts\n", why)
	// An explanation and the rendered manifest never contradict each other.
	r := New(Input{Catalogue: c})
	for _, h := range []*inventory.Host{gate("g1"), {Name: "x"}, {Name: "y",
		Labels: map[string]string{"role": "gate"}}} {
		for _, source := range []string{"gates", "all-notes"} {
			gets, _ := Explain(Input{Catalogue: c}, h, source, nil)
			assert.Equal(t, slices.Contains(r.Host(h).Sources(), source), gets, "%s %s", h.Name, source)
		}
	}
}

// TestOwnValuesAreOneGroup: a source whose path holds the host's name changes many hosts in one way; other values of a
// setting change each in its own.
func TestOwnValuesAreOneGroup(t *testing.T) {
	t.Parallel()
	const own = "source: own\nhosts: all\nread: {files: [\"/srv/${host.name}/%s.log\", \"${setting.root}/x\"]}\n" +
		"format: raw\nsend: [dd]\n---\ndestination: dd\ndeliver: {discard: {}}\n"
	host := func(name, root string) *inventory.Host {
		return &inventory.Host{Name: name, Settings: map[string]string{"root": root}}
	}
	before, after := New(Input{Catalogue: cat(t, fmt.Sprintf(own, "a"))}), New(Input{Catalogue: cat(t,
		fmt.Sprintf(own, "b"))})
	keys := map[string]bool{}
	for i := range 43 {
		h := host(fmt.Sprintf("h%d", i), fmt.Sprintf("/r%d", i))
		keys[DifferenceKey(before.Host(h), after.Host(h))] = true
	}
	assert.Len(t, keys, 1)
	one, two := host("x", "/one"), host("x", "/two")
	assert.NotEqual(t, DifferenceKey(before.Host(one), before.Host(two)), DifferenceKey(before.Host(two),
		before.Host(one)))
	assert.NotEmpty(t, DifferenceKey(before.Host(one), before.Host(two)))
}

func TestSameDifferenceSameGroup(t *testing.T) {
	t.Parallel()
	before, after := New(
		Input{Catalogue: cat(t, text)},
	), New(
		Input{Catalogue: cat(t, strings.Replace(text, "files: [/notes]", "files: [/note]", 1))},
	)
	a := DifferenceKey(before.Host(gate("g1")), after.Host(gate("g1")))
	assert.Equal(t, a, DifferenceKey(before.Host(gate("g2")), after.Host(gate("g2"))))
	assert.Empty(t, DifferenceKey(before.Host(gate("g1")), before.Host(gate("g1"))))
}

func TestDiff(t *testing.T) {
	t.Parallel()
	show := func(lines []Line) string {
		var b strings.Builder
		for _, l := range lines {
			fmt.Fprintf(&b, "%c%s|", l.Op, l.Text)
		}
		return b.String()
	}
	assert.Equal(t, " …| c|-d|+D| e| …|", show(Diff("a\nb\nc\nd\ne\nf\n", "a\nb\nc\nD\ne\nf\n", 1)))
	assert.Equal(t, "+a|+b|", show(Diff("", "a\nb\n", 3)))
	assert.Equal(t, "-a|", show(Diff("a\n", "", 3)))
	assert.Empty(t, Diff("a\n", "a", 3))
	assert.Equal(t, "-a| b|+x| c|-d|", show(Diff("a\nb\nc\nd\n", "b\nx\nc\n", 3)))
}

func FuzzDiff(f *testing.F) {
	f.Add("a\nb\nc", "b\nc\nd")
	f.Fuzz(func(t *testing.T, old, new string) {
		if strings.Contains(old+new, "…") || strings.TrimSuffix(old, "\n") == strings.TrimSuffix(new, "\n") {
			return
		}
		var a, b []string
		for _, l := range Diff(old, new, 1<<20) {
			if l.Op != '+' {
				a = append(a, l.Text)
			}
			if l.Op != '-' {
				b = append(b, l.Text)
			}
		}
		require.Equal(t, splitLines(old), a)
		require.Equal(t, splitLines(new), b)
	})
}

// TestWatch: what a host itself watches is rendered with its own zone, and read back by the agent.
func TestWatch(t *testing.T) {
	t.Parallel()
	source := func(expect string) string {
		return "source: gates\nhosts: all\nread: {files: [/a]}\nformat: keyvalue\ntime: {zone: \"${setting.zone}\"}\n" + expect +
			"send: [out]\n---\ndestination: out\ndeliver: {discard: {}}\n"
	}
	for expect, want := range map[string]string{
		"":                                     "",
		"expect: {every: 10m}\n":               "",
		"expect: {filled: {b: 5%, a: 50%}}\n":  "watch: {filled: [\"a\", \"b\"]}",
		"expect: {every: 90m, per: file}\n":    "watch: {every: 1h30m0s}",
		"expect: {at-least: 5/h, per: file}\n": "",
		"expect: {every: 5m, per: source}\n":   "",
		"expect: {during: 05:00-06:00, every: 1m, per: file, filled: {a: 1%}}\n": "watch: {filled: [\"a\"], every: 1m0s, " +
			"during: \"05:00-06:00\", zone: \"Asia/Kathmandu\"}",
	} {
		h := gate("g1")
		h.Settings["zone"] = "Asia/Kathmandu"
		text := New(Input{Catalogue: cat(t, source(expect))}).Host(h).AppendText(nil)
		assert.Equal(t, want != "", strings.Contains(string(text), "watch:"), expect)
		assert.Contains(t, string(text), want, expect)
		c, err := hostconfig.Read(text, hostconfig.Runs)
		require.NoError(t, err, expect)
		if strings.Contains(want, "zone") {
			w := c.Sources[0].Watch
			assert.Equal(t, []string{"a"}, w.Filled)
			assert.Equal(t, time.Minute, w.File.Every)
			assert.Equal(t, "Asia/Kathmandu", w.File.Zone.String())
		}
		if want != "" {
			_, err = hostconfig.Read(text, hostconfig.Baseline)
			assert.ErrorContains(t, err, "watch", "an agent that cannot watch says so")
		}
	}
}
