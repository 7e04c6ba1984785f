// Package broken breaks the rules of owners, each in one place.
package broken

import (
	"context"
	"sync"

	"synaxis/internal/service/hosts"
	"synaxis/internal/service/store"
)

// Count is shared by everybody.
var Count int

// ErrGone is an error, which nobody changes.
var ErrGone = store.ErrNotFound

// Owner has a lock, and a field beside it.
type Owner struct {
	mu    sync.Mutex
	Hosts map[string]store.Host
}

// Free has no lock: it is a value.
type Free struct{ Name string }

// Edit decides by what it read before.
func (o *Owner) Edit(ctx context.Context, st *store.Store, all *hosts.Hosts) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	list, err := st.Hosts(ctx)
	if err != nil {
		return err
	}
	have := first(list)
	v, _ := all.Get(have.Name)
	now, _ := all.Get("other")
	var out store.Host
	return st.Update(ctx, func(t *store.Tx) error {
		if out, err = t.Host("a"); err != nil || sameHost(now, out) || now.Name != out.Name {
			return err
		}
		have.Labels = v.Labels
		return t.PutHost(have)
	})
}

func first(list []store.Host) store.Host       { return list[0] }
func sameHost(v hosts.View, h store.Host) bool { return v.Name == h.Name }
