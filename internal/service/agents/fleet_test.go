package agents

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"synaxis/internal/core/wire"
)

func TestDeltas(t *testing.T) {
	t.Parallel()
	from := map[string]wire.Numbers{"a": {Read: 5, Bytes: 10, Deliveries: map[string]wire.DeliveryCounts{"x": {Acknowledged: 5}}}, "b": {Read: 3}}
	to := map[string]wire.Numbers{
		"a": {Read: 8, Bytes: 16, LastRecord: 9, Deliveries: map[string]wire.DeliveryCounts{"x": {Acknowledged: 7, Refused: 1}, "y": {Acknowledged: 8}}},
		"b": {Read: 3, LastRecord: 4},
		"c": {Blank: 2},
		"d": {},
	}
	assert.Equal(t, map[string]wire.Numbers{
		"a": {Read: 3, Bytes: 6, Deliveries: map[string]wire.DeliveryCounts{"x": {Acknowledged: 2, Refused: 1}, "y": {Acknowledged: 8}}},
		"c": {Blank: 2},
	}, deltas(from, to), "only what grew is kept")
	assert.Empty(t, deltas(map[string]wire.Numbers{"a": {Read: 5}}, map[string]wire.Numbers{"a": {Read: 2}}), "an agent that began anew gives nothing negative")
}

func TestTokenBucket(t *testing.T) {
	t.Parallel()
	now := time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	b := tokenBucket{rate: 10, full: 3, left: 3}
	taken := func() (n int) {
		for b.take(now) {
			n++
		}
		return n
	}
	assert.Equal(t, 3, taken())
	now = now.Add(200 * time.Millisecond)
	assert.Equal(t, 2, taken())
	now = now.Add(time.Hour)
	assert.Equal(t, 3, taken(), "it does not grow beyond its size")
}
