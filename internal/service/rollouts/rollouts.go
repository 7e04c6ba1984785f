// Package rollouts drives core/rollout: it has what hosts should run written down, offers it, and follows what comes
// back. It holds the promise that whatever was acknowledged survives a crash: state first, commands after.
package rollouts

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"synaxis/internal/core/health"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/desired"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/links"
	"synaxis/internal/service/store"
)

// Driver moves rollouts on. It is safe for concurrent use.
type Driver struct {
	store   *store.Store
	hosts   *hosts.Hosts
	links   *links.Links
	desired *desired.Desired
	queue   *Queue
	log     *slog.Logger
	now     func() time.Time
	note    func(topic string)

	mu       sync.RWMutex // what follows is a projection of the store
	rollouts map[int]*rollout.State
	running  int // the rollout that runs, or 0
	last     int
	inForce  int

	again []happening // events whose outcome could not be written; they come before newer ones
	told  time.Time   // when the log said so last
}

// New reads the rollouts and goes on where they were.
func New(
	ctx context.Context,
	st *store.Store,
	h *hosts.Hosts,
	l *links.Links,
	d *desired.Desired,
	q *Queue,
	log *slog.Logger,
	now func() time.Time,
	note func(string),
) (*Driver, error) {
	v := &Driver{
		store:    st,
		hosts:    h,
		links:    l,
		desired:  d,
		queue:    q,
		log:      log,
		now:      now,
		note:     note,
		rollouts: map[int]*rollout.State{},
	}
	list, err := st.Rollouts(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		v.apply(d)
	}
	if v.inForce, err = st.InForce(ctx); err != nil {
		return nil, err
	}
	st.Follow(v.follow)
	st.Follow(q.Follow)
	return v, nil
}

// apply moves memory after a commit.
func (d *Driver) apply(x rollout.Delta) {
	if x.New {
		d.rollouts[x.Rollout], d.last = rollout.From(x), max(d.last, x.Rollout)
	} else {
		d.rollouts[x.Rollout].Apply(x)
	}
	if x.Status == rollout.Running {
		d.running = x.Rollout
	} else if d.running == x.Rollout {
		d.running = 0
	}
}

func (d *Driver) follow(changes []store.Change) {
	topics := map[string]bool{}
	d.mu.Lock()
	for _, c := range changes {
		switch c := c.(type) {
		case store.RolloutMoved:
			d.apply(c.Delta)
			topics["rollouts"] = true
		case store.InForce:
			d.inForce = c.Revision
			topics["revisions"] = true
		}
	}
	d.mu.Unlock()
	for topic := range topics {
		d.note(topic)
	}
}

// maxBatch bounds how many events are handled in one commit.
const maxBatch = 4000

// Run handles events until ctx ends. Events that wait are handled together and written in one commit.
func (d *Driver) Run(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		var batch []happening
		select {
		case <-ctx.Done():
			return
		case <-d.queue.signal:
			batch = d.queue.take(maxBatch)
		case <-tick.C:
			batch = append(d.queue.take(maxBatch), hostEvent{rollout.Event{Kind: rollout.Tick}})
		}
		d.handle(context.WithoutCancel(ctx), batch)
	}
}

// tellEvery is how often the log says what stays wrong.
const tellEvery = time.Minute

// failed keeps events whose outcome could not be written, for another try.
func (d *Driver) failed(err error, events []happening) {
	d.again = append(d.again, events...)
	if d.now().Sub(d.told) >= tellEvery {
		d.told = d.now()
		d.log.Error(
			"what happened to hosts cannot be written; it is tried again every second",
			"waiting",
			len(d.again),
			"error",
			err,
		)
	}
}

// handle takes events, writes down what they change, and then carries out commands. What cannot be written is kept and
// tried again: nothing has changed until then.
func (d *Driver) handle(ctx context.Context, batch []happening) {
	batch, d.again = append(d.again, batch...), nil
	var steps []rollout.Event
	var changed []string
	var stepped, others []happening
	baseline, all := map[string]bool{}, false
	offers := map[string]bool{}
	for _, x := range batch {
		switch x := x.(type) {
		case hostChanged:
			changed, others = append(changed, x.name), append(others, x)
			baseline[x.name] = true
		case inForceChanged:
			all, others = true, append(others, x)
		case secretsChanged:
			d.desired.Review(ctx)
			d.note("hosts")
		case hostEvent:
			steps = append(steps, x.Event)
			if x.Kind != rollout.Tick {
				stepped = append(stepped, x)
			}
			if x.Kind == rollout.Connected {
				offers[x.Host] = true
			}
		}
	}
	if len(changed) > 0 {
		d.desired.Review(ctx, changed...)
	}
	if len(changed) > 0 || all {
		given, err := d.baselines(ctx, baseline, all)
		if err != nil {
			d.failed(err, others)
		}
		for _, name := range given {
			offers[name] = true
		}
		d.note("hosts") // pending is shown
	}
	if deltas, err := d.step(ctx, steps); err != nil {
		d.failed(err, stepped)
	} else {
		for _, x := range deltas {
			for _, c := range x.Commands {
				switch c.Kind {
				case rollout.Offer:
					offers[c.Host] = true
				case rollout.Withdraw:
					d.withdraw(c)
				}
			}
		}
	}
	for _, host := range slices.Sorted(maps.Keys(offers)) {
		d.offer(ctx, host)
	}
}

// step decides what follows from events and writes it down, in one commit of its own.
func (d *Driver) step(ctx context.Context, events []rollout.Event) (deltas []rollout.Delta, err error) {
	if len(events) == 0 || !d.stir(d.decide(events)) { // most events change nothing
		return nil, nil
	}
	err = d.store.Alone(ctx, func(t *store.Tx) error {
		deltas = d.decide(events)
		for _, x := range deltas {
			if err := d.move(t, x); err != nil {
				return err
			}
		}
		return nil
	})
	return deltas, err
}

func (d *Driver) stir(deltas []rollout.Delta) bool {
	return slices.ContainsFunc(deltas, func(x rollout.Delta) bool { return !x.Empty() })
}

// decide lets each rollout take the events of its hosts, in their order.
func (d *Driver) decide(events []rollout.Event) (deltas []rollout.Delta) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	by := map[int][]rollout.Event{}
	for _, e := range events {
		id := d.running
		if e.Kind != rollout.Tick {
			a, _ := d.desired.Of(e.Host)
			if id = a.Rollout; e.Kind == rollout.Gone {
				id = d.holder(e.Host, id)
			}
		}
		if d.rollouts[id] != nil {
			by[id] = append(by[id], e)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(by)) {
		deltas = append(deltas, d.rollouts[id].Decide(by[id], d.now()))
	}
	return deltas
}

// holder is the rollout that a host is in: the one that its assignment names, or, when that was taken away, the newest
// that has it.
func (d *Driver) holder(host string, id int) int {
	if id == 0 {
		for id = d.last; id > 0; id-- {
			if s := d.rollouts[id]; s != nil {
				if _, ok := s.Host(host); ok {
					return id
				}
			}
		}
	}
	return id
}

// move writes how a rollout moves on; the newest one brings its revision into force when it is done.
func (d *Driver) move(t *store.Tx, x rollout.Delta) error {
	if !x.Changes() {
		return nil
	}
	if err := t.MoveRollout(x); err != nil {
		return err
	}
	s := d.rollouts[x.Rollout]
	if done := x.Status == rollout.Done && (s == nil || s.Status != rollout.Done); !done || x.Rollout < d.last {
		return nil
	}
	revision := x.Revision
	if s != nil {
		revision = s.Revision
	}
	return t.SetInForce(revision)
}

// baselines gives what is in force to the hosts that no rollout has reached: those that joined meanwhile. It answers
// which it gave.
func (d *Driver) baselines(ctx context.Context, names map[string]bool, all bool) (given []string, err error) {
	revision := d.InForce()
	wants := func(v hosts.View) bool {
		if v.UID == "" || !v.RetiredAt.IsZero() || v.Assigned.Hash != "" && (!all || v.Assigned.Revision == revision) {
			return false
		}
		d.mu.RLock()
		defer d.mu.RUnlock()
		return v.Assigned.Hash == "" || d.rollouts[v.Assigned.Rollout] == nil
	}
	if all {
		names = map[string]bool{}
		for _, v := range d.hosts.All() {
			names[v.Name] = true
		}
	}
	var chosen []string
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if v, ok := d.hosts.Get(name); ok && wants(v) {
			chosen = append(chosen, name)
		}
	}
	if len(chosen) == 0 || revision == 0 {
		return nil, nil
	}
	err = d.store.Alone(ctx, func(t *store.Tx) error {
		given = nil
		for _, name := range chosen {
			v, ok := d.hosts.Get(name)
			if !ok || !wants(v) ||
				d.InForce() != revision { // it was retired, or assigned, or another revision came into force
				continue
			}
			a, m, ok, err := d.desired.For(ctx, name, revision, 0, d.now())
			if err != nil {
				return err
			}
			if !ok {
				continue
			}
			if err := t.Assign(a, m); err != nil {
				return err
			}
			given = append(given, name)
		}
		return nil
	})
	return given, err
}

// offer sends a host the config that it is assigned, unless it runs it or has refused it.
func (d *Driver) offer(ctx context.Context, name string) {
	v, ok := d.hosts.Get(name)
	if !ok || v.Assigned.Hash == "" || !v.Connected || !v.Ours() ||
		v.Running == v.Assigned.Hash && v.ConfigState == health.ConfigApplied {
		return
	}
	if v.ConfigHash == v.Assigned.Hash && v.ConfigState == health.ConfigFailed && d.refused(v) {
		return
	}
	m, err := d.store.Manifest(ctx, v.Assigned.Hash)
	if err != nil {
		d.log.Error("an assigned manifest is missing", "host", name, "hash", v.Assigned.Hash, "error", err)
		return
	}
	if m.Secrets == nil { // it was written before they were listed
		if _, again, ok, err := d.desired.For(ctx, name, v.Assigned.Revision, v.Assigned.Rollout,
			d.now()); err == nil &&
			ok &&
			again.Hash == m.Hash {
			m.Secrets = again.Secrets
		}
	}
	d.links.Offer(v.UID, links.Offer{Hash: m.Hash, Text: m.Text, Secrets: m.Secrets})
}

func (d *Driver) withdraw(c rollout.Command) {
	if v, ok := d.hosts.Get(c.Host); ok && v.Assigned.Hash != c.Hash {
		d.links.Withdraw(v.UID, c.Hash)
	}
}

// refused tells whether the rollout of a host counts its refusal already; a new rollout of the same config offers it
// again, since the host may have been mended.
func (d *Driver) refused(v hosts.View) bool {
	d.mu.RLock()
	defer d.mu.RUnlock()
	s := d.rollouts[v.Assigned.Rollout]
	if s == nil {
		return true
	}
	h, _ := s.Host(v.Name)
	return h.State == rollout.Refused
}

// ErrBusy says that a rollout is under way.
var ErrBusy = errors.New("a rollout is under way")

// pollerPatience is how long a polling host may take to answer: three of its intervals.
const pollerPatience = 3 * links.PollPatience

// Start rolls a revision out to all hosts, 0 for the newest. It answers the number of the rollout.
func (d *Driver) Start(ctx context.Context, who store.Person, revision int) (int, error) {
	var first rollout.Delta
	var deltas []rollout.Delta
	err := d.store.Alone(ctx, func(t *store.Tx) (err error) {
		first, deltas, err = d.start(ctx, t, who, revision)
		return err
	})
	if err != nil {
		return 0, err
	}
	for _, x := range append(deltas, first) {
		for _, c := range x.Commands {
			switch c.Kind {
			case rollout.Offer:
				d.offer(ctx, c.Host)
			case rollout.Withdraw:
				d.withdraw(c)
			}
		}
	}
	return first.Rollout, nil
}

func (d *Driver) start(
	ctx context.Context,
	t *store.Tx,
	who store.Person,
	revision int,
) (first rollout.Delta, deltas []rollout.Delta, err error) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	if d.running > 0 {
		return first, nil, fmt.Errorf(
			"%w: rollout %d of revision %d; wait until it has ended",
			ErrBusy,
			d.running,
			d.rollouts[d.running].Revision,
		)
	}
	if revision == 0 {
		if revision, err = t.Head(); err != nil {
			return first, nil, err
		}
	}
	if revision == 0 {
		return first, nil, store.Missingf("nothing has been published yet, so there is nothing to roll out")
	}
	id, now := d.last+1, d.now()
	var targets []rollout.Target
	wanted := map[string]store.Manifest{}
	assignments := map[string]store.Assignment{}
	taken := map[int][]rollout.Event{}
	for _, v := range d.hosts.All() {
		if v.UID == "" {
			continue
		}
		a, m, ok, err := d.desired.For(ctx, v.Name, revision, id, now)
		if err != nil {
			return first, nil, err
		}
		if !ok {
			continue
		}
		wanted[v.Name], assignments[v.Name] = m, a
		x := rollout.Target{Host: v.Name, Hash: a.Hash, Connected: v.Connected, Running: v.Running}
		if v.Transport == "polling" {
			x.Patience = pollerPatience
		}
		targets = append(targets, x)
		taken[v.Assigned.Rollout] = append(
			taken[v.Assigned.Rollout],
			rollout.Event{Kind: rollout.Gone, Host: v.Name, Reason: fmt.Sprintf("taken over by rollout %d", id)},
		)
	}
	for _, other := range slices.Sorted(maps.Keys(taken)) {
		if s := d.rollouts[other]; s != nil {
			x := s.Decide(taken[other], now)
			if err := d.move(t, x); err != nil {
				return first, nil, err
			}
			deltas = append(deltas, x)
		}
	}
	first = rollout.Start(id, revision, who.Name, targets, now)
	for _, c := range first.Commands {
		if c.Kind == rollout.Assign {
			if err := t.Assign(assignments[c.Host], wanted[c.Host]); err != nil {
				return first, nil, err
			}
		}
	}
	if err := d.move(t, first); err != nil {
		return first, nil, err
	}
	return first, deltas, t.Audit(who, now, "rollout start", fmt.Sprint(id), nil, revision)
}

// Rollout is a rollout as it is shown.
type Rollout struct {
	ID, Revision   int
	Author         string
	Status         rollout.Status
	Wave, Waves    int
	Started, Ended time.Time
	Counts         map[rollout.HostState]int
	Decisions      []rollout.Decision
	Hosts          []rollout.Host // of one that was asked for by its number
}

func shown(s *rollout.State) Rollout {
	return Rollout{
		ID:        s.ID,
		Revision:  s.Revision,
		Author:    s.Author,
		Status:    s.Status,
		Wave:      s.Wave,
		Waves:     s.Waves,
		Started:   s.Started,
		Ended:     s.Ended,
		Counts:    s.Counts(),
		Decisions: s.Decisions,
	}
}

// Get returns one rollout, with its hosts.
func (d *Driver) Get(id int) (Rollout, error) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	s := d.rollouts[id]
	if s == nil {
		return Rollout{}, store.Missingf("there is no rollout %d", id)
	}
	out := shown(s)
	out.Hosts = s.Hosts()
	return out, nil
}

// All returns all rollouts without their hosts, newest first.
func (d *Driver) All() []Rollout {
	d.mu.RLock()
	defer d.mu.RUnlock()
	var out []Rollout
	for id := d.last; id > 0; id-- {
		if s := d.rollouts[id]; s != nil {
			out = append(out, shown(s))
		}
	}
	return out
}

// Manifests are the hashes of those that are needed beside what hosts are assigned: what agents report that they run,
// and what rollouts that have not ended offer.
func (d *Driver) Manifests() []string {
	keep := map[string]bool{}
	d.mu.RLock()
	if s := d.rollouts[d.running]; s != nil {
		for _, h := range s.Hosts() {
			keep[h.Hash] = true
		}
	}
	d.mu.RUnlock()
	for _, v := range d.hosts.All() {
		keep[v.Running], keep[v.ConfigHash] = true, true
	}
	return slices.Sorted(maps.Keys(keep))
}

// InForce is the revision whose rollout was completed last, 0 for none.
func (d *Driver) InForce() int {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.inForce
}
