package notice

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/health"
)

func change(after time.Duration, host string, state health.State) Change {
	return Change{t0.Add(after), health.Trouble{Host: host, Source: "gates", Verdict: health.Verdict{State: state,
		Code: health.Silent, Reason: "silent", Since: t0.Add(after)}}}
}

func none(string) map[string]string { return nil }

func TestReplay(t *testing.T) {
	t.Parallel()
	day := 24 * time.Hour
	for name, c := range map[string]struct {
		when    string
		wait    time.Duration // the key for
		changes []Change
		told    string
	}{
		"nothing": {"true", 0, nil, ""},
		"begins and ends": {"true", 0, []Change{change(time.Hour, "a", health.Degraded), change(2*time.Hour, "a",
			health.Healthy)}, "begins at 1h0m0s, ends at 2h1m0s"},
		"long before": {"true", 0, []Change{change(-3*day, "a", health.Degraded)}, "begins at 0s"},
		"over before": {"true", 0, []Change{change(-3*day, "a", health.Degraded), change(-day, "a",
			health.Healthy)}, ""},
		"too short": {"true", 5 * time.Minute, []Change{change(time.Hour, "a", health.Degraded),
			change(time.Hour+4*time.Minute, "a", health.Healthy)}, ""},
		"one cause of two hosts": {"true", 0, []Change{change(time.Hour, "a", health.Degraded),
			change(2*time.Hour, "b", health.Degraded), change(3*time.Hour, "a", health.Healthy)}, "begins at 1h0m0s"},
		"another state": {`state == "failing"`, 0, []Change{change(time.Hour, "a", health.Degraded),
			change(2*time.Hour, "a", health.Failing)}, "begins at 2h0m0s"},
		"after a time":    {"age > 600.0", 0, []Change{change(time.Hour, "a", health.Degraded)}, "begins at 1h15m0s"},
		"just now":        {"true", 0, []Change{change(day-10*time.Second, "a", health.Degraded)}, "begins at 24h0m0s"},
		"after it":        {"true", 0, []Change{change(day+time.Second, "a", health.Degraded)}, ""},
		"between minutes": {"true", 0, []Change{change(time.Hour+30*time.Second, "a", health.Degraded)}, "begins at 1h1m0s"},
	} {
		r := rule(t, c.when)
		r.For = c.wait
		var told []string
		for _, m := range r.Replay(c.changes, none, t0, t0.Add(day)) {
			for _, i := range m.Items {
				told = append(told, fmt.Sprintf("%s at %s", i.What, m.At.Sub(t0)))
			}
		}
		assert.Equal(t, c.told, strings.Join(told, ", "), name)
	}
}

// TestReplayOfALargeFleet: a week of many changes of many hosts is told in seconds, and the changes of a cause that
// never ends cost nothing each minute.
func TestReplayOfALargeFleet(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(1, 9))
	var list []Change
	for i := range 10_000 {
		list = append(list, change(time.Duration(i)*time.Millisecond, fmt.Sprintf("h%05d", i), health.Degraded))
	}
	for range 2000 {
		state := []health.State{health.Healthy, health.Degraded}[rnd.IntN(2)]
		list = append(list, change(time.Duration(rnd.Int64N(int64(time.Hour))), fmt.Sprintf("h%05d",
			rnd.IntN(10_000)), state))
	}
	slices.SortStableFunc(list, func(a, b Change) int { return a.At.Compare(b.At) })
	began := time.Now()
	got := rule(t, `state == "degraded"`).Replay(list, none, t0, t0.Add(7*24*time.Hour))
	require.Len(t, got, 1, "all of it is one cause, which never ends")
	assert.Less(t, time.Since(began), time.Minute)
}
