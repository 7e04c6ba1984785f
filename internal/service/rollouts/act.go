package rollouts

import (
	"context"
	"fmt"

	"synaxis/internal/core/rollout"
	"synaxis/internal/service/store"
)

// backByPlan starts to take back what the plans of rollouts that have just been stopped say should be.
func (d *Driver) backByPlan(ctx context.Context, t *store.Tx, deltas []rollout.Delta) (out []rollout.Delta,
	err error) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	for _, x := range deltas {
		s := d.rollouts[x.ID]
		if s == nil || x.Status != rollout.Stopped || s.Status == rollout.Stopped || x.Plan.OnStop != rollout.GoBack ||
			x.Before == 0 || x.TakenBackBy > 0 {
			continue
		}
		more, err := d.back(ctx, t, s, &x, store.Person{Name: "plan " + x.Plan.Name}, "")
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

// back takes back what a rollout did: the hosts that changed get the revision that was in force before, at once. x is
// how the rollout has just moved on, or nil. The driver is locked.
func (d *Driver) back(ctx context.Context, t *store.Tx, s *rollout.State, x *rollout.Delta, who store.Person,
	why string) (
	[]rollout.Delta, error,
) {
	id, now := d.last+1, d.now()
	then := rollout.From(rollout.Delta{Head: s.Head, New: true, Hosts: s.Hosts(), Decisions: s.Decisions})
	if x != nil {
		then.Apply(*x)
	}
	p := Proposal{Head: rollout.Head{ID: id, Revision: s.Before, Author: who.Name, Plan: rollout.OneWave(),
		Before: s.Before, TakesBack: s.ID}}
	for _, h := range then.Hosts() {
		v, ok := d.hosts.Get(h.Name)
		if !ok || v.UID == "" || h.State == rollout.LeftOut || !h.Told && h.State != rollout.Confirmed {
			continue
		}
		a, m, ok, err := d.desired.For(ctx, h.Name, s.Before, id, now)
		if err != nil {
			return nil, err
		}
		switch {
		case !ok:
		case !h.Told && a.Hash == h.Hash: // it is the same for it
			a.Rollout, a.Who = s.ID, who.Name
			if err := t.Assign(a, m); err != nil {
				return nil, err
			}
		default:
			p.Targets = append(p.Targets, rollout.Target{Host: h.Name, Hash: a.Hash, Connected: v.Connected,
				Running: v.Running})
		}
	}
	taken := then.Decide([]rollout.Event{{Kind: rollout.TakenBack, By: id, Who: who.Name, Reason: why}}, now)
	if err := d.move(ctx, t, taken); err != nil {
		return nil, err
	}
	first := rollout.Start(p.Head, p.Targets, now)
	if err := d.move(ctx, t, first); err != nil {
		return nil, err
	}
	return []rollout.Delta{taken, first}, nil
}

// Act takes what a person decides of a rollout: to pause, resume, stop or approve it, to skip its soak, to retry or
// leave out hosts.
func (d *Driver) Act(ctx context.Context, who store.Person, id int, e rollout.Event, what string) error {
	e.Who = who.Name
	var deltas []rollout.Delta
	err := d.store.Alone(ctx, func(t *store.Tx) error {
		d.mu.RLock()
		defer d.mu.RUnlock()
		s := d.rollouts[id]
		if s == nil {
			return store.Missingf("there is no rollout %d", id)
		}
		if err := s.May(e); err != nil {
			return err
		}
		if e.Kind == rollout.Resume || e.Kind == rollout.Retry {
			if d.running > 0 && d.running != id {
				return fmt.Errorf("%w: rollout %d is %s", ErrBusy, d.running, d.rollouts[d.running].Status)
			}
			if s.Status == rollout.Stopped && d.superseded(s) {
				return fmt.Errorf("%w: rollout %d came after it, so it is history", rollout.ErrNot, d.last)
			}
		}
		x := s.Decide([]rollout.Event{e}, d.now())
		deltas = []rollout.Delta{x}
		if err := d.move(ctx, t, x); err != nil {
			return err
		}
		return t.Audit(who, d.now(), "rollout "+what, fmt.Sprint(id), nil,
			map[string]string{"host": e.Host, "reason": e.Reason})
	})
	if err == nil {
		d.carryOut(ctx, deltas)
	}
	return err
}

// superseded tells whether a later rollout has taken hosts over. The driver is locked.
func (d *Driver) superseded(s *rollout.State) bool {
	for id := s.ID + 1; id <= d.last; id++ {
		if o := d.rollouts[id]; o != nil && o.Chosen == "" {
			return true
		}
	}
	return false
}

// Back takes back what a rollout did, and answers the number of the rollout that does it.
func (d *Driver) Back(ctx context.Context, who store.Person, id int, why string) (back int, err error) {
	var deltas []rollout.Delta
	err = d.store.Alone(ctx, func(t *store.Tx) error {
		d.mu.RLock()
		defer d.mu.RUnlock()
		s := d.rollouts[id]
		if s == nil {
			return store.Missingf("there is no rollout %d", id)
		}
		if err := s.May(rollout.Event{Kind: rollout.TakenBack}); err != nil {
			return err
		}
		switch {
		case s.Before == 0:
			return fmt.Errorf("%w: nothing was in force before rollout %d, so there is nothing to go back to",
				rollout.ErrNot, id)
		case d.running > 0 && d.running != id:
			return fmt.Errorf("%w: rollout %d is %s", ErrBusy, d.running, d.rollouts[d.running].Status)
		case d.superseded(s):
			return fmt.Errorf("%w: later rollouts came after it; start one of revision %d", rollout.ErrNot, s.Before)
		}
		back = d.last + 1
		if deltas, err = d.back(ctx, t, s, nil, who, why); err != nil {
			return err
		}
		return t.Audit(who, d.now(), "rollout back", fmt.Sprint(id), nil, map[string]any{"by": back, "reason": why})
	})
	if err == nil {
		d.carryOut(ctx, deltas)
	}
	return back, err
}

// BackOf tells what taking a rollout back would do: how many hosts it would bring back, and how many of them are away.
// ok is false where it cannot be taken back.
func (d *Driver) BackOf(id int) (hosts, away int, ok bool) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	s := d.rollouts[id]
	if s == nil || s.Before == 0 || s.May(rollout.Event{Kind: rollout.TakenBack}) != nil || d.superseded(s) ||
		d.running > 0 && d.running != id {
		return 0, 0, false
	}
	for _, h := range s.Hosts() {
		if h.State != rollout.LeftOut && h.Told {
			hosts++
			if v, known := d.hosts.Get(h.Name); !known || !v.Connected {
				away++
			}
		}
	}
	return hosts, away, hosts > 0
}

// LetGo gives a pinned host what is in force, and lets it go with the others again.
func (d *Driver) LetGo(ctx context.Context, who store.Person, host string) error {
	var deltas []rollout.Delta
	err := d.store.Alone(ctx, func(t *store.Tx) error {
		d.mu.RLock()
		defer d.mu.RUnlock()
		v, ok := d.hosts.Get(host)
		if !ok {
			return store.Missingf("there is no host %s", host)
		}
		if !v.Assigned.Pinned {
			return fmt.Errorf("%w: %s is not pinned", rollout.ErrNot, host)
		}
		if s := d.rollouts[d.member[host]]; s != nil {
			x := s.Decide([]rollout.Event{{Kind: rollout.Gone, Host: host, Reason: "let go"}}, d.now())
			if err := d.move(ctx, t, x); err != nil {
				return err
			}
			deltas = append(deltas, x)
		}
		a, m, ok, err := d.desired.For(ctx, host, d.inForce, 0, d.now())
		if err != nil {
			return err
		}
		if !ok || d.inForce == 0 {
			return t.Unassign(host)
		}
		a.Who = who.Name
		if err := t.Assign(a, m); err != nil {
			return err
		}
		return t.Audit(who, d.now(), "host let go", host, map[string]int{"revision": v.Assigned.Revision},
			map[string]int{"revision": d.inForce})
	})
	if err == nil {
		d.carryOut(ctx, deltas)
		d.offer(ctx, host)
	}
	return err
}
