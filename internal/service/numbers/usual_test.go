package numbers

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestUsual: from four weeks of reports what is usual is known by the hour of the week, a day's volume against the
// days before, and what came in the last hour.
func TestUsual(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	w := newWorld(t, time.Date(2031, 3, 3, 0, 10, 0, 0, time.UTC))
	day, usual, err := w.now.Volume(ctx)
	require.NoError(t, err)
	assert.Zero(t, day+usual)
	for range 4 * 7 * 24 {
		n := int64(0)
		if h := w.at.Hour(); h >= 5 && h < 23 {
			n = 100 + int64(w.at.YearDay()%2)*10
		}
		x := counted(n, n, 0)
		g := x["gates"]
		g.Bytes = 50 * n
		x["gates"] = g
		w.take("na", x, x)
		w.at = w.at.Add(time.Hour)
		if w.at.Hour() == 1 {
			require.NoError(t, w.flush(false))
			require.NoError(t, w.now.Merge(ctx))
		}
	}
	u, last, err := w.now.Usual(ctx, "gates", time.UTC)
	require.NoError(t, err)
	assert.Zero(t, last, "it is night")
	r, known := u.At(time.Date(2031, 4, 7, 12, 0, 0, 0, time.UTC))
	assert.True(t, known)
	assert.Equal(t, [2]int64{100, 110}, [2]int64{r.Low, r.High})
	text, why := u.Suggest()
	assert.Equal(t, `expect: {every: 10m, during: "05:00-23:00", at-least: 50/h}`, text, why)
	day, usual, err = w.now.Volume(ctx)
	require.NoError(t, err)
	assert.InDelta(t, 18*105*50, day, 18*5*50)
	assert.InDelta(t, 18*105*50, usual, 18*5*50)
}
