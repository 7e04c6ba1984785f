// Package inventory owns the hosts: their names, labels, settings and lists, and the index that answers choices. What
// is in memory follows the commits of the store.
package inventory

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// Facts are what an agent observed of its host, as definitions see it.
type Facts struct {
	OS, Arch, System string
	Seen             *inventory.Observed
}

// Observer tells what was observed of a host.
type Observer interface{ Facts(host string) Facts }

// Inventory is all hosts. It is safe for concurrent use.
type Inventory struct {
	store    *store.Store
	observer Observer
	now      func() time.Time
	note     func(topic string)

	mu     sync.RWMutex
	hosts  map[string]store.Host
	byUID  map[string]string
	names  []string // of hosts, ordered; nil when it is to be made anew
	former []store.Host

	touch    sync.Mutex // for what changed since index was made
	touched  map[string]bool
	reshaped bool
	indexing sync.Mutex
	index    *inventory.Index
}

// New reads the inventory and follows its changes.
func New(
	ctx context.Context,
	st *store.Store,
	o Observer,
	now func() time.Time,
	note func(topic string),
) (*Inventory, error) {
	v := &Inventory{
		store:    st,
		observer: o,
		now:      now,
		note:     note,
		hosts:    map[string]store.Host{},
		byUID:    map[string]string{},
	}
	list, err := st.Hosts(ctx)
	if err != nil {
		return nil, err
	}
	if v.former, err = st.FormerHosts(ctx); err != nil {
		return nil, err
	}
	for _, h := range list {
		v.put(h)
	}
	st.Follow(v.follow)
	return v, nil
}

// put takes a host as it is now. The inventory is locked, or not shared yet.
func (v *Inventory) put(h store.Host) {
	was, known := v.hosts[h.Name]
	if known && v.byUID[was.UID] == h.Name {
		delete(v.byUID, was.UID)
	}
	if h.UID != "" && h.RetiredAt.IsZero() {
		v.byUID[h.UID] = h.Name
	}
	if !known {
		v.names = nil
	}
	v.hosts[h.Name] = h
	if !known || !was.RetiredAt.Equal(h.RetiredAt) {
		v.reshape()
	} else {
		v.Touch(h.Name)
	}
}

func (v *Inventory) follow(changes []store.Change) {
	v.mu.Lock()
	defer v.mu.Unlock()
	any := false
	for _, c := range changes {
		switch c := c.(type) {
		case store.HostPut:
			v.put(c.Host)
			any = true
		case store.HostReplaced:
			v.former = append(v.former[:len(v.former):len(v.former)], c.Host)
		}
	}
	if any {
		v.note("hosts")
	}
}

// Touch says that something changed that definitions see of a host.
func (v *Inventory) Touch(host string) {
	v.touch.Lock()
	defer v.touch.Unlock()
	if v.touched == nil {
		v.touched = map[string]bool{}
	}
	v.touched[host] = true
}

// reshape says that there are other hosts.
func (v *Inventory) reshape() {
	v.touch.Lock()
	defer v.touch.Unlock()
	v.reshaped = true
}

// Get returns one host, retired or not.
func (v *Inventory) Get(name string) (store.Host, bool) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	h, ok := v.hosts[name]
	return h, ok
}

// ByUID returns the host whose agent has a uid; a retired host is none.
func (v *Inventory) ByUID(uid string) (store.Host, bool) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	h, ok := v.hosts[v.byUID[uid]]
	return h, ok
}

// Len counts the hosts that are not retired.
func (v *Inventory) Len() int { return len(v.Index().Hosts) }

// All returns every host, retired ones or the others, ordered by name.
func (v *Inventory) All(retired bool) []store.Host {
	v.mu.Lock()
	if v.names == nil {
		v.names = slices.Sorted(maps.Keys(v.hosts))
	}
	v.mu.Unlock()
	v.mu.RLock()
	defer v.mu.RUnlock()
	out := make([]store.Host, 0, len(v.names))
	for _, name := range v.names {
		if h := v.hosts[name]; h.RetiredAt.IsZero() != retired {
			out = append(out, h)
		}
	}
	return out
}

// Former returns the retired hosts whose names other hosts have by now.
func (v *Inventory) Former() []store.Host {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.former
}

// Index returns the hosts as definitions see them, without retired ones: the same index for as long as none of that
// has changed.
func (v *Inventory) Index() *inventory.Index {
	v.indexing.Lock()
	defer v.indexing.Unlock()
	v.touch.Lock()
	touched, reshaped := v.touched, v.reshaped || v.index == nil
	v.touched, v.reshaped = nil, false
	v.touch.Unlock()
	switch {
	case reshaped:
		var out []inventory.Host
		for _, h := range v.All(false) {
			out = append(out, v.seen(h))
		}
		v.index = inventory.NewIndex(out)
	case len(touched) > 0:
		others := map[int]inventory.Host{}
		for name := range touched {
			if i, ok := v.index.Position(name); ok {
				h, _ := v.Get(name)
				others[i] = v.seen(h)
			}
		}
		v.index = v.index.Edit(others)
	}
	return v.index
}

func (v *Inventory) seen(h store.Host) inventory.Host {
	f := v.observer.Facts(h.Name)
	return inventory.Host{
		Name:     h.Name,
		Labels:   h.Labels,
		Settings: h.Settings,
		OS:       f.OS,
		Arch:     f.Arch,
		System:   f.System,
		Observed: f.Seen,
	}
}

// Edit changes labels or settings: keys with a value are set, keys in remove are taken away. may, which can be nil, is
// asked with the host as it is when it is written.
func (v *Inventory) Edit(
	ctx context.Context,
	who store.Person,
	name, what string,
	set map[string]string,
	remove []string,
	may func(store.Host) error,
) error {
	return v.store.Update(ctx, func(t *store.Tx) error {
		h, err := present(t, name)
		if err != nil {
			return err
		}
		if may != nil {
			if err := may(h); err != nil {
				return err
			}
		}
		before := h.Labels
		if what == "settings" {
			before = h.Settings
		}
		after := maps.Clone(before)
		if after == nil {
			after = map[string]string{}
		}
		maps.Copy(after, set)
		for _, k := range remove {
			delete(after, k)
		}
		if what == "settings" {
			h.Settings = after
		} else {
			h.Labels = after
		}
		if err := t.PutHost(h); err != nil {
			return err
		}
		return t.Audit(who, v.now(), "host "+what, name, before, after)
	})
}

// present reads a host inside a change.
func present(t *store.Tx, name string) (store.Host, error) {
	h, err := t.Host(name)
	if errors.Is(err, store.ErrNotFound) {
		return h, store.Missingf("there is no host %s", name)
	}
	return h, err
}

// Retire takes a host out of the fleet: it is in no list and no rollout any more. Its agent is told to stop to
// collect, to deliver what it holds and to delete its secrets; its credential ends once it has, or at once where it is
// not our agent. Its history stays, and a join token that is made for it brings it back under its name.
func (v *Inventory) Retire(ctx context.Context, who store.Person, name string) error {
	return v.store.Update(ctx, func(t *store.Tx) error {
		h, err := present(t, name)
		if err != nil || !h.RetiredAt.IsZero() {
			return err
		}
		now := v.now()
		h.RetiredAt = now
		if err := t.PutHost(h); err != nil {
			return err
		}
		if err := t.Unassign(name); err != nil {
			return err
		}
		if h.ServiceName != wire.ServiceName {
			if err := t.EndCredentials(name, now); err != nil {
				return err
			}
		}
		return t.Audit(who, now, "host retire", name, nil, nil)
	})
}

// Change carries out what a list of hosts or an edit of many changes, all of it or nothing. Hosts that it adds wait
// for their agents. action is what the audit calls it.
func (v *Inventory) Change(ctx context.Context, who store.Person, action string, changes []inventory.Change) error {
	return v.store.Update(ctx, func(t *store.Tx) error {
		now := v.now()
		for _, c := range changes {
			if c.What == "same" {
				continue
			}
			h, err := t.Host(c.Host)
			var was any
			switch {
			case errors.Is(err, store.ErrNotFound):
				h = store.Host{Name: c.Host}
			case err != nil:
				return err
			default:
				was = map[string]any{"labels": h.Labels, "settings": h.Settings}
			}
			h.Labels, h.Settings = inventory.Apply(h.Labels, c.Labels), inventory.Apply(h.Settings, c.Settings)
			if err := t.PutHost(h); err != nil {
				return err
			}
			if err := t.Audit(who, now, action, c.Host, was, map[string]any{"labels": h.Labels,
				"settings": h.Settings}); err != nil {
				return err
			}
		}
		return nil
	})
}
