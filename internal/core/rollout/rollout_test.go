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

var t0 = time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)

func start() *State {
	first := Start(
		Head{ID: 1, Revision: 3, Author: "ada", Plan: OneWave()},
		[]Target{
			{Host: "a", Hash: "h", Connected: true},
			{Host: "b", Hash: "h", Connected: true},
			{Host: "c", Hash: "h"},
			{Host: "d", Hash: "h", Connected: true, Running: "h"},
		},
		t0,
	)
	if !slices.Equal(
		first.Commands,
		[]Command{
			{Assign, "d", "h"},
			{Assign, "a", "h"},
			{Offer, "a", "h"},
			{Assign, "b", "h"},
			{Offer, "b", "h"},
		},
	) {
		panic("those who are there are assigned it, and offers go to those who do not run it")
	}
	return From(first)
}

// steps takes events, each for itself or all at once; both must come to the same.
func steps(s *State, now time.Time, events ...Event) (*State, []Command) {
	var all []Command
	for _, e := range events {
		d := s.Decide([]Event{e}, now)
		s.Apply(d)
		all = append(all, d.Commands...)
	}
	return s, all
}

func (s *State) state(host string) HostState { return s.hosts[host].State }

func through(host string) []Event {
	return []Event{
		{Kind: Sent, Host: host, Hash: "h"},
		{Kind: Taken, Host: host, Hash: "h"},
		{Kind: RunsIt, Host: host, Hash: "h"},
		{Kind: Reported, Host: host, Hash: "h"},
	}
}

func TestAllWell(t *testing.T) {
	t.Parallel()
	s := start()
	assert.Equal(t, map[HostState]int{Waiting: 2, Deferred: 1, Confirmed: 1}, s.Counts())
	want := []HostState{Offered, Applying, Applied, Confirmed}
	for i, e := range through("a") {
		s, _ = steps(s, t0, e)
		assert.Equal(t, want[i], s.state("a"))
	}
	assert.Equal(t, Running, s.Status)
	s, _ = steps(s, t0.Add(time.Second), through("b")...)
	assert.Equal(t, Done, s.Status)
	assert.Equal(t, t0.Add(time.Second), s.Ended)
	assert.Equal(t, "3 confirmed, 1 away and catching up later", s.Decisions[len(s.Decisions)-1].Why)

	s, cmds := steps(s, t0.Add(time.Hour), Event{Kind: Connected, Host: "c"})
	assert.Equal(t, []Command{{Assign, "c", "h"}, {Offer, "c", "h"}}, cmds,
		"who was away is offered it when it comes back")
	s, _ = steps(s, t0.Add(time.Hour), through("c")...)
	assert.Equal(t, map[HostState]int{Confirmed: 4}, s.Counts())
	assert.Equal(t, Done, s.Status)
}

func TestTrouble(t *testing.T) {
	t.Parallel()
	s, _ := steps(start(), t0, through("a")...)
	s, _ = steps(s, t0, Event{Kind: CannotRun, Host: "b", Hash: "h", Reason: "no such folder"})
	assert.Equal(t, Stopped, s.Status)
	assert.Equal(t, "no such folder", s.hosts["b"].Reason)

	s, _ = steps(start(), t0, through("a")...)
	s, _ = steps(s, t0.Add(DefaultPatience), Event{Kind: Tick})
	assert.Equal(t, Running, s.Status)
	s, _ = steps(s, t0.Add(DefaultPatience+time.Second), Event{Kind: Tick})
	assert.Equal(t, TimedOut, s.state("b"))
	assert.Equal(t, Stopped, s.Status)
	late, _ := steps(s, t0.Add(time.Hour), Event{Kind: Taken, Host: "b", Hash: "h"}, Event{Kind: Tick})
	assert.Equal(t, Applying, late.state("b"), "a late answer gets new patience")
	s, _ = steps(s, t0.Add(time.Hour), through("b")...)
	assert.Equal(t, Confirmed, s.state("b"), "a late answer counts for the host")
	assert.Equal(t, Stopped, s.Status, "but what was decided stays decided")

	s, _ = steps(start(), t0, append(through("a"), Event{Kind: Disconnected, Host: "b"})...)
	assert.Equal(t, Done, s.Status)
	assert.Equal(t, Deferred, s.state("b"))

	s, _ = steps(start(), t0, append(through("a"), Event{Kind: Gone, Host: "b", Reason: "retired"})...)
	assert.Equal(t, LeftOut, s.state("b"))
	assert.Equal(t, Done, s.Status)
}

func TestOtherConfigsDoNotCount(t *testing.T) {
	t.Parallel()
	d := start().Decide([]Event{{Kind: RunsIt, Host: "a", Hash: "old"}, {Kind: CannotRun, Host: "a", Hash: "old"}, {
		Kind: RunsIt, Host: "zz", Hash: "h"}}, t0)
	assert.True(t, d.Empty())
}

// TestAgainstPlain: over random events, in batches of any size, Decide and Apply come to what the plain rollout comes
// to; Decide changes nothing; a state that was written down and read goes on the same; running counts are what
// counting gives.
func TestAgainstPlain(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(1, 2))
	kinds := map[HostState]bool{}
	for range 2000 {
		n := 1 + rnd.IntN(6)
		var targets []Target
		for i := range n {
			targets = append(
				targets,
				Target{
					Host:      string(rune('a' + i)),
					Hash:      "h",
					Connected: rnd.IntN(4) > 0,
					Running:   []string{"h", "x"}[rnd.IntN(8)/7],
				},
			)
		}
		first := Start(Head{ID: 1, Revision: 3, Author: "ada", Plan: OneWave()}, targets, t0)
		s := From(first)
		p := &plain{status: first.Status, hosts: map[string]Host{}, decisions: first.Decisions, ended: first.Ended}
		for _, h := range first.Hosts {
			p.hosts[h.Name] = h
		}
		written := map[string]Host{}
		decisions := slices.Clone(first.Decisions)
		for _, h := range first.Hosts {
			written[h.Name] = h
		}
		now := t0
		for range 15 {
			now = now.Add(time.Duration(rnd.IntN(60)) * time.Second)
			var events []Event
			for range 1 + rnd.IntN(5) {
				events = append(
					events,
					Event{
						Kind:   EventKind(rnd.IntN(9)),
						Host:   string(rune('a' + rnd.IntN(n+1))),
						Hash:   []string{"h", "h", "old", ""}[rnd.IntN(4)],
						Reason: "why",
					},
				)
			}
			var want []Command
			for _, e := range events {
				want = append(want, p.step(e, now)...)
			}
			counted(t, s, events, now)
			d := s.Decide(events, now)
			require.Equal(t, d, s.Decide(events, now), "deciding changes nothing")
			require.ElementsMatch(t, want, d.Commands)
			require.Equal(t, len(decisions), d.Decided)
			for _, h := range d.Hosts {
				require.NotEqual(t, written[h.Name], h, "only what changes is written")
				written[h.Name] = h
			}
			decisions = append(decisions, d.Decisions...)
			if rnd.IntN(3) == 0 { // the service restarts on what was written
				s = From(
					Delta{
						Head:      d.Head,
						New:       true,
						Hosts:     slices.Collect(maps.Values(written)),
						Decisions: decisions,
					},
				)
			} else {
				s.Apply(d)
			}
			got := map[string]Host{}
			counts := map[HostState]int{}
			for _, h := range s.Hosts() {
				got[h.Name] = h
				counts[h.State]++
				kinds[h.State] = true
			}
			require.Equal(t, p.hosts, got)
			require.Equal(t, counts, s.Counts())
			require.Equal(t, p.status, s.Status)
			require.Equal(t, p.ended, s.Ended)
			require.Equal(t, p.decisions, s.Decisions)
			require.LessOrEqual(t, len(s.deadlines), 2*n+16)
		}
	}
	assert.Len(t, kinds, 9, "all states came up")
}

func TestNobody(t *testing.T) {
	t.Parallel()
	d := Start(Head{ID: 1}, nil, t0)
	assert.Empty(t, d.Commands)
	assert.Equal(t, Done, d.Status)
}

// TestCostFollowsTheEvent: at fifty times the hosts an event costs no more allocations.
func TestCostFollowsTheEvent(t *testing.T) { // not parallel: it counts allocations
	allocs := func(hosts int) float64 {
		s := From(Start(Head{ID: 1, Plan: OneWave()}, Fleet(hosts), t0))
		return testing.AllocsPerRun(200, func() {
			d := s.Decide([]Event{{Kind: Sent, Host: "host-00007", Hash: "h"}, {Kind: Tick}}, t0.Add(time.Second))
			s.Apply(d)
		})
	}
	assert.LessOrEqual(t, allocs(50_000), allocs(1000)+1)
}

// Fleet makes targets.
func Fleet(n int) (out []Target) {
	for i := range n {
		out = append(out, Target{Host: fmt.Sprintf("host-%05d", i), Hash: "h", Connected: true})
	}
	return out
}

// counted holds the counts that a decision went by against those of the state that it comes to.
func counted(t *testing.T, s *State, events []Event, now time.Time) {
	t.Helper()
	m := s.decide(events, now)
	after := make([]wave, len(s.waves))
	for i := range after {
		after[i] = wave{counts: map[HostState]int{}, at: s.waves[i].at}
	}
	for name, h := range s.hosts {
		x, _ := m.host(name)
		if !h.Same() {
			after[h.Wave].count(x, 1)
		}
	}
	for i, w := range m.waves {
		require.Equal(t, after[i].queued, w.queued, "hosts of wave %d that are there and were not told", i)
		require.Equal(t, after[i].open, w.open, "hosts of wave %d that are waited for", i)
		for state, n := range w.counts {
			require.Equal(t, after[i].counts[state], n, "hosts of wave %d that are %s", i, state)
		}
	}
}

// TestEventsCostTheSame: what it costs when a host comes back, or when its confirmation lets another one change, does
// not grow with the fleet.
func TestEventsCostTheSame(t *testing.T) {
	for name, c := range map[string]struct {
		atOnce int
		there  bool
		event  EventKind
	}{
		"hosts come back":              {event: Connected},
		"hosts change a few at a time": {atOnce: 5, there: true, event: Reported},
	} {
		t.Run(name, func(t *testing.T) {
			each := func(n int) time.Duration {
				var targets []Target
				for i := range n {
					targets = append(targets, Target{Host: fmt.Sprintf("h%05d", i), Hash: "new", Running: "old",
						Connected: c.there})
				}
				now := time.Unix(0, 0)
				plan := OneWave()
				plan.AtOnce = c.atOnce
				s := From(Start(Head{ID: 1, Revision: 2, Plan: plan}, targets, now))
				s.Apply(s.Decide([]Event{{Kind: Tick}}, now))
				began := now
				for i := range n - 10 {
					if i == n-1010 {
						began = time.Now()
					}
					h := targets[(i*7919)%n].Host
					if c.there { // they are told in their order
						h = targets[i].Host
						s.Apply(s.Decide([]Event{{Kind: RunsIt, Host: h, Hash: "new"}}, now))
					}
					d := s.Decide([]Event{{Kind: c.event, Host: h}}, now)
					require.Len(t, d.Commands, 2, "a host is assigned its config and offered it")
					s.Apply(d)
				}
				return time.Since(began) / 1000
			}
			best := func(n int) time.Duration { return min(each(n), each(n), each(n)) }
			few, many := best(2000), best(20_000)
			assert.Less(t, many, 5*few+20*time.Microsecond, "%s of 2,000 hosts, %s of 20,000", few, many)
		})
	}
}
