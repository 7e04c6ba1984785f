package health

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestRollUp: over all small counts the worst state of weight paints the whole, and a single host of many does not.
func TestRollUp(t *testing.T) {
	t.Parallel()
	for all := 0; all <= 60; all++ {
		for failing := 0; failing <= all; failing++ {
			for degraded := 0; degraded <= all-failing; degraded += 1 + all/10 {
				counts := map[State]int{Failing: failing, Degraded: degraded, Healthy: all - failing - degraded}
				weighs := func(n int) bool { return n > 0 && (all <= 20 || n*20 >= all) }
				want := Healthy
				switch {
				case all == 0:
					want = Waiting
				case weighs(failing):
					want = Failing
				case weighs(degraded):
					want = Degraded
				}
				assert.Equal(t, want, RollUp(counts), counts)
			}
		}
	}
	assert.Equal(t, Waiting, RollUp(map[State]int{Waiting: 3}))
	assert.Equal(t, Healthy, RollUp(map[State]int{Waiting: 1, Healthy: 1}))
	assert.Equal(t, Healthy, RollUp(map[State]int{Failing: 1, Healthy: 9999}))
	assert.Equal(t, Offline, RollUp(map[State]int{Offline: 600, Degraded: 600, Healthy: 9000}))
}
