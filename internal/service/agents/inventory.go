package agents

import (
	"bytes"
	"context"
	"errors"
	"maps"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
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

// Edit changes labels or settings: keys with a value are set, keys in remove are taken away. may, which can be nil, is asked with the host
// as it is when it is written.
func (f *Fleet) Edit(ctx context.Context, who store.Person, name, what string, set map[string]string, remove []string, may func(store.Host) error) error {
	f.editing.Lock() // memory follows the commits, in their order
	defer f.editing.Unlock()
	var h store.Host
	err := f.store.Update(ctx, func(t *store.Tx) (err error) {
		if h, err = present(t, name); err != nil {
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

// present reads a host inside a change.
func present(t *store.Tx, name string) (store.Host, error) {
	h, err := t.Host(name)
	if errors.Is(err, store.ErrNotFound) {
		return h, store.Missingf("there is no host %s", name)
	}
	return h, err
}

// Retire takes a host out of the fleet: it is in no list and no rollout any more. Its agent is told to stop to collect, to deliver what it
// holds and to delete its secrets; its credential ends once it has, or at once where it is not our agent. Its history stays, and a join
// token that is made for it brings it back under its name.
func (f *Fleet) Retire(ctx context.Context, who store.Person, name string) error {
	f.editing.Lock()
	defer f.editing.Unlock()
	now, already := f.now(), false
	var h store.Host
	err := f.store.Update(ctx, func(t *store.Tx) (err error) {
		if h, err = present(t, name); err != nil {
			return err
		}
		if already = !h.RetiredAt.IsZero(); already {
			return nil
		}
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
	if err != nil || already {
		return err
	}
	f.mu.Lock()
	var c *conn
	if e := f.hosts[name]; e != nil {
		e.view.Host, c = h, e.conn
		e.view.Assigned, e.view.Pending = store.Assignment{}, ""
		e.view.Connected, e.conn, e.offer = false, nil, nil
		e.dirty = true
		delete(f.byUID, h.UID)
	}
	if h.ServiceName != wire.ServiceName {
		f.dropCredentials(name)
	}
	f.mu.Unlock()
	f.seenAnew()
	if c != nil {
		c.ws.CloseNow() // it calls again, and is told
	}
	f.desk.HostEvent(rollout.Event{Kind: rollout.Gone, Host: name, Reason: "retired"})
	f.note("hosts")
	return nil
}

// dropCredentials forgets the credentials of a host. The fleet is locked.
func (f *Fleet) dropCredentials(name string) {
	for id, cred := range f.creds {
		if cred.Host == name {
			delete(f.creds, id)
		}
	}
}

// takeRetired answers an agent whose host was retired: it is told to run nothing, until it says that it does; then its credential ends.
// It answers false for an agent that is none of a retired host.
func (f *Fleet) takeRetired(ctx context.Context, msg *protobufs.AgentToServer, who caller, answer *protobufs.ServerToAgent) (bool, error) {
	now := f.now()
	name := who.credential.Host
	f.mu.Lock()
	h := f.hosts[name]
	if h == nil || h.view.UID != who.credential.UID || h.view.RetiredAt.IsZero() {
		f.mu.Unlock()
		return false, nil
	}
	h.view.LastSeen, h.dirty = now, true
	status := msg.GetRemoteConfigStatus()
	done := bytes.Equal(status.GetLastRemoteConfigHash(), wire.NothingHash) && status.GetStatus() == protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED
	if !done {
		f.mu.Unlock()
		if status == nil || !bytes.Equal(status.GetLastRemoteConfigHash(), wire.NothingHash) {
			answer.RemoteConfig = &protobufs.AgentRemoteConfig{Config: wire.ConfigMap(nil), ConfigHash: wire.NothingHash}
		}
		return true, nil
	}
	h.view.Emptied, h.view.Running = now, ""
	f.mu.Unlock()
	err := f.store.Update(ctx, func(t *store.Tx) error {
		if err := t.EndCredentials(name, now); err != nil {
			return err
		}
		return t.Audit(store.Person{Name: "agent of " + name, Origin: who.origin}, now, "host emptied", name, nil, nil)
	})
	if err != nil {
		return true, err
	}
	f.mu.Lock()
	f.dropCredentials(name)
	f.mu.Unlock()
	f.log.Info("the agent of a retired host has stopped to collect and has deleted its secrets", "host", name)
	f.note("hosts")
	return true, Denied{"this host was retired at the desk, and its agent has nothing left to do; to bring it back, remove identity.json from its state folder and give it a token that is made for it: synaxis join-token create --host NAME"}
}

// Change carries out what a list of hosts or an edit of many changes, all of it or nothing. Hosts that it adds wait for their
// agents. action is what the audit calls it.
func (f *Fleet) Change(ctx context.Context, who store.Person, action string, changes []inventory.Change) error {
	f.editing.Lock()
	defer f.editing.Unlock()
	now := f.now()
	var put []store.Host
	err := f.store.Update(ctx, func(t *store.Tx) error {
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
