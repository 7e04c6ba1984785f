package render

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
)

// world is a catalogue and an inventory that are edited at random. Definitions are texts, so that an edit goes the way
// of a person's edit: text, reading, rendering.
type world struct {
	rnd     *rand.Rand
	defs    map[string]*catalogue.Definition
	hosts   []inventory.Host
	secrets map[string]int
	changed map[catalogue.ID]int
	n       int
}

func (w *world) put(t testing.TB, text string) {
	defs, problems := catalogue.Parse("f.yaml", []byte(text))
	require.Empty(t, problems, text)
	w.defs[defs[0].ID.String()] = defs[0]
	w.changed[defs[0].ID] = w.n
}

func (w *world) pick(list ...string) string { return list[w.rnd.IntN(len(list))] }

func (w *world) choice() string {
	return w.pick(
		"all",
		"{role: gate}",
		"{role: [gate, kiosk]}",
		"{site: s1}",
		"{site: [s1, s2], role: gate}",
		"labels.site != \"s1\"",
		"host.name.startsWith(\"h1\") || labels.role == \"desk\"",
		"size(labels.role) == 4",
		"observed.os == \"linux\"",
		"has(labels.lane)",
	)
}

// edit changes one thing.
func (w *world) edit(t testing.TB) {
	w.n++
	i := w.rnd.IntN(6)
	switch w.rnd.IntN(12) {
	case 0, 1:
		w.put(
			t,
			fmt.Sprintf(
				"source: src%d\nhosts: %s\nlabels: {data: %s}\nread: {files: [\"${setting.root}/%d.log\", "+
					"\"/fix\"]}\nformat: %s\nsteps: [{mask: [%s]}]\nsend: [dst%d, dst%d]\n",
				i,
				w.choice(),
				w.pick("p", "q"),
				w.rnd.IntN(3),
				w.pick("raw", "fmt0", "fmt1", "both"),
				w.pick("phone", "msk0"),
				i%3,
				w.rnd.IntN(3),
			),
		)
	case 2:
		w.put(
			t,
			fmt.Sprintf(
				"destination: dst%d\ndeliver: {http: {url: 'https://%s.example', headers: {X: '${%s}'}}}\nauth: "+
					"{bearer: '${secret.s%d}'}\n",
				i%3,
				w.pick("a", "b"),
				w.pick("host.name", "label.site", "setting.root", "observed.os"),
				i%2,
			),
		)
	case 3:
		w.put(
			t,
			fmt.Sprintf(
				"settings: set%d\nhosts: %s\nrank: %d\nvalues: {root: /r%d}\n",
				i%3,
				w.choice(),
				w.rnd.IntN(3),
				w.rnd.IntN(3),
			),
		)
	case 4:
		w.put(t, fmt.Sprintf("format: fmt%d\ntemplate: '{a:%s} {b}'\n", i%2, w.pick("int", "token")))
	case 5:
		w.put(
			t,
			fmt.Sprintf(
				"guard: grd%d\nsources: {data: %s}\nmasks: [%s]\n",
				i%2,
				w.pick("p", "q"),
				w.pick("phone", "msk0", "email"),
			),
		)
	case 6:
		w.put(t, fmt.Sprintf("mask: msk0\nfind: '%s'\n", w.pick("x", "y")))
	case 7:
		w.put(t, fmt.Sprintf("agents: agt%d\nhosts: %s\nlimits: {memory: %dMiB}\n", i%2, w.choice(), 64+w.rnd.IntN(3)))
	case 8: // take something away
		names := make([]string, 0, len(w.defs))
		for k := range w.defs {
			names = append(names, k)
		}
		if len(names) > 0 {
			delete(w.defs, names[w.rnd.IntN(len(names))])
		}
	case 9:
		w.secrets = maps.Clone(w.secrets)
		w.secrets[fmt.Sprintf("s%d", i%2)]++
	case 10:
		w.put(t, fmt.Sprintf("format: both\nfirst-of: [fmt%d, raw]\n", i%2))
	}
}

// editHosts changes some hosts.
func (w *world) editHosts() {
	w.hosts = append([]inventory.Host(nil), w.hosts...)
	for range 1 + w.rnd.IntN(3) {
		i := w.rnd.IntN(len(w.hosts))
		h := &w.hosts[i]
		switch w.rnd.IntN(5) {
		case 0:
			h.Labels = map[string]string{"role": w.pick("gate", "kiosk", "desk"), "site": w.pick("s1", "s2", "s3")}
		case 1:
			h.Labels = map[string]string{"site": w.pick("s1", "s2"), "lane": "4"}
		case 2:
			h.Settings = map[string]string{"root": w.pick("/a", "/b")}
		case 3:
			h.OS = w.pick("linux", "")
		case 4: // one goes, another comes
			w.hosts = append(w.hosts[:i], w.hosts[i+1:]...)
			w.hosts = append(
				w.hosts,
				inventory.Host{
					Name:   fmt.Sprintf("h%d", 1000+w.rnd.IntN(9000)),
					Labels: map[string]string{"role": "gate"},
				},
			)
		}
	}
}

func (w *world) input() Input {
	list := make([]*catalogue.Definition, 0, len(w.defs))
	for _, d := range w.defs {
		list = append(list, d)
	}
	cat, _ := catalogue.New(list)
	return Input{Catalogue: cat, Changed: maps.Clone(w.changed), Secrets: w.secrets}
}

// TestIncrementalEqualsFull: after each of a thousand random edits of definitions, secrets and hosts, what was
// rendered on from the state before is what rendering from nothing gives.
func TestIncrementalEqualsFull(t *testing.T) {
	t.Parallel()
	for seed := range uint64(4) {
		w := &world{
			rnd:     rand.New(rand.NewPCG(seed, 7)),
			defs:    map[string]*catalogue.Definition{},
			secrets: map[string]int{"s0": 1},
			changed: map[catalogue.ID]int{},
		}
		for i := range 40 {
			w.hosts = append(
				w.hosts,
				inventory.Host{
					Name:   fmt.Sprintf("h%d", i),
					Labels: map[string]string{"role": w.pick("gate", "kiosk"), "site": w.pick("s1", "s2")},
					OS:     "linux",
				},
			)
		}
		x := inventory.NewIndex(w.hosts)
		now := NewFleet(w.input(), x)
		changes := 0
		for step := range 250 {
			before := now
			if w.rnd.IntN(4) == 0 {
				old := w.hosts
				w.editHosts()
				x = now.Index.Edit(others(old, w.hosts))
				if len(x.Hosts) != len(w.hosts) || !sameNames(old, w.hosts) {
					x = inventory.NewIndex(w.hosts)
				}
				now, _ = now.WithHosts(x)
			} else {
				w.edit(t)
				var reached inventory.Set
				now, reached = now.With(w.input())
				for i, m := range now.Manifests { // what was not reached is the very same
					if !reached.Has(i) {
						require.Same(t, before.Manifests[i], m)
					}
				}
			}
			full := NewFleet(w.input(), inventory.NewIndex(w.hosts))
			for i, m := range full.Manifests {
				require.Equal(t, m.Text(), now.Manifests[i].Text(), "seed %d, step %d, host %s", seed, step, m.Host)
				require.Equal(t, m.LeftOut, now.Manifests[i].LeftOut)
				if i < len(before.Manifests) && before.Manifests[i].Hash != m.Hash {
					changes++
				}
			}
		}
		assert.Greater(t, changes, 500, "the edits change something")
	}
}

// others are the hosts that are not as they were, by their places.
func others(old, now []inventory.Host) map[int]inventory.Host {
	out := map[int]inventory.Host{}
	for i := range now {
		if i < len(old) && !reflect.DeepEqual(old[i], now[i]) {
			out[i] = now[i]
		}
	}
	return out
}

func sameNames(a, b []inventory.Host) bool {
	return slices.EqualFunc(a, b, func(x, y inventory.Host) bool { return x.Name == y.Name })
}

// TestIndexAnswersAsMatchDoes: a choice for all hosts at once is the choice for each.
func TestIndexAnswersAsMatchDoes(t *testing.T) {
	t.Parallel()
	w := &world{
		rnd:     rand.New(rand.NewPCG(1, 2)),
		defs:    map[string]*catalogue.Definition{},
		changed: map[catalogue.ID]int{},
	}
	for i := range 130 {
		w.hosts = append(
			w.hosts,
			inventory.Host{
				Name:   fmt.Sprintf("h%d", i),
				Labels: map[string]string{"role": w.pick("gate", "kiosk", "desk", ""), "site": w.pick("s1", "s2")},
				OS:     w.pick("linux", ""),
			},
		)
		if i%7 == 0 {
			w.hosts[i].Labels = map[string]string{"lane": "1"}
		}
	}
	x := inventory.NewIndex(w.hosts)
	for range 60 {
		old := w.hosts
		if w.editHosts(); sameNames(old, w.hosts) { // an edited index answers as a new one
			x = x.Edit(others(old, w.hosts))
		} else {
			x = inventory.NewIndex(w.hosts)
		}
		w.put(t, "settings: ss\nhosts: "+w.choice()+"\nvalues: {a: b}\n")
		s := w.defs["settings ss"].Selector()
		got := x.Choose(*s)
		n := 0
		for i := range w.hosts {
			require.Equal(t, s.Match(&w.hosts[i]), got.Has(i), "%s on %v", s, w.hosts[i])
			if got.Has(i) {
				n++
			}
		}
		require.Equal(t, n, got.Len())
		if s.Condition == nil { // the short form means the same as its long form
			long, err := inventory.ParseSelector(s.Long())
			require.NoError(t, err)
			require.Equal(t, got, x.Choose(long), s.Long())
		}
	}
	for text, want := range map[string]string{"all": "all", "role=gate": "role=gate",
		"role=gate|kiosk site=s1": "role=gate|kiosk site=s1", `labels.role == "gate"`: `labels.role == "gate"`} {
		s, err := inventory.ParseSelector(text)
		require.NoError(t, err)
		assert.Equal(t, want, s.String())
	}
	_, err := inventory.ParseSelector("role gate")
	require.Error(t, err)
}
