package numbers

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/series"
)

// TestClockSetBack: what hosts count while the clock of the service is set back is counted all the same.
func TestClockSetBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t, time.Date(2031, 3, 10, 6, 0, 10, 0, time.UTC))
	begin := w.at.Add(-time.Hour)
	for _, back := range []time.Duration{0, 20 * time.Second, 20 * time.Minute, 2 * time.Hour} {
		w.at = w.at.Add(-back)
		w.take("na", counted(5, 5, 0), counted(5, 5, 0))
		w.at = w.at.Add(back)
	}
	w.at = w.at.Add(10 * time.Minute)
	a := w.ask(Question{From: begin, Numbers: []string{series.Read}})
	require.Len(t, a.Lines, 1)
	assert.Equal(t, int64(20), a.Lines[0].Sum())
}

// TestHostsMove: what waits on a host counts for the site that the host has, and no more for one that it had; what
// waited on a host that is no more counts for none.
func TestHostsMove(t *testing.T) {
	t.Parallel()
	w := newWorld(t, time.Date(2031, 3, 10, 6, 0, 10, 0, time.UTC))
	site := "n"
	w.now.Labels(func(host string) map[string]string {
		return map[string]string{"site": map[string]string{"moves": site, "stays": "n", "other": "s"}[host]}
	})
	waiting := func() map[string]int64 {
		out := map[string]int64{}
		q := Question{From: w.at.Add(-20 * time.Second), Step: 30 * time.Second, By: "site",
			Numbers: []string{series.Waiting}}
		for _, l := range w.ask(q).Lines {
			out[l.Group] = l.Points[len(l.Points)-1]
		}
		return out
	}
	all := func() {
		for host, n := range map[string]int64{"moves": 10, "stays": 1, "other": 2} {
			w.take(host, nil, counted(0, 0, n))
		}
	}
	all()
	assert.Equal(t, map[string]int64{"n": 11, "s": 2}, waiting())
	site, w.at = "s", w.at.Add(time.Minute)
	all()
	w.at = w.at.Add(time.Minute)
	all()
	assert.Equal(t, map[string]int64{"n": 1, "s": 12}, waiting())
	w.now.Forget("moves")
	w.at = w.at.Add(time.Minute)
	w.take("other", nil, counted(0, 0, 2))
	w.take("stays", nil, counted(0, 0, 1))
	assert.Equal(t, map[string]int64{"n": 1, "s": 2}, waiting())
}
