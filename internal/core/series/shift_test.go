package series

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFindShift: over random lines with noise and gaps the step is found at which they shift; lines that do not shift
// are left alone.
func TestFindShift(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(6, 6))
	for range 500 {
		n := 20 + rnd.IntN(280)
		at := 5 + rnd.IntN(n-10)
		low := rnd.Float64() * 10
		high := low*2 + 5 + rnd.Float64()*100
		if rnd.IntN(2) == 0 {
			low, high = high, low
		}
		values, known := make([]float64, n), make([]bool, n)
		noise := 0.1 * (max(low, high) - min(low, high))
		for i := range values {
			known[i] = i == at || i == at-1 || rnd.IntN(10) > 0
			values[i] = low
			if i >= at {
				values[i] = high
			}
			values[i] += noise * (rnd.Float64()*2 - 1)
		}
		if rnd.IntN(4) == 0 { // all at one height
			for i := range values {
				values[i] = low + noise*(rnd.Float64()*2-1)
			}
			_, ok := FindShift(values, known)
			require.False(t, ok)
			continue
		}
		s, ok := FindShift(values, known)
		require.True(t, ok, "%d steps, from %.1f to %.1f at %d", n, low, high, at)
		require.Equal(t, at, s.At)
		require.InDelta(t, low, s.Before, noise)
		require.InDelta(t, high, s.After, noise)
		before, after, ok := Around(values, known, at)
		require.True(t, ok)
		require.InDelta(t, s.Before, before, 1e-6)
		require.InDelta(t, s.After, after, 1e-6)
	}
	for _, values := range [][]float64{nil, {1, 2, 3}, {5, 5, 5, 5, 5, 5, 5, 5}, {0, 0, 0, 0, 0, 0, 0}} {
		known := make([]bool, len(values))
		for i := range known {
			known[i] = true
		}
		_, ok := FindShift(values, known)
		assert.False(t, ok, "%v", values)
	}
}

func TestFindCommon(t *testing.T) {
	t.Parallel()
	labels, changed := map[string]map[string]string{}, map[string]bool{}
	for i := range 100 {
		host := fmt.Sprintf("h%02d", i)
		labels[host] = map[string]string{"site": fmt.Sprint("s", i%5), "role": fmt.Sprint("r", i%3), "all": "yes"}
		if i%5 == 2 && i != 7 {
			changed[host] = true
		}
	}
	got := FindCommon(labels, changed)
	require.Len(t, got, 1)
	assert.Equal(t, Common{"site", "s2", 19, 20}, got[0])
	assert.Empty(t, FindCommon(labels, map[string]bool{"h00": true, "h01": true, "h02": true, "h03": true}))
}

func TestAlike(t *testing.T) {
	t.Parallel()
	up, down := Shift{Before: 10, After: 100}, Shift{Before: 0.5, After: 0}
	for _, c := range []struct {
		of            Shift
		before, after float64
		want          bool
	}{
		{up, 1, 10, true}, {up, 1000, 2000, true}, {up, 1000, 1100, false}, {up, 100, 10, false}, {up, 7, 7, false},
		{up, 0, 1, true}, {down, 0.9, 0, true}, {down, 0.9, 0.4, true}, {down, 0.9, 0.8, false}, {down, 0, 0.1, false},
	} {
		assert.Equal(t, c.want, c.of.Alike(c.before, c.after), "%+v", c)
	}
}
