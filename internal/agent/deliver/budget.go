package deliver

import "sync/atomic"

// Budget bounds the bytes that wait in memory for all destinations together. A nil Budget bounds nothing.
type Budget struct {
	most atomic.Int64
	used atomic.Int64
}

// DefaultBudget is the budget of an agent whose memory is not limited.
const DefaultBudget = 64 << 20

// NewBudget makes a budget.
func NewBudget(most int64) *Budget {
	b := &Budget{}
	b.most.Store(most)
	return b
}

// Set changes the bound.
func (b *Budget) Set(most int64) { b.most.Store(most) }

// take counts bytes, also beyond the bound.
func (b *Budget) take(bytes int64) {
	if b != nil {
		b.used.Add(bytes)
	}
}

func (b *Budget) give(bytes int64) {
	if b != nil {
		b.used.Add(-bytes)
	}
}
