package links

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

var noon = time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)

// TestOneAgentIsNeverACopy: restarts, lost messages, messages that come late and new connections are not two agents.
func TestOneAgentIsNeverACopy(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		var s streams
		var n uint64
		var c *Conn
		if seed%2 == 0 {
			c = &Conn{}
		}
		now := noon
		for range 300 {
			now = now.Add(30 * time.Second)
			switch r.IntN(40) {
			case 0: // restarted
				n = 0
			case 1: // a message was lost
				n++
			case 2: // another connection
				if c != nil {
					c = &Conn{}
				}
			case 3: // two came in the wrong order, which a connection never does
				if c == nil && now.Sub(s.turned) > turnsLast {
					assert.Empty(t, s.take(n+1, c, now))
					assert.Empty(t, s.take(n, c, now))
					n += 2
					continue
				}
			}
			assert.Empty(t, s.take(n, c, now), "seed %d", seed)
			n++
		}
	}
}

// TestTwoAgentsByTurns: two agents with one identity on one machine id are found, and the younger one is the copy.
func TestTwoAgentsByTurns(t *testing.T) {
	t.Parallel()
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 2))
		var s streams
		old, copied := uint64(1000), uint64(0)
		if seed%3 == 0 {
			copied = old // the copy of a running machine goes on where that one was
		}
		var a, b *Conn
		if seed%2 == 0 {
			a, b = &Conn{}, &Conn{}
		}
		now := noon
		for range 10 {
			assert.Empty(t, s.take(old, a, now))
			old++
		}
		found := false
		for i := 0; i < 60 && !found; i++ {
			now = now.Add(time.Duration(r.IntN(40)) * time.Second)
			why := s.take(copied, b, now)
			copied++
			if found = why != ""; found {
				break
			}
			now = now.Add(time.Duration(r.IntN(40)) * time.Second)
			assert.Empty(t, s.take(old, a, now), "seed %d: the older one is never the copy", seed)
			old++
		}
		// pollers whose numbers are the same cannot be told apart by them; the younger is whichever jumps
		if seed%6 == 3 {
			continue
		}
		assert.True(t, found, "seed %d", seed)
		for range 5 {
			assert.Empty(t, s.take(old, a, now), "seed %d: the older one goes on as before", seed)
			old++
		}
	}
}
