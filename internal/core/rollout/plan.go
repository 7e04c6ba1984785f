package rollout

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// What a plan does when it stops, and with hosts that are away when their wave begins.
const (
	Hold     = "hold"      // it waits for a person
	GoBack   = "go-back"   // the hosts that changed get what they had
	CatchUp  = "catch-up"  // they get it when they come back
	LeaveOut = "leave-out" // they keep what they have
)

// Plan says how a rollout goes.
type Plan struct {
	Name     string        `json:"name"`
	Waves    []Wave        `json:"waves"`
	SpreadBy string        `json:"spreadBy,omitempty"` // a label
	AtOnce   int           `json:"atOnce,omitempty"`   // how many hosts change at any time; 0 for any
	Soak     time.Duration `json:"soak,omitempty"`
	Approve  []int         `json:"approve,omitempty"` // waves that a person lets begin, from 1
	StopWhen string        `json:"stopWhen,omitempty"`
	OnStop   string        `json:"onStop,omitempty"` // Hold when empty
	Window   string        `json:"window,omitempty"`
	Absent   string        `json:"absent,omitempty"` // CatchUp when empty
}

// Wave says which hosts a wave takes: so many, a share of all, those that meet a condition, or the rest.
type Wave struct {
	Count int     `json:"count,omitempty"`
	Share float64 `json:"share,omitempty"` // above 0, at most 1
	Where string  `json:"where,omitempty"`
	Rest  bool    `json:"rest,omitempty"`
}

// String is the wave as a plan says it.
func (w Wave) String() string {
	switch {
	case w.Rest:
		return "rest"
	case w.Where != "":
		return w.Where
	case w.Share > 0:
		return strconv.FormatFloat(100*w.Share, 'g', 6, 64) + "%"
	case w.Count == 1:
		return "1 host"
	}
	return fmt.Sprintf("%d hosts", w.Count)
}

// ParseWave reads a wave of a plan. What is no number, share or rest is a condition, which is not checked here.
func ParseWave(text string) (Wave, error) {
	text = strings.TrimSpace(text)
	if text == "rest" {
		return Wave{Rest: true}, nil
	}
	if n, ok := strings.CutSuffix(strings.TrimSuffix(text, "s"), " host"); ok {
		if v, err := strconv.Atoi(n); err == nil {
			if v <= 0 {
				return Wave{}, errors.New("a wave of no hosts would never begin; say 1 host or more")
			}
			return Wave{Count: v}, nil
		}
	}
	if n, ok := strings.CutSuffix(text, "%"); ok {
		v, err := strconv.ParseFloat(n, 64)
		switch {
		case err != nil:
		case v <= 0 || v > 100 || math.IsNaN(v):
			return Wave{}, errors.New("a share must be above 0 and at most 100 %")
		default:
			return Wave{Share: v / 100}, nil
		}
	}
	if !strings.ContainsAny(text, "=<>(\"'!") {
		return Wave{}, fmt.Errorf("%q is no wave: say 1 host, 20 hosts, 5%%, rest, or a condition over hosts", text)
	}
	return Wave{Where: text}, nil
}

// Usual is the plan where none is said.
func Usual() Plan {
	return Plan{
		Name:     "usual",
		Waves:    []Wave{{Count: 1}, {Share: 0.05}, {Rest: true}},
		Soak:     2 * time.Minute,
		StopWhen: "failing > 0 || degraded_share > 0.05 || unparsed_share > 0.2",
		OnStop:   GoBack,
	}
}

// OneWave is a plan that brings all hosts to it at once and asks nothing.
func OneWave() Plan { return Plan{Name: "one-wave", Waves: []Wave{{Rest: true}}} }

// Candidate is a host that a rollout changes.
type Candidate struct {
	Host    string
	Present bool
	Spread  string // the value of the label that waves are spread by
	First   bool   // it comes before all others
}

// Divide tells the wave of each host, from 0. Counts and shares take hosts that are there before those that are away,
// spread over the values of a label, by name otherwise; a share is one of all hosts, and one host at least. in tells
// whether a host meets the condition of a wave.
func (p Plan) Divide(all []Candidate, in func(wave int, host string) bool) map[string]int {
	left := spread(all)
	out := make(map[string]int, len(all))
	for i, w := range p.Waves {
		n := 0
		switch {
		case w.Rest:
			n = len(left)
		case w.Where != "":
			left = slices.DeleteFunc(left, func(c Candidate) bool {
				if in(i, c.Host) {
					out[c.Host] = i
					return true
				}
				return false
			})
		case w.Share > 0:
			n = int(math.Ceil(w.Share*float64(len(all)) - 1e-9))
		default:
			n = w.Count
		}
		n = min(n, len(left))
		for _, c := range left[:n] {
			out[c.Host] = i
		}
		left = left[n:]
	}
	return out
}

// spread orders hosts: the first first, then those that are there, each so that any beginning of the list has about as
// large a share of each value as all of it.
func spread(all []Candidate) []Candidate {
	type ranked struct {
		Candidate
		at float64
	}
	sorted := slices.SortedFunc(slices.Values(all), func(a, b Candidate) int { return cmp.Compare(a.Host, b.Host) })
	type group struct {
		value   string
		present bool
	}
	size, seen := map[group]int{}, map[group]int{}
	for _, c := range sorted {
		size[group{c.Spread, c.Present}]++
	}
	list := make([]ranked, 0, len(all))
	for _, c := range sorted {
		g := group{c.Spread, c.Present}
		list = append(list, ranked{c, (float64(seen[g]) + 0.5) / float64(size[g])})
		seen[g]++
	}
	yes := func(b bool) int {
		if b {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(list, func(a, b ranked) int {
		return cmp.Or(cmp.Compare(yes(a.First), yes(b.First)), cmp.Compare(yes(a.Present), yes(b.Present)),
			cmp.Compare(a.at, b.at))
	})
	out := make([]Candidate, len(list))
	for i, r := range list {
		out[i] = r.Candidate
	}
	return out
}
