package rollouts

import (
	"sync"

	"synaxis/internal/core/rollout"
	"synaxis/internal/service/store"
)

// Queue holds what happened to hosts until the driver takes it, in order. Putting something in never waits, so that
// the store's writer may.
type Queue struct {
	mu     sync.Mutex
	waits  []happening
	signal chan struct{}
}

// NewQueue makes an empty queue.
func NewQueue() *Queue { return &Queue{signal: make(chan struct{}, 1)} }

// Tell takes an event of a host.
func (q *Queue) Tell(e rollout.Event) { q.put(hostEvent{e}) }

// Changed takes word that something changed of a host that definitions see, or that it joined.
func (q *Queue) Changed(host string) { q.put(hostChanged{host}) }

// Follow takes what commits change.
func (q *Queue) Follow(changes []store.Change) {
	for _, c := range changes {
		switch c := c.(type) {
		case store.HostPut:
			if c.RetiredAt.IsZero() {
				q.put(hostChanged{c.Name})
			} else {
				q.Tell(rollout.Event{Kind: rollout.Gone, Host: c.Name, Reason: "retired"})
			}
		case store.InForce:
			q.put(inForceChanged{})
		case store.SecretChanged:
			q.put(secretsChanged{})
		}
	}
}

func (q *Queue) put(x happening) {
	q.mu.Lock()
	q.waits = append(q.waits, x)
	q.mu.Unlock()
	select {
	case q.signal <- struct{}{}:
	default:
	}
}

// take takes all that waits, at most so many.
func (q *Queue) take(most int) []happening {
	q.mu.Lock()
	defer q.mu.Unlock()
	n := min(most, len(q.waits))
	out := q.waits[:n:n]
	if q.waits = q.waits[n:]; len(q.waits) > 0 {
		select {
		case q.signal <- struct{}{}:
		default:
		}
	}
	return out
}

// happening is something that the driver hears of.
type happening interface{ happened() }

func (hostEvent) happened()      {}
func (secretsChanged) happened() {}
func (hostChanged) happened()    {}
func (inForceChanged) happened() {}

// hostEvent is an event for the rollout of a host.
type hostEvent struct{ rollout.Event }

// secretsChanged is the event that a secret was set or removed.
type secretsChanged struct{}

// hostChanged is the event that a host joined, or that something of it changed that definitions see.
type hostChanged struct{ name string }

// inForceChanged is the event that another revision is in force: who joined meanwhile gets it.
type inForceChanged struct{}

// Idle tells whether nothing waits.
func (q *Queue) Idle() bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	return len(q.waits) == 0
}
