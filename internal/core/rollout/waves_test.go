package rollout

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDivide: over random fleets and plans each host is in one wave, a wave has as many as it says while there are
// any, those that are there come first, and each beginning of a spread wave is as mixed as the fleet.
func TestDivide(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(3, 4))
	for range 500 {
		n := rnd.IntN(200)
		var all []Candidate
		present := 0
		for i := range n {
			c := Candidate{Host: fmt.Sprintf("h%03d", i), Present: rnd.IntN(5) > 0, Spread: []string{"np", "sm",
				"gp"}[rnd.IntN(3)]}
			if c.Present {
				present++
			}
			all = append(all, c)
		}
		p := Plan{Waves: []Wave{{Count: 1 + rnd.IntN(3)}, {Share: float64(1+rnd.IntN(30)) / 100}, {Where: "x"},
			{Rest: true}}}
		waves := p.Divide(all, func(_ int, host string) bool { return host[3] == '7' })
		require.Len(t, waves, n)
		size := map[int]int{}
		for _, w := range waves {
			size[w]++
		}
		want := min(p.Waves[0].Count, n)
		require.Equal(t, want, size[0])
		require.Equal(t, min(int(p.Waves[1].Share*float64(n)+0.999999), n-want), size[1])
		for _, c := range all {
			if waves[c.Host] < 2 && present >= size[0]+size[1] {
				require.True(t, c.Present, "those that are there come first")
			}
			if waves[c.Host] == 3 {
				require.NotEqual(t, byte('7'), c.Host[3])
			}
		}
	}
	var even []Candidate
	for i := range 90 {
		even = append(even, Candidate{Host: fmt.Sprintf("h%02d", i), Present: true, Spread: fmt.Sprint(i / 30),
			First: i == 44})
	}
	waves := Plan{Waves: []Wave{{Count: 1}, {Count: 8}, {Rest: true}}}.Divide(even, nil)
	assert.Equal(t, 0, waves["h44"], "the host that is to come first does")
	sites := map[string]int{}
	for _, c := range even {
		if waves[c.Host] < 2 {
			sites[c.Spread]++
		}
	}
	for site, n := range sites {
		assert.InDelta(t, 3, n, 1, site)
	}
}

func TestParseWave(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Wave{"1 host": {Count: 1}, "20 hosts": {Count: 20}, "5%": {Share: 0.05},
		"2.5%": {Share: 0.025}, "rest": {Rest: true}, `labels.site == "np"`: {Where: `labels.site == "np"`}} {
		got, err := ParseWave(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
		assert.Equal(t, text, got.String())
	}
	for _, text := range []string{"0 hosts", "-1 hosts", "0%", "101%", "NaN%", "some", "", "x%"} {
		_, err := ParseWave(text)
		assert.Error(t, err, text)
	}
}

// wavesOf starts a rollout of n hosts, of which the last is away, by a plan.
func wavesOf(p Plan, n int) (*State, Delta) {
	var all []Candidate
	for i := range n {
		all = append(all, Candidate{Host: string(rune('a' + i)), Present: i < n-1 || n == 1})
	}
	waves := p.Divide(all, func(int, string) bool { return false })
	var targets []Target
	for _, c := range all {
		targets = append(targets, Target{Host: c.Host, Hash: "h", Connected: c.Present, Wave: waves[c.Host],
			Running: "old"})
	}
	d := Start(Head{ID: 1, Revision: 3, Before: 2, Author: "ada", Plan: p}, targets, t0)
	return From(d), d
}

func proof(wave int, numbers map[string]float64) Event {
	all := map[string]float64{"failing": 0, "degraded_share": 0, "unparsed_share": 0}
	maps.Copy(all, numbers)
	return Event{Kind: Measured, Evidence: &Evidence{Wave: wave, Numbers: all, Enough: true}}
}

func whats(s *State) (out []string) {
	for _, d := range s.Decisions {
		out = append(out, d.What)
	}
	return out
}

func TestWaves(t *testing.T) {
	t.Parallel()
	s, first := wavesOf(Usual(), 6)
	assert.Equal(t, []Command{{Assign, "a", "h"}, {Offer, "a", "h"}}, first.Commands, "one host, and no other is told")
	now := t0.Add(time.Second)
	s, _ = steps(s, now, through("a")...)
	assert.Equal(t, Soaking, s.Phase)
	assert.Equal(t, now.Add(2*time.Minute), s.Until)
	s, cmds := steps(s, now.Add(time.Minute), proof(0, nil))
	assert.Empty(t, cmds, "it soaks on")
	now = now.Add(2 * time.Minute)
	s, cmds = steps(s, now, Event{Kind: Tick}, proof(0, nil))
	assert.Equal(t, []Command{{Assign, "b", "h"}, {Offer, "b", "h"}}, cmds, "5 % of six is one")
	assert.Equal(t, 1, s.Wave)
	assert.Equal(t, map[string]float64{"failing": 0, "degraded_share": 0, "unparsed_share": 0},
		s.Decisions[2].Numbers, "a decision is kept with its numbers")
	s, _ = steps(s, now, through("b")...)
	now = now.Add(3 * time.Minute)
	s, cmds = steps(s, now, Event{Kind: Tick})
	assert.Empty(t, cmds, "nothing is known of it")
	assert.Equal(t, Proving, s.Phase)
	s, cmds = steps(s, now, proof(1, map[string]float64{"degraded_share": 0.05}))
	assert.Len(t, cmds, 6, "the rest that is there")
	s, _ = steps(s, now, append(append(through("c"), through("d")...), through("e")...)...)
	now = now.Add(2 * time.Minute)
	s, _ = steps(s, now, proof(2, nil))
	assert.Equal(t, Done, s.Status)
	assert.Equal(t, []string{"started", "wave", "passed", "wave", "passed", "wave", "passed", "done"},
		whats(s))
	_, cmds = steps(s, now.Add(400*time.Hour), Event{Kind: Connected, Host: "f"})
	assert.Equal(t, []Command{{Assign, "f", "h"}, {Offer, "f", "h"}}, cmds, "it catches up weeks later")
}

func TestGateStops(t *testing.T) {
	t.Parallel()
	s, _ := wavesOf(Usual(), 6)
	s, _ = steps(s, t0, through("a")...)
	s, cmds := steps(s, t0.Add(time.Second), proof(0, map[string]float64{"failing": 1}))
	assert.Empty(t, cmds)
	assert.Equal(t, Stopped, s.Status)
	last := s.Decisions[len(s.Decisions)-1]
	assert.Equal(t, "gate", last.What)
	assert.Equal(t,
		"wave 1: degraded_share 0, failing 1, unparsed_share 0, and the plan stops when "+Usual().StopWhen, last.Why)
	s, cmds = steps(s, t0.Add(time.Hour), Event{Kind: Connected, Host: "f"}, Event{Kind: Disconnected, Host: "b"},
		Event{Kind: Connected, Host: "b"}, Event{Kind: Tick})
	assert.Empty(t, cmds, "a stopped rollout tells nobody")

	again, cmds := steps(s, t0.Add(time.Hour), Event{Kind: Resume, Who: "ada"})
	assert.Equal(t, Running, again.Status)
	assert.Equal(t, Soaking, again.Phase, "it soaks anew")
	assert.Empty(t, cmds)

	s, _ = wavesOf(Usual(), 6)
	s, _ = steps(s, t0, Event{Kind: Sent, Host: "a"}, Event{Kind: TakenBack, By: 2})
	assert.Equal(t, 2, s.TakenBackBy)
	assert.Equal(t, map[HostState]int{LeftOut: 6}, s.Counts())
	for _, kind := range []EventKind{Pause, Resume, Stop, TakenBack, SkipSoak, Approve, Retry} {
		assert.ErrorIs(t, s.May(Event{Kind: kind}), ErrNot)
	}
}

func TestEvidenceLacks(t *testing.T) {
	t.Parallel()
	s, _ := wavesOf(Usual(), 6)
	s, _ = steps(s, t0, through("a")...)
	unknown := Event{Kind: Measured, Evidence: &Evidence{Numbers: map[string]float64{"failing": 0,
		"degraded_share": 0},
		Enough: true}}
	s, _ = steps(s, t0.Add(2*time.Minute), unknown)
	assert.Equal(t, Proving, s.Phase)
	assert.Equal(t, "not known: degraded_share 0, failing 0, unparsed_share not known", s.Asks)
	s, _ = steps(s, t0.Add(2*time.Minute+Patience), unknown)
	assert.Equal(t, Asking, s.Phase)
	require.ErrorIs(t, s.May(Event{Kind: SkipSoak}), ErrNot)
	s, cmds := steps(s, t0.Add(time.Hour), Event{Kind: Approve, Who: "ada", Reason: "it is night"})
	assert.Len(t, cmds, 2)
	assert.Equal(t, "wave 1: it is night", s.Decisions[len(s.Decisions)-2].Why)
	assert.Equal(t, "ada", s.Decisions[len(s.Decisions)-2].Who)
}

func TestApproveAtOnceAndAbsent(t *testing.T) {
	t.Parallel()
	p := Plan{Waves: []Wave{{Count: 1}, {Rest: true}}, AtOnce: 2, Approve: []int{2}, Absent: LeaveOut}
	s, _ := wavesOf(p, 6)
	s, cmds := steps(s, t0, through("a")...)
	assert.Empty(t, cmds, "a person lets the second wave begin")
	assert.Equal(t, Asking, s.Phase)
	assert.Equal(t, "the plan wants wave 2 approved; it changes 4 hosts", s.Asks)
	assert.Equal(t, LeftOut, s.state("f"), "it was away when its wave began")
	s, cmds = steps(s, t0, Event{Kind: Approve, Who: "ada"})
	assert.Len(t, cmds, 4, "two at once")
	s, cmds = steps(s, t0, through("b")...)
	assert.Equal(t, []Command{{Assign, "d", "h"}, {Offer, "d", "h"}}, cmds)
	s, _ = steps(s, t0, append(append(through("c"), through("d")...), through("e")...)...)
	assert.Equal(t, Done, s.Status)
}

func TestNobodyThere(t *testing.T) {
	t.Parallel()
	p := Usual()
	p.Waves = []Wave{{Where: "x"}, {Rest: true}}
	waves := map[string]int{"a": 0, "b": 1, "c": 1}
	var targets []Target
	for name, w := range waves {
		targets = append(targets, Target{Host: name, Hash: "h", Wave: w, Connected: name != "a"})
	}
	s := From(Start(Head{Plan: p}, targets, t0))
	assert.Equal(t, Asking, s.Phase)
	assert.Equal(t, "none of its 1 host is there, so nothing is known of it", s.Asks)
	s, cmds := steps(s, t0, Event{Kind: Connected, Host: "a"})
	assert.Empty(t, cmds)
	s, cmds = steps(s, t0, Event{Kind: Approve, Who: "ada"})
	assert.Equal(t, []Command{{Assign, "a", "h"}, {Offer, "a", "h"}}, cmds, "it has come meanwhile")
	assert.Equal(t, 0, s.Wave)
}

// TestWindows: a window opens and closes by the clock of its zone, as looking at each minute tells, through both clock
// changes.
func TestWindows(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"Mon-Thu 09:00-16:00 Europe/Lisbon", "Sun 01:10-02:00 Europe/Lisbon",
		"Sat,Sun 22:00-04:30 America/St_Johns", "Fri-Mon 00:00-24:00 Asia/Kathmandu",
		"Sun 02:00-02:30 Europe/Berlin"} {
		w, err := ParseWindow(text)
		require.NoError(t, err)
		for _, from := range []time.Time{time.Date(2031, 3, 28, 0, 0, 0, 0, time.UTC), time.Date(2031, 10, 24, 0,
			0, 0, 0, time.UTC)} {
			for m := 0; m < 3*24*60; m += 97 {
				at := from.Add(time.Duration(m) * time.Minute)
				next := w.Next(at)
				require.True(t, w.Open(next), text)
				for x := at; x.Before(next.Add(-time.Minute)); x = x.Add(time.Minute) {
					require.False(t, w.Open(x), "%s at %s", text, x)
				}
			}
		}
	}
	for _, text := range []string{"", "Mon 09:00-16:00", "Mon 09:00-16:00 Nowhere/At", "Mon 9-16 Europe/Lisbon",
		"Moon 09:00-16:00 Europe/Lisbon", "Mon 09:00-09:00 Europe/Lisbon", "Mon 24:00-09:00 Europe/Lisbon",
		"Mon 09:00-16:00 Local"} {
		_, err := ParseWindow(text)
		assert.Error(t, err, text)
	}
	p := OneWave()
	p.Window = "Mon-Thu 09:00-16:00 Europe/Lisbon"
	s, d := wavesOf(p, 3) // 06:00 on a Wednesday
	assert.Empty(t, d.Commands)
	assert.Equal(t, Closed, s.Phase)
	assert.Equal(t, time.Date(2031, 4, 2, 8, 0, 0, 0, time.UTC), s.Until)
	_, cmds := steps(s, s.Until, Event{Kind: Tick})
	assert.Len(t, cmds, 4)
}

// TestRandomWaves: over random plans and events no host is told before its wave begins, no wave begins before the one
// before it has passed, never more change at once than may, all decisions say why, and a restart goes on the same.
func TestRandomWaves(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(5, 6))
	phases, statuses := map[Phase]bool{}, map[Status]bool{}
	for range 1000 {
		p := Plan{Waves: []Wave{{Count: 1 + rnd.IntN(2)}, {Share: 0.3}, {Rest: true}}, AtOnce: rnd.IntN(4),
			Soak: time.Duration(rnd.IntN(3)) * time.Minute, Absent: []string{CatchUp, LeaveOut}[rnd.IntN(2)]}
		if rnd.IntN(3) > 0 {
			p.StopWhen = "failing > 0 || unparsed_share > 0.2"
		}
		if rnd.IntN(3) == 0 {
			p.Approve = []int{2}
		}
		n := 2 + rnd.IntN(8)
		s, first := wavesOf(p, n)
		now, told := t0, map[string]int{}
		check := func(d Delta, retried bool) {
			open := 0
			for _, c := range d.Commands {
				h, _ := s.Host(c.Host)
				if c.Kind == Assign {
					told[c.Host]++
					require.LessOrEqual(t, h.Wave, s.Wave, "no host is told before its wave begins")
					require.True(t, retried || told[c.Host] == 1, "each host once")
				}
			}
			counts := map[HostState]int{}
			for _, h := range s.Hosts() {
				counts[h.State]++
				if h.open() {
					open++
				}
				require.Equal(t, h.Told, told[h.Name] > 0)
			}
			require.Equal(t, counts, s.Counts())
			require.True(t, len(d.Commands) == 0 || d.Commands[0].Kind != Assign || p.AtOnce == 0 || retried ||
				open <= p.AtOnce)
			for _, x := range d.Decisions {
				require.NotEmpty(t, x.Why)
			}
		}
		check(first, false)
		retried := false
		for range 40 {
			now = now.Add(time.Duration(rnd.IntN(60)) * time.Second)
			e := Event{Kind: EventKind(rnd.IntN(int(Skip) + 1)), Host: string(rune('a' + rnd.IntN(n))), Who: "ada",
				By: 2, Reason: "x"}
			if e.Kind == Gone || e.Kind == TakenBack || e.Kind == Stop || e.Kind == Skip {
				if rnd.IntN(10) > 0 {
					e.Kind = Reported
				}
			}
			if e.Kind == Measured {
				e = proof(rnd.IntN(s.Wave+1), map[string]float64{"failing": float64(rnd.IntN(8) / 7)})
				e.Evidence.Enough = rnd.IntN(3) > 0
			}
			if rnd.IntN(3) > 0 { // most go well
				e = through(string(rune('a' + rnd.IntN(n))))[rnd.IntN(4)]
			}
			if e.Kind == Changed {
				e.Hash = "h"
			}
			if e.Kind == Retry {
				e.Host = ""
			}
			may := e.Kind < Pause || s.May(e) == nil
			was := *s
			counted(t, s, []Event{e}, now)
			d := s.Decide([]Event{e}, now)
			require.Equal(t, d, s.Decide([]Event{e}, now), "deciding changes nothing")
			if !may {
				for _, x := range d.Decisions {
					require.Empty(t, x.Who)
				}
			}
			s.Apply(d)
			retried = retried || e.Kind == Retry && may
			check(d, retried)
			if s.Wave > was.Wave && p.StopWhen != "" && len(was.Watched(was.Wave)) > 0 {
				passed := slices.ContainsFunc(d.Decisions, func(x Decision) bool {
					return x.What == "passed" && x.Numbers != nil || x.What == "approved" || x.What == "soak skipped"
				})
				require.True(t, passed, "no wave begins before the one before it has passed")
			}
			phases[s.Phase], statuses[s.Status] = true, true
			if rnd.IntN(4) == 0 { // the service restarts on what was written
				again := From(Delta{Head: s.Head, New: true, Hosts: s.Hosts(), Decisions: s.Decisions})
				require.Equal(t, s.Head, again.Head)
				require.Equal(t, s.WaveCounts(), again.WaveCounts())
				s = again
			}
		}
	}
	assert.Len(t, phases, 4, "all but the window")
	assert.Len(t, statuses, 4)
}
