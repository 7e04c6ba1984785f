// Package rollouts drives core/rollout: it has what hosts should run written down, offers it, and follows what comes
// back. It holds the promise that whatever was acknowledged survives a crash: state first, commands after.
package rollouts

import (
	"context"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/core/health"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/desired"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/links"
	"synaxis/internal/service/reports"
	"synaxis/internal/service/revisions"
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

	revisions *revisions.Revisions
	reports   *reports.Reports

	mu       sync.RWMutex // what follows is a projection of the store
	rollouts map[int]*rollout.State
	member   map[string]int // by host: the newest rollout that it is in, and not left out of
	running  int            // the rollout that runs or is paused, or 0
	last     int
	inForce  int

	watching sync.Mutex
	marks    map[string]mark                  // of hosts that rollouts with a gate have told
	looked   time.Time                        // when a gate was looked at last
	evidence atomic.Pointer[rollout.Evidence] // of the wave at work, as it was looked at last
	began    time.Time                        // when the service began

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
	revs *revisions.Revisions,
	rep *reports.Reports,
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
		member:   map[string]int{},

		revisions: revs,
		reports:   rep,
		marks:     map[string]mark{},
		began:     now(),
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
		d.rollouts[x.ID], d.last = rollout.From(x), max(d.last, x.ID)
	} else {
		d.rollouts[x.ID].Apply(x)
	}
	for _, h := range x.Hosts {
		switch {
		case h.State != rollout.LeftOut:
			d.member[h.Name] = max(d.member[h.Name], x.ID)
		case d.member[h.Name] == x.ID:
			delete(d.member, h.Name)
		}
	}
	if x.Status == rollout.Running || x.Status == rollout.Paused {
		d.running = x.ID
	} else if d.running == x.ID {
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
		rehashed := d.rehashed(ctx, changed)
		for _, e := range rehashed {
			stepped = append(stepped, hostEvent{e})
		}
		steps = append(steps, rehashed...)
	}
	steps = append(steps, d.look()...)
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
		d.markTold(deltas)
		for _, c := range commands(deltas) {
			switch c.Kind {
			case rollout.Offer:
				offers[c.Host] = true
			case rollout.Withdraw:
				d.withdraw(c)
			}
		}
	}
	for _, host := range slices.Sorted(maps.Keys(offers)) {
		d.offer(ctx, host)
	}
}

// rehashed are the events that hosts which were not told yet would get another config by now.
func (d *Driver) rehashed(ctx context.Context, names []string) (out []rollout.Event) {
	for _, name := range names {
		d.mu.RLock()
		s := d.rollouts[d.member[name]]
		var h rollout.Host
		if s != nil {
			h, _ = s.Host(name)
		}
		d.mu.RUnlock()
		if s == nil || h.Told || h.State == rollout.Confirmed {
			continue
		}
		if a, _, ok, err := d.desired.For(ctx, name, s.Revision, s.ID, d.now()); err == nil && ok && a.Hash != h.Hash {
			out = append(out, rollout.Event{Kind: rollout.Changed, Host: name, Hash: a.Hash})
		}
	}
	return out
}

// step decides what follows from events and writes it down, in one commit of its own.
func (d *Driver) step(ctx context.Context, events []rollout.Event) (deltas []rollout.Delta, err error) {
	if len(events) == 0 || !d.stir(d.decide(events)) { // most events change nothing
		return nil, nil
	}
	err = d.store.Alone(ctx, func(t *store.Tx) error {
		deltas = d.decide(events)
		for _, x := range deltas {
			if err := d.move(ctx, t, x); err != nil {
				return err
			}
		}
		back, err := d.backByPlan(ctx, t, deltas)
		deltas = append(deltas, back...)
		return err
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
		if e.Host != "" {
			id = d.member[e.Host]
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

// move writes how a rollout moves on, with what it assigns; the newest one brings its revision into force when it is
// done, unless it was for chosen hosts.
func (d *Driver) move(ctx context.Context, t *store.Tx, x rollout.Delta) error {
	if x.Empty() {
		return nil
	}
	assigned := map[string]string{}
	for _, c := range x.Commands {
		if c.Kind != rollout.Assign {
			continue
		}
		a, m, ok, err := d.desired.For(ctx, c.Host, x.Revision, x.ID, d.now())
		if err != nil {
			return err
		}
		if !ok { // it left the inventory; its event is on its way
			continue
		}
		a.Who, a.Pinned = x.Author, x.Chosen != ""
		assigned[c.Host] = a.Hash
		if err := t.Assign(a, m); err != nil {
			return err
		}
	}
	for i, h := range x.Hosts { // what is sent is what was assigned, also where the host changed just now
		if hash, ok := assigned[h.Name]; ok {
			x.Hosts[i].Hash = hash
		}
	}
	if x.Changes() {
		if err := t.MoveRollout(x); err != nil {
			return err
		}
	}
	s := d.rollouts[x.ID]
	if done := x.Status == rollout.Done && (s == nil || s.Status != rollout.Done); !done || x.ID < d.last ||
		x.Chosen != "" {
		return nil
	}
	return t.SetInForce(x.Revision)
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
		if v.Assigned.Hash == "" {
			return true
		}
		return d.member[v.Name] == 0 && d.rollouts[v.Assigned.Rollout] == nil
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

// Rollout is a rollout as it is shown.
type Rollout struct {
	rollout.Head
	Counts     map[rollout.HostState]int
	WaveCounts []map[rollout.HostState]int
	Evidence   rollout.Evidence
	Decisions  []rollout.Decision
	Hosts      []rollout.Host // of one that was asked for by its number
}

func shown(s *rollout.State) Rollout {
	return Rollout{
		Head:       s.Head,
		Counts:     s.Counts(),
		WaveCounts: s.WaveCounts(),
		Decisions:  s.Decisions,
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
	if id == d.running {
		out.Evidence = d.newest()
	}
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
