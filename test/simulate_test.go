package test

import (
	"context"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/fleetsim"
)

// TestSimulate: a fleet of a thousand light hosts goes through what a rollout may meet. What it takes of the machine
// is measured by make simulate, with ten times as many.
func TestSimulate(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes minutes")
	}
	t.Parallel()
	rows := 0
	err := fleetsim.Simulate(context.Background(), fleetsim.SimulationOptions{Hosts: 1000, Kills: 1,
		Report: 3 * time.Second, Rest: time.Second, Bin: bin, Out: io.Discard}, func(m fleetsim.Measure) {
		rows++
		t.Logf("%s: %s", m.What, m.Seen)
		if strings.HasPrefix(m.What, "a bad revision") || strings.HasPrefix(m.What, "the service killed") {
			assert.True(t, m.Met, "%s: %s", m.What, m.Seen)
		}
		if strings.Contains(m.What, "lie") { // how fast is for a quiet machine
			assert.Contains(t, m.Seen, "; 0 believed;")
		}
	})
	require.NoError(t, err)
	assert.Equal(t, 9, rows)
}
