package settle

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"synaxis/internal/core/wire"
)

// TestContiguousPrefix: a position moves over the contiguous run of settled batches only, and the settled numbers fit
// it.
func TestContiguousPrefix(t *testing.T) {
	t.Parallel()
	b := NewBook(wire.Numbers{Read: 5, Pending: 3, Deliveries: map[string]wire.DeliveryCounts{"x": {Acknowledged: 5}}})
	l := b.Ledger(Cursor("page 100"))
	at := func() (Cursor, wire.Numbers) {
		offsets, n := b.Snapshot([]*Ledger{l})
		return offsets[0], n
	}
	first := l.Add(Cursor("page 110"), 2, wire.Numbers{Read: 1})
	second := l.Add(Cursor("page 120"), 1, wire.Numbers{Read: 2})
	l.Add(Cursor("page 130"), 0, wire.Numbers{Read: 0, Blank: 4})
	second.Done("x", wire.DeliveryCounts{Acknowledged: 2})
	offset, n := at()
	assert.Equal(t, Cursor("page 100"), offset)
	assert.Equal(t, int64(5), n.Read)
	assert.Equal(t, int64(8), b.Live().Read)
	assert.Equal(t, int64(3), b.Live().Pending)
	assert.Equal(t, int64(7), b.Live().Deliveries["x"].Acknowledged)
	first.Done("x", wire.DeliveryCounts{Acknowledged: 1})
	offset, _ = at()
	assert.Equal(t, Cursor("page 100"), offset, "one way of the first is open")
	assert.False(t, l.Idle())
	first.Done("y", wire.DeliveryCounts{Refused: 1})
	offset, n = at()
	assert.Equal(t, Cursor("page 130"), offset)
	assert.True(t, l.Idle())
	assert.Equal(
		t,
		wire.Numbers{
			Read:         8,
			Blank:        4,
			Acknowledged: 7,
			Deliveries:   map[string]wire.DeliveryCounts{"x": {Acknowledged: 8}, "y": {Refused: 1}},
		},
		n,
	)
	assert.Zero(t, b.Live().Pending)
}
