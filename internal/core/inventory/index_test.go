package inventory

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// selectors are choices of every form; each must give by the index what it gives host by host.
var selectors = []string{
	"all",
	"role=gate",
	"role=gate|kiosk site=np",
	`labels.role == "gate"`,
	`labels.role != "gate" && labels.lane == ""`,
	`!(labels.site in ["np", "sm"])`,
	`labels.lane > "2" || observed.os == "linux"`,
	`host.name.startsWith("h1")`,
	`has(labels.lane)`,
	`labels.role.matches("^ki")`,
	`observed.arch == "arm64"`,
	`labels.nobody == "x"`,
	`labels.nobody == ""`,
}

func anyHost(r *rand.Rand, i int) Host {
	h := Host{Name: fmt.Sprintf("h%d", i), Labels: map[string]string{}}
	for k, values := range map[string][]string{"role": {"gate", "kiosk", "", "bridge"}, "site": {"np", "sm", "gp"},
		"lane": {"1", "2", "3", "44"}} {
		if v := values[r.IntN(len(values))]; v != "" && r.IntN(3) > 0 {
			h.Labels[k] = v
		}
	}
	if r.IntN(2) == 0 {
		h.OS, h.Arch = "linux", []string{"amd64", "arm64"}[r.IntN(2)]
	}
	return h
}

// TestIndexAgreesWithMatch: over random edits, a choice by the index is the choice host by host.
func TestIndexAgreesWithMatch(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 7))
		hosts := make([]Host, 1+r.IntN(200))
		for i := range hosts {
			hosts[i] = anyHost(r, i)
		}
		x := NewIndex(hosts)
		for range 5 {
			for _, text := range selectors {
				s, err := ParseSelector(text)
				require.NoError(t, err, text)
				got := x.Choose(s)
				n := 0
				for i := range x.Hosts {
					want := s.Match(&x.Hosts[i])
					require.Equal(t, want, got.Has(i), "%s: %v", text, x.Hosts[i])
					if want {
						n++
					}
				}
				assert.Equal(t, n, got.Len())
				if len(s.Terms) > 0 { // the short form means the same as its long form
					long, err := ParseSelector(s.Long())
					require.NoError(t, err)
					assert.Equal(t, got, x.Choose(long), "%s: %s", text, s.Long())
				}
			}
			edits := map[int]Host{}
			for range 1 + r.IntN(10) {
				i := r.IntN(len(hosts))
				edits[i] = anyHost(r, i)
			}
			next := x.Edit(edits)
			places, ok := next.EditedFrom(x)
			assert.True(t, ok)
			assert.Len(t, places, len(edits))
			x = next
		}
	}
}

func TestParseSelectorRefuses(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"", "labels.role = 'gate'", "labels.role == 4", "fields.x == 'y'",
		"observed.disk > 4", "labels.a == 'b' &&", "((((", "role"} {
		_, err := ParseSelector(text)
		assert.Error(t, err, "%q", text)
	}
}

func TestEditAll(t *testing.T) {
	t.Parallel()
	hosts := []Host{
		{Name: "a", Labels: map[string]string{"tier": "1", "old": "x"}},
		{Name: "b", Labels: map[string]string{"tier": "2"}},
	}
	got := EditAll(hosts, Values{Set: map[string]string{"tier": "2"}, Remove: []string{"old", "none"}}, Values{})
	assert.Equal(
		t,
		[]Change{
			{
				Host:   "a",
				What:   "changed",
				Labels: []Edit{{Key: "old", Before: "x", Removed: true}, {Key: "tier", Before: "1", After: "2"}},
			},
			{Host: "b", What: "same"},
		},
		got,
	)
	assert.Equal(t, map[string]string{"tier": "2"}, Apply(hosts[0].Labels, got[0].Labels))
	assert.Equal(t, "x", hosts[0].Labels["old"], "the map itself stays")
}

// FuzzParseList: any bytes as a list of hosts end in a list of good hosts or in problems, within a second, and what
// was read is written out and read again as it was.
func FuzzParseList(f *testing.F) {
	for _, s := range []string{"host,label.role,setting.root\na,gate,/x\n", "host\n\"a",
		"- {host: a, labels: {x: y}}\n", `[{"host":"a","settings":{"b":"c"}}]`, "host,host\na,b\n", "\ufeffhost\na\n",
		"host,label.x\na,\"b\nc\"\n"} {
		for _, file := range []string{"x.csv", "x.yaml", "x.json"} {
			f.Add(file, []byte(s))
		}
	}
	f.Fuzz(func(t *testing.T, file string, text []byte) {
		began := time.Now()
		list, problems := ParseList(file, text)
		require.Less(t, time.Since(began), 2*time.Second)
		if len(problems) > 0 {
			return
		}
		var hosts []Host
		for _, c := range Compare(nil, list) {
			require.Empty(t, CheckName(c.Host))
			hosts = append(hosts, Host{Name: c.Host, Labels: Apply(nil, c.Labels), Settings: Apply(nil, c.Settings)})
		}
		var b writer
		require.NoError(t, WriteCSV(&b, hosts))
		again, problems := ParseList("x.csv", b)
		require.Empty(t, problems, "%s", b)
		for _, c := range Compare(hosts, again) {
			require.Equal(t, "same", c.What)
		}
	})
}

type writer []byte

func (w *writer) Write(p []byte) (int, error) {
	*w = append(*w, p...)
	return len(p), nil
}
