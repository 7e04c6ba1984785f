// Package rollouts drives core/rollout: it renders what hosts should run, writes it down, offers it, and follows what
// comes back. It holds the promise that whatever was acknowledged survives a crash: state first, commands after.
package rollouts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/agents"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/store"
)

// Driver is the desk of the fleet.
type Driver struct {
	store   *store.Store
	fleet   *agents.Fleet
	changes *changes.Service
	log     *slog.Logger
	now     func() time.Time
	note    func(topic string)

	mu       sync.Mutex
	rollouts map[int]*entry
	last     int
	inForce  int
	renders  map[int]*render.Renderer
	again    []any     // events whose outcome could not be written; they come before newer ones
	told     time.Time // when the log said so last

	events chan any
}

// staged are the rollouts as they will be once a commit has succeeded; until then memory stays as it is.
type staged map[int]rollout.State

// state is a rollout as it will be.
func (d *Driver) state(next staged, id int) (rollout.State, bool) {
	if s, ok := next[id]; ok {
		return s, true
	}
	e := d.rollouts[id]
	if e == nil {
		return rollout.State{}, false
	}
	return e.state, true
}

type entry struct {
	author string
	state  rollout.State
}

// secretsChanged is the event that a secret was set or removed.
type secretsChanged struct{}

// hostChanged is the event that a host's labels or settings changed.
type hostChanged struct{ name string }

// inForceChanged is the event that another revision is in force: who joined meanwhile gets it.
type inForceChanged struct{}

// New reads the rollouts and goes on where they were.
func New(ctx context.Context, st *store.Store, fleet *agents.Fleet, ch *changes.Service, log *slog.Logger, now func() time.Time, note func(string)) (*Driver, error) {
	d := &Driver{store: st, fleet: fleet, changes: ch, log: log, now: now, note: note, rollouts: map[int]*entry{}, renders: map[int]*render.Renderer{}, events: make(chan any, 4096)}
	list, err := st.Rollouts(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range list {
		e := &entry{author: r.Author}
		if err := json.Unmarshal([]byte(r.State), &e.state); err != nil {
			return nil, fmt.Errorf("rollout %d is damaged: %w", r.ID, err)
		}
		d.rollouts[r.ID], d.last = e, max(d.last, r.ID)
	}
	text, err := st.Meta(ctx, "in-force")
	if err != nil {
		return nil, err
	}
	d.inForce, _ = strconv.Atoi(text)
	for _, h := range fleet.All() {
		d.pending(ctx, h.Name)
	}
	return d, nil
}

// HostEvent takes an event of a host; it is handled soon, in order.
func (d *Driver) HostEvent(e rollout.Event) { d.events <- e }

// HostChanged takes word that a host's labels or settings changed, or that it joined.
func (d *Driver) HostChanged(name string) { d.events <- hostChanged{name} }

// SecretsChanged takes word that secrets have other versions.
func (d *Driver) SecretsChanged() { d.events <- secretsChanged{} }

// Run handles events until ctx ends. Events that wait are handled together and written in one commit.
func (d *Driver) Run(ctx context.Context) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		var batch []any
		select {
		case <-ctx.Done():
			return
		case e := <-d.events:
			batch = append(batch, e)
		case <-tick.C:
			batch = append(batch, rollout.Event{Kind: rollout.Tick})
		}
		for more := true; more && len(batch) < 1000; {
			select {
			case e := <-d.events:
				batch = append(batch, e)
			default:
				more = false
			}
		}
		d.handle(context.WithoutCancel(ctx), batch)
	}
}

// tellEvery is how often the log says what stays wrong.
const tellEvery = time.Minute

// failed keeps events whose outcome could not be written, for another try.
func (d *Driver) failed(err error, events ...any) {
	d.again = append(d.again, events...)
	if d.now().Sub(d.told) >= tellEvery {
		d.told = d.now()
		d.log.Error("what happened to hosts cannot be written; it is tried again every second", "waiting", len(d.again), "error", err)
	}
}

// handle takes events, persists what they changed, and then moves memory and carries out commands. What cannot be written is kept and tried
// again: nothing has changed until then.
func (d *Driver) handle(ctx context.Context, batch []any) {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := d.now()
	batch, d.again = append(d.again, batch...), nil
	next := staged{}
	var steps []any
	var cmds []rollout.Command
	var offers []string
	for _, x := range batch {
		switch x := x.(type) {
		case hostChanged:
			if err := d.hostChanged(ctx, x.name); err != nil {
				d.failed(err, x)
			}
		case inForceChanged:
			if err := d.baselines(ctx); err != nil {
				d.failed(err, x)
			}
		case secretsChanged:
			clear(d.renders)
			for _, v := range d.fleet.All() {
				d.pending(ctx, v.Name)
			}
			d.note("hosts")
		case rollout.Event:
			if x.Kind == rollout.Tick {
				for id, e := range d.rollouts {
					if e.state.Status == rollout.Running {
						d.step(id, x, now, next, &cmds)
					}
				}
				continue
			}
			steps = append(steps, x)
			v, ok := d.fleet.Get(x.Host)
			if !ok {
				continue
			}
			d.step(v.Assigned.Rollout, x, now, next, &cmds)
			if x.Kind == rollout.Connected {
				offers = append(offers, x.Host)
			}
		}
	}
	if err := d.persist(ctx, next); err != nil {
		d.failed(err, steps...)
		return
	}
	for _, c := range cmds {
		offers = append(offers, c.Host)
	}
	slices.Sort(offers)
	for _, host := range slices.Compact(offers) {
		d.offer(ctx, host)
	}
}

// step takes an event into the rollout as it will be.
func (d *Driver) step(id int, e rollout.Event, now time.Time, next staged, cmds *[]rollout.Command) {
	before, ok := d.state(next, id)
	if !ok {
		return
	}
	after, c := rollout.Step(before, e, now)
	*cmds = append(*cmds, c...)
	if e.Kind != rollout.Tick && before.Hosts[e.Host] == after.Hosts[e.Host] && before.Status == after.Status {
		return
	}
	if e.Kind == rollout.Tick && before.Status == after.Status && len(after.Decisions) == len(before.Decisions) {
		same := true
		for name, h := range after.Hosts {
			same = same && before.Hosts[name] == h
		}
		if same {
			return
		}
	}
	next[id] = after
}

// put writes rollouts as they will be; one that is done brings its revision into force.
func (d *Driver) put(t *store.Tx, next staged, last int) (inForce int, err error) {
	inForce = d.inForce
	for id, state := range next {
		text, err := json.Marshal(state)
		if err != nil {
			return 0, err
		}
		author := ""
		if e := d.rollouts[id]; e != nil {
			author = e.author
		}
		if err := t.PutRollout(store.Rollout{ID: id, Revision: state.Revision, Author: author, State: string(text)}); err != nil {
			return 0, err
		}
		if state.Status == rollout.Done && id == last {
			inForce = state.Revision
			if err := t.SetMeta("in-force", strconv.Itoa(inForce)); err != nil {
				return 0, err
			}
		}
	}
	return inForce, nil
}

// persist writes the rollouts that changed, and then moves memory.
func (d *Driver) persist(ctx context.Context, next staged) error {
	if len(next) == 0 {
		return nil
	}
	var inForce int
	err := d.store.Update(ctx, func(t *store.Tx) (err error) {
		inForce, err = d.put(t, next, d.last)
		return err
	})
	if err != nil {
		return err
	}
	d.moved(ctx, next, inForce)
	return nil
}

// moved moves memory after a commit.
func (d *Driver) moved(ctx context.Context, next staged, inForce int) {
	for id, state := range next {
		d.rollouts[id].state = state
	}
	d.note("rollouts")
	if inForce != d.inForce {
		d.inForce = inForce
		d.note("revisions")
		if err := d.baselines(ctx); err != nil {
			d.failed(err, inForceChanged{})
		}
	}
}

// baselines gives what is in force to the hosts that no rollout has reached: those that joined while another revision was rolled out.
func (d *Driver) baselines(ctx context.Context) error {
	for _, v := range d.fleet.All() {
		if e := d.rollouts[v.Assigned.Rollout]; v.UID != "" && v.Assigned.Revision != d.inForce && (e == nil || v.Assigned.Hash == "") {
			if err := d.assignBaseline(ctx, v); err != nil {
				return err
			}
			d.offer(ctx, v.Name)
		}
	}
	return nil
}

// offer sends a host the config that it is assigned, unless it runs it or has refused it.
func (d *Driver) offer(ctx context.Context, name string) {
	v, ok := d.fleet.Get(name)
	if !ok || v.Assigned.Hash == "" || !v.Connected || v.Running == v.Assigned.Hash && v.ConfigState == "applied" {
		return
	}
	if v.ConfigHash == v.Assigned.Hash && v.ConfigState == "failed" && d.refused(v) {
		return
	}
	m, err := d.store.Manifest(ctx, v.Assigned.Hash)
	if err != nil {
		d.log.Error("an assigned manifest is missing", "host", name, "hash", v.Assigned.Hash, "error", err)
		return
	}
	if m.Secrets == nil { // it was written before they were listed
		if _, again, err := d.render(ctx, v.Inventory(), v.Assigned.Revision, v.Assigned.Rollout); err == nil && again.Hash == m.Hash {
			m.Secrets = again.Secrets
		}
	}
	d.fleet.Offer(name, m)
}

// refused tells whether the rollout of a host counts its refusal already; a new rollout of the same config offers it
// again, since the host may have been mended.
func (d *Driver) refused(v agents.View) bool {
	e := d.rollouts[v.Assigned.Rollout]
	return e == nil || e.state.Hosts[v.Name].State == rollout.Refused
}

// renderer returns the renderer of a revision.
func (d *Driver) renderer(ctx context.Context, revision int) (*render.Renderer, error) {
	if r, ok := d.renders[revision]; ok {
		return r, nil
	}
	st, err := d.changes.At(ctx, revision)
	if err != nil {
		return nil, err
	}
	if len(d.renders) > 8 {
		clear(d.renders)
	}
	r := render.New(d.changes.Input(st))
	d.renders[revision] = r
	return r, nil
}

// hostChanged gives a new host the baseline, and notes when a known one should run something else than it is assigned.
func (d *Driver) hostChanged(ctx context.Context, name string) error {
	v, ok := d.fleet.Get(name)
	if !ok {
		return nil
	}
	if v.Assigned.Hash == "" && v.UID != "" && d.inForce > 0 {
		if err := d.assignBaseline(ctx, v); err != nil {
			return err
		}
		d.offer(ctx, name)
		return nil
	}
	d.pending(ctx, name)
	return nil
}

func (d *Driver) pending(ctx context.Context, name string) {
	v, ok := d.fleet.Get(name)
	if !ok || v.Assigned.Hash == "" {
		return
	}
	r, err := d.renderer(ctx, v.Assigned.Revision)
	if err != nil {
		d.log.Error("cannot render", "revision", v.Assigned.Revision, "error", err)
		return
	}
	why := ""
	h := v.Inventory()
	if r.Host(&h).Hash != v.Assigned.Hash {
		why = "inventory"
	}
	d.fleet.SetPending(name, why)
}

func (d *Driver) assignBaseline(ctx context.Context, v agents.View) error {
	a, m, err := d.render(ctx, v.Inventory(), d.inForce, 0)
	if err != nil {
		return err
	}
	if err := d.store.Update(ctx, func(t *store.Tx) error { return t.Assign(a, m) }); err != nil {
		return err
	}
	d.fleet.SetAssigned(a)
	return nil
}

func (d *Driver) render(ctx context.Context, h inventory.Host, revision, id int) (store.Assignment, store.Manifest, error) {
	r, err := d.renderer(ctx, revision)
	if err != nil {
		return store.Assignment{}, store.Manifest{}, err
	}
	m := r.Host(&h)
	var left []string
	for _, l := range m.LeftOut {
		left = append(left, fmt.Sprintf("source %s is left out: %s", l.Source, l.Reason))
	}
	a := store.Assignment{Host: h.Name, Hash: m.Hash, Revision: revision, Rollout: id, AssignedAt: d.now(), LeftOut: strings.Join(left, "; ")}
	return a, store.Manifest{Hash: m.Hash, Host: h.Name, Revision: revision, Renderer: render.RendererVersion, Text: m.Text(), Secrets: m.Secrets()}, nil
}

// ErrBusy says that a rollout is under way.
var ErrBusy = errors.New("a rollout is under way")

// Start rolls a revision out to all hosts, 0 for the newest.
func (d *Driver) Start(ctx context.Context, who store.Person, revision int) (rollout.State, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if e := d.rollouts[d.last]; e != nil && e.state.Status == rollout.Running {
		return rollout.State{}, fmt.Errorf("%w: rollout %d of revision %d; wait until it has ended", ErrBusy, d.last, e.state.Revision)
	}
	st, err := d.changes.Head(ctx)
	if err == nil && revision > 0 {
		st, err = d.changes.At(ctx, revision)
	}
	if err != nil {
		return rollout.State{}, err
	}
	if revision = st.Revision.Number; revision == 0 {
		return rollout.State{}, store.Missingf("nothing has been published yet, so there is nothing to roll out")
	}
	id, now := d.last+1, d.now()
	var targets []rollout.Target
	var assignments []store.Assignment
	var manifests []store.Manifest
	next := staged{}
	for _, v := range d.fleet.All() {
		if v.UID == "" {
			continue
		}
		a, m, err := d.render(ctx, v.Inventory(), revision, id)
		if err != nil {
			return rollout.State{}, err
		}
		assignments, manifests = append(assignments, a), append(manifests, m)
		t := rollout.Target{Host: v.Name, Hash: a.Hash, Connected: v.Connected, Running: v.Running}
		if v.Transport == "polling" {
			t.Patience = 270 * time.Second
		}
		targets = append(targets, t)
		if e, ok := d.state(next, v.Assigned.Rollout); ok && e.Hosts[v.Name].State != rollout.Confirmed {
			var none []rollout.Command
			d.step(v.Assigned.Rollout, rollout.Event{Kind: rollout.Gone, Host: v.Name, Reason: fmt.Sprintf("taken over by rollout %d", id)}, now, next, &none)
		}
	}
	state, cmds := rollout.Start(id, revision, targets, now)
	d.rollouts[id] = &entry{author: who.Name, state: state}
	next[id] = state
	var inForce int
	err = d.store.Update(ctx, func(t *store.Tx) (err error) {
		for i, a := range assignments {
			if err := t.Assign(a, manifests[i]); err != nil {
				return err
			}
		}
		if inForce, err = d.put(t, next, id); err != nil {
			return err
		}
		return t.Audit(who, now, "rollout start", strconv.Itoa(id), nil, revision)
	})
	if err != nil {
		delete(d.rollouts, id)
		return rollout.State{}, err
	}
	d.last = id
	for _, a := range assignments {
		d.fleet.SetAssigned(a)
	}
	d.moved(ctx, next, inForce)
	for _, c := range cmds {
		d.offer(ctx, c.Host)
	}
	return state, nil
}

// Rollout is a rollout as it is shown.
type Rollout struct {
	rollout.State
	Author string
}

// Get returns one rollout.
func (d *Driver) Get(id int) (Rollout, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	e := d.rollouts[id]
	if e == nil {
		return Rollout{}, store.Missingf("there is no rollout %d", id)
	}
	return Rollout{e.state, e.author}, nil
}

// All returns all rollouts, newest first.
func (d *Driver) All() []Rollout {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []Rollout
	for id := d.last; id > 0; id-- {
		if e := d.rollouts[id]; e != nil {
			out = append(out, Rollout{e.state, e.author})
		}
	}
	return out
}

// Manifests are the hashes of those that are needed beside what hosts are assigned: what agents report that they run, and what rollouts that
// have not ended offer.
func (d *Driver) Manifests() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	keep := map[string]bool{}
	for _, e := range d.rollouts {
		if e.state.Status == rollout.Running {
			for _, h := range e.state.Hosts {
				keep[h.Hash] = true
			}
		}
	}
	d.fleet.Visit(false, func(v *agents.View) { keep[v.Running], keep[v.ConfigHash] = true, true })
	return slices.Sorted(maps.Keys(keep))
}

// InForce is the revision whose rollout was completed last, 0 for none.
func (d *Driver) InForce() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.inForce
}
