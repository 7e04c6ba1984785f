package numbers

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/series"
	"synaxis/internal/core/wire"
)

// TestExplain: where the format of the hosts of one site breaks, the moment, the hosts and their label are found, for
// a share as for how much there is; what goes as it went has no such moment.
func TestExplain(t *testing.T) {
	t.Parallel()
	w := newWorld(t, time.Date(2031, 3, 10, 6, 0, 5, 0, time.UTC))
	begin, broke := w.at, w.at.Add(40*time.Minute)
	for w.at.Before(begin.Add(time.Hour)) {
		for i := range 20 {
			host := fmt.Sprintf("%c%d", "ns"[i%2], i)
			n := counted(100, 100, 3)
			if host[0] == 's' && !w.at.Before(broke) {
				x := n["gates"]
				x.Unparsed = 90
				n["gates"] = x
				d := x.Deliveries["archive"]
				d.InMemory = 300
				n["gates"].Deliveries["archive"] = d
			}
			w.take(host, n, map[string]wire.Numbers{"gates": n["gates"]})
		}
		w.at = w.at.Add(30 * time.Second)
	}
	q := Question{From: begin, To: w.at, Source: "gates"}
	for number, heights := range map[string][2]float64{series.Unparsed: {0, 0.45}, series.Waiting: {60, 3030}} {
		e, changes, err := w.now.Explain(context.Background(), q, number)
		require.NoError(t, err)
		require.True(t, changes, number)
		assert.WithinDuration(t, broke, e.Began, 30*time.Second, number)
		assert.InDelta(t, heights[0], e.Before, 1e-6, number)
		assert.InDelta(t, heights[1], e.After, 1, number)
		assert.Len(t, e.Hosts, 10, number)
		assert.Equal(t, 20, e.Of, number)
		require.NotEmpty(t, e.Common, number)
		assert.Equal(t, series.Common{Label: "site", Value: "s", Changed: 10, All: 10}, e.Common[0], number)
	}
	_, changes, err := w.now.Explain(context.Background(), q, series.Read)
	require.NoError(t, err)
	assert.False(t, changes)
}
