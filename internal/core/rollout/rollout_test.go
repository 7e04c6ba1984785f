package rollout

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var t0 = time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)

func start() State {
	s, cmds := Start(1, 3, []Target{{Host: "a", Hash: "h", Connected: true}, {Host: "b", Hash: "h", Connected: true}, {Host: "c", Hash: "h"}, {Host: "d", Hash: "h", Connected: true, Running: "h"}}, t0)
	slices.SortFunc(cmds, func(x, y Command) int { return int(x.Host[0]) - int(y.Host[0]) })
	if !slices.Equal(cmds, []Command{{"a", "h"}, {"b", "h"}}) {
		panic("offers go to those who are there and do not run it")
	}
	return s
}

func steps(s State, now time.Time, events ...Event) (State, []Command) {
	var all []Command
	for _, e := range events {
		var c []Command
		s, c = Step(s, e, now)
		all = append(all, c...)
	}
	return s, all
}

func through(host string) []Event {
	return []Event{{Kind: Sent, Host: host, Hash: "h"}, {Kind: Taken, Host: host, Hash: "h"}, {Kind: RunsIt, Host: host, Hash: "h"}, {Kind: Reported, Host: host, Hash: "h"}}
}

func TestAllWell(t *testing.T) {
	t.Parallel()
	s := start()
	assert.Equal(t, map[string]int{Waiting: 2, Deferred: 1, Confirmed: 1}, s.Counts())
	want := []string{Offered, Applying, Applied, Confirmed}
	for i, e := range through("a") {
		s, _ = Step(s, e, t0)
		assert.Equal(t, want[i], s.Hosts["a"].State)
	}
	assert.Equal(t, Running, s.Status)
	s, _ = steps(s, t0.Add(time.Second), through("b")...)
	assert.Equal(t, Done, s.Status)
	assert.Equal(t, t0.Add(time.Second), s.Ended)
	assert.Equal(t, "3 confirmed, 1 away and catching up later", s.Decisions[len(s.Decisions)-1].Why)

	s, cmds := Step(s, Event{Kind: Connected, Host: "c"}, t0.Add(time.Hour))
	assert.Equal(t, []Command{{"c", "h"}}, cmds, "who was away is offered it when it comes back")
	s, _ = steps(s, t0.Add(time.Hour), through("c")...)
	assert.Equal(t, map[string]int{Confirmed: 4}, s.Counts())
	assert.Equal(t, Done, s.Status)
}

func TestTrouble(t *testing.T) {
	t.Parallel()
	s, _ := steps(start(), t0, through("a")...)
	s, _ = Step(s, Event{Kind: CannotRun, Host: "b", Hash: "h", Reason: "no such folder"}, t0)
	assert.Equal(t, Stopped, s.Status)
	assert.Equal(t, "no such folder", s.Hosts["b"].Reason)

	s, _ = steps(start(), t0, through("a")...)
	s, _ = Step(s, Event{Kind: Tick}, t0.Add(DefaultPatience))
	assert.Equal(t, Running, s.Status)
	s, _ = Step(s, Event{Kind: Tick}, t0.Add(DefaultPatience+time.Second))
	assert.Equal(t, TimedOut, s.Hosts["b"].State)
	assert.Equal(t, Stopped, s.Status)
	s, _ = steps(s, t0.Add(time.Hour), through("b")...)
	assert.Equal(t, Confirmed, s.Hosts["b"].State, "a late answer counts for the host")
	assert.Equal(t, Stopped, s.Status, "but what was decided stays decided")

	s, _ = steps(start(), t0, append(through("a"), Event{Kind: Disconnected, Host: "b"})...)
	assert.Equal(t, Done, s.Status)
	assert.Equal(t, Deferred, s.Hosts["b"].State)

	s, _ = steps(start(), t0, append(through("a"), Event{Kind: Gone, Host: "b", Reason: "retired"})...)
	assert.Equal(t, LeftOut, s.Hosts["b"].State)
	assert.Equal(t, Done, s.Status)
}

func TestOtherConfigsDoNotCount(t *testing.T) {
	t.Parallel()
	s := start()
	next, _ := steps(s, t0, Event{Kind: RunsIt, Host: "a", Hash: "old"}, Event{Kind: CannotRun, Host: "a", Hash: "old"}, Event{Kind: RunsIt, Host: "zz", Hash: "h"})
	assert.Equal(t, s, next)
}

// TestStepIsPure: the given state is never changed, and a state that went to disk and back goes on the same.
func TestStepIsPure(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(1, 2))
	for range 200 {
		s := start()
		for i := range 40 {
			before, err := json.Marshal(s)
			require.NoError(t, err)
			var copied State
			require.NoError(t, json.Unmarshal(before, &copied))
			e := Event{Kind: EventKind(rnd.IntN(9)), Host: string(rune('a' + rnd.IntN(4))), Hash: "h"}
			now := t0.Add(time.Duration(i) * 10 * time.Second)
			next, _ := Step(s, e, now)
			again, _ := Step(copied, e, now)
			after, err := json.Marshal(s)
			require.NoError(t, err)
			require.Equal(t, string(before), string(after))
			x, _ := json.Marshal(next)
			y, _ := json.Marshal(again)
			require.JSONEq(t, string(x), string(y))
			if s.Status != Running {
				require.Equal(t, s.Status, next.Status, "an ended rollout does not begin again")
			}
			s = next
		}
	}
}

func TestNobody(t *testing.T) {
	t.Parallel()
	s, cmds := Start(1, 1, nil, t0)
	assert.Empty(t, cmds)
	assert.Equal(t, Done, s.Status)
}
