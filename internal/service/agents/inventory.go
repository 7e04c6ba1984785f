package agents

import (
	"context"
	"maps"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/store"
)

// Inventory returns the hosts as definitions see them: the same index for as long as none of that has changed.
func (f *Fleet) Inventory() *inventory.Index {
	f.indexing.Lock()
	defer f.indexing.Unlock()
	f.touch.Lock()
	touched, reshaped := f.touched, f.reshaped || f.index == nil
	f.touched, f.reshaped = nil, false
	f.touch.Unlock()
	switch {
	case !reshaped && len(touched) == 0:
	case !reshaped:
		others := map[int]inventory.Host{}
		for name := range touched {
			if i, ok := f.places[name]; ok {
				v, _ := f.Get(name)
				others[i] = v.Inventory()
			}
		}
		f.index = f.index.Edit(others)
	default:
		var out []inventory.Host
		f.places = map[string]int{}
		f.Visit(false, func(v *View) {
			f.places[v.Name] = len(out)
			out = append(out, v.Inventory())
		})
		f.index = inventory.NewIndex(out)
	}
	return f.index
}

// seenAnew says that something changed which definitions see: of some hosts, or, without names, which hosts there are.
func (f *Fleet) seenAnew(names ...string) {
	f.touch.Lock()
	defer f.touch.Unlock()
	if len(names) == 0 {
		f.reshaped = true
		return
	}
	if f.touched == nil {
		f.touched = map[string]bool{}
	}
	for _, n := range names {
		f.touched[n] = true
	}
}

// Edit changes labels or settings: keys with a value are set, keys in remove are taken away.
func (f *Fleet) Edit(ctx context.Context, who store.Person, name, what string, set map[string]string, remove []string) error {
	v, ok := f.Get(name)
	if !ok {
		return store.Missingf("there is no host %s", name)
	}
	h := v.Host
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
	err := f.store.Update(ctx, func(t *store.Tx) error {
		if err := t.PutHost(h); err != nil {
			return err
		}
		return t.Audit(who, f.now(), "host "+what, name, before, after)
	})
	if err != nil {
		return err
	}
	f.mu.Lock()
	if e := f.hosts[name]; e != nil {
		e.view.Labels, e.view.Settings = h.Labels, h.Settings
	}
	f.mu.Unlock()
	f.seenAnew(name)
	f.desk.HostChanged(name)
	f.note("hosts")
	return nil
}

// Retire takes a host out of the fleet: its credential ends, and it is in no list and no rollout any more. Its history
// stays, and a join token brings it back under its name.
func (f *Fleet) Retire(ctx context.Context, who store.Person, name string) error {
	v, ok := f.Get(name)
	if !ok {
		return store.Missingf("there is no host %s", name)
	}
	if !v.RetiredAt.IsZero() {
		return nil
	}
	now := f.now()
	h := v.Host
	h.RetiredAt = now
	err := f.store.Update(ctx, func(t *store.Tx) error {
		if err := t.PutHost(h); err != nil {
			return err
		}
		if err := t.EndCredentials(name, now); err != nil {
			return err
		}
		return t.Audit(who, now, "host retire", name, nil, nil)
	})
	if err != nil {
		return err
	}
	f.mu.Lock()
	var c *conn
	if e := f.hosts[name]; e != nil {
		e.view.Host, c = h, e.conn
		e.view.Connected, e.conn, e.offer = false, nil, nil
		delete(f.byUID, h.UID)
	}
	for id, cred := range f.creds {
		if cred.Host == name {
			delete(f.creds, id)
		}
	}
	f.mu.Unlock()
	f.seenAnew()
	if c != nil {
		c.ws.CloseNow()
	}
	f.desk.HostEvent(rollout.Event{Kind: rollout.Gone, Host: name, Reason: "retired"})
	f.note("hosts")
	return nil
}

// Change carries out what a list of hosts or an edit of many changes, all of it or nothing. Hosts that it adds wait for their
// agents. action is what the audit calls it.
func (f *Fleet) Change(ctx context.Context, who store.Person, action string, changes []inventory.Change) error {
	now := f.now()
	var put []store.Host
	err := f.store.Update(ctx, func(t *store.Tx) error {
		for _, c := range changes {
			if c.What == "same" {
				continue
			}
			v, _ := f.Get(c.Host)
			h := v.Host
			before := map[string]any{"labels": h.Labels, "settings": h.Settings}
			if c.What == "added" {
				h, before = store.Host{Name: c.Host}, nil
			}
			h.Labels, h.Settings = inventory.Apply(h.Labels, c.Labels), inventory.Apply(h.Settings, c.Settings)
			if err := t.PutHost(h); err != nil {
				return err
			}
			var was any
			if before != nil {
				was = before
			}
			if err := t.Audit(who, now, action, c.Host, was, map[string]any{"labels": h.Labels, "settings": h.Settings}); err != nil {
				return err
			}
			put = append(put, h)
		}
		return nil
	})
	if err != nil {
		return err
	}
	var known []string
	f.mu.Lock()
	for _, h := range put {
		if e := f.hosts[h.Name]; e != nil {
			e.view.Labels, e.view.Settings = h.Labels, h.Settings
			known = append(known, h.Name)
		} else {
			f.hosts[h.Name] = &host{view: View{Host: h, Restarted: now}}
		}
	}
	f.mu.Unlock()
	if len(known) == len(put) {
		f.seenAnew(known...)
	} else {
		f.seenAnew()
	}
	for _, h := range put {
		f.desk.HostChanged(h.Name)
	}
	f.note("hosts")
	return nil
}
