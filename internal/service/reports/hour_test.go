package reports

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
)

func TestUsage(t *testing.T) {
	at := func(s int) time.Time { return time.Unix(int64(1000+s), 0) }
	type said struct{ start, cpu, at int } // in seconds
	for name, c := range map[string]struct {
		said      []said
		cpu, over int
	}{
		"said once":              {[]said{{0, 40, 100}}, 0, 0},
		"one life":               {[]said{{0, 40, 100}, {0, 43, 130}, {0, 43, 160}}, 3, 60},
		"another life":           {[]said{{0, 40, 100}, {0, 43, 130}, {140, 2, 150}, {140, 3, 180}}, 6, 70},
		"the same twice":         {[]said{{0, 40, 100}, {0, 43, 130}, {0, 43, 130}}, 3, 30},
		"a clock that goes back": {[]said{{0, 40, 100}, {0, 43, 50}, {0, 44, 120}}, 4, 20},
		"numbers that go back":   {[]said{{0, 40, 100}, {0, 30, 130}, {0, 44, 140}}, 4, 40},
	} {
		t.Run(name, func(t *testing.T) {
			var u usage
			for _, s := range c.said {
				u = u.take(wire.Process{Started: at(s.start), CPU: time.Duration(s.cpu) * time.Second}, at(s.at))
			}
			assert.Equal(t, rollout.Sums{CPU: time.Duration(c.cpu) * time.Second,
				Over: time.Duration(c.over) * time.Second}, u.since(usage{}))
		})
	}
}
