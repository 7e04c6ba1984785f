// Package desired tells what each host should run. It holds the one rendered fleet: at the newest revision, at each
// revision that hosts are assigned, and as drafts would make it. Each next one is made from what is there, so that an
// edit costs the hosts that it reaches. Impact, pending, baselines and rollouts all ask it.
package desired

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"synaxis/internal/core/inventory"
	"synaxis/internal/core/render"
	"synaxis/internal/service/revisions"
	"synaxis/internal/service/store"
)

// Hosts gives the hosts as definitions see them: the same index for as long as nothing of that has changed.
type Hosts interface{ Index() *inventory.Index }

// Secrets tells which secrets exist, with their versions.
type Secrets interface{ Versions() map[string]int }

// Desired is what hosts should run. It is safe for concurrent use.
type Desired struct {
	store     *store.Store
	hosts     Hosts
	secrets   Secrets
	revisions *revisions.Revisions
	log       *slog.Logger

	mu       sync.RWMutex
	assigned map[string]store.Assignment
	pending  map[string]string // by host: why it should run something else than it is assigned

	rendering sync.Mutex
	fleets    map[key]*fleet
	turn      int
}

// key names a rendered fleet: at a revision, or as a draft would make it.
type key struct{ revision, draft int }

type fleet struct {
	*render.Fleet
	asked int // when it was asked for last, in turns
}

// maxFleets bounds the fleets that are kept: those that were asked for last.
const maxFleets = 12

// New reads what hosts are assigned, and follows its changes.
func New(
	ctx context.Context,
	st *store.Store,
	hosts Hosts,
	secrets Secrets,
	r *revisions.Revisions,
	log *slog.Logger,
) (*Desired, error) {
	d := &Desired{
		store:     st,
		hosts:     hosts,
		secrets:   secrets,
		revisions: r,
		log:       log,
		assigned:  map[string]store.Assignment{},
		pending:   map[string]string{},
		fleets:    map[key]*fleet{},
	}
	list, err := st.Assignments(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range list {
		d.assigned[a.Host] = a
	}
	st.Follow(d.follow)
	d.Review(ctx, slices.Collect(maps.Keys(d.assigned))...)
	return d, nil
}

func (d *Desired) follow(changes []store.Change) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range changes {
		switch c := c.(type) {
		case store.Assigned:
			d.assigned[c.Host] = c.Assignment
			delete(d.pending, c.Host)
		case store.Unassigned:
			delete(d.assigned, c.Host)
			delete(d.pending, c.Host)
		}
	}
}

// Of returns what a host is assigned, and why it should run something else by now, as Causes tells it, or "".
func (d *Desired) Of(host string) (a store.Assignment, pending string) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	return d.assigned[host], d.pending[host]
}

// Input is what hosts are rendered from at a state.
func (d *Desired) Input(st *revisions.State) render.Input {
	return render.Input{Catalogue: st.Catalogue, Changed: st.Changed, Secrets: d.secrets.Versions()}
}

// At is the fleet as it is now, rendered at a published state.
func (d *Desired) At(st *revisions.State) *render.Fleet {
	return d.rendered(key{revision: st.Revision.Number}, st)
}

// Draft is the fleet as it is now, rendered as a draft would make it. id, which must not be 0, tells drafts apart.
func (d *Desired) Draft(id int, st *revisions.State) *render.Fleet {
	return d.rendered(key{st.Revision.Number, id}, st)
}

func (d *Desired) rendered(k key, st *revisions.State) *render.Fleet {
	d.rendering.Lock()
	defer d.rendering.Unlock()
	d.turn++
	x, in := d.hosts.Index(), d.Input(st)
	f := d.fleets[k]
	if f == nil {
		f = &fleet{Fleet: d.nearest(k)}
		d.fleets[k] = f
	}
	f.asked = d.turn
	switch {
	case f.Fleet == nil:
		f.Fleet = render.NewFleet(in, x)
	case f.Index != x:
		f.Fleet, _ = f.WithHosts(x)
	}
	if !same(f.Input(), in) {
		f.Fleet, _ = f.With(in)
	}
	for len(d.fleets) > maxFleets {
		oldest := k
		for o, f := range d.fleets {
			if f.asked < d.fleets[oldest].asked {
				oldest = o
			}
		}
		delete(d.fleets, oldest)
	}
	return f.Fleet
}

// nearest finds a fleet to make another one from: the one whose revision is nearest.
func (d *Desired) nearest(k key) *render.Fleet {
	var best *render.Fleet
	far := 0
	for o, f := range d.fleets {
		away := 2*max(o.revision-k.revision, k.revision-o.revision) + min(1, o.draft*o.draft)
		if best == nil || away < far {
			best, far = f.Fleet, away
		}
	}
	return best
}

func same(a, b render.Input) bool {
	return a.Catalogue == b.Catalogue && maps.Equal(a.Secrets, b.Secrets)
}

// Review looks anew whether hosts should run something else than they are assigned: of those that are named, or,
// without names, of all.
func (d *Desired) Review(ctx context.Context, hosts ...string) {
	by := map[int][]store.Assignment{}
	d.mu.RLock()
	if len(hosts) == 0 {
		hosts = slices.Collect(maps.Keys(d.assigned))
	}
	for _, name := range hosts {
		if a, ok := d.assigned[name]; ok && a.Hash != "" {
			by[a.Revision] = append(by[a.Revision], a)
		}
	}
	d.mu.RUnlock()
	for revision, list := range by {
		st, err := d.revisions.At(ctx, revision)
		if err != nil {
			d.log.Error("what hosts should run cannot be rendered", "revision", revision, "error", err)
			continue
		}
		f := d.At(st)
		d.mu.Lock()
		for _, a := range list {
			if m := f.Host(a.Host); d.assigned[a.Host] == a {
				if m != nil && m.Hash != a.Hash {
					d.pending[a.Host] = strings.Join(Causes(a.Seen, seen(f, m)), ", ")
				} else {
					delete(d.pending, a.Host)
				}
			}
		}
		d.mu.Unlock()
	}
}

// For tells what a host should run at a revision, as what is written down when it is assigned that. ok is false for a
// host that is not in the inventory.
func (d *Desired) For(
	ctx context.Context,
	host string,
	revision, rollout int,
	now time.Time,
) (a store.Assignment, m store.Manifest, ok bool, err error) {
	st, err := d.revisions.At(ctx, revision)
	if err != nil {
		return a, m, false, err
	}
	f := d.At(st)
	r := f.Host(host)
	if r == nil {
		return a, m, false, nil
	}
	a, m = written(r, revision, rollout, now)
	a.Seen = seen(f, r)
	return a, m, true, nil
}

// written is a rendered manifest as it is written down.
func written(r *render.Manifest, revision, rollout int, now time.Time) (store.Assignment, store.Manifest) {
	var left []string
	for _, l := range r.LeftOut {
		left = append(left, fmt.Sprintf("source %s is left out: %s", l.Source, l.Reason))
	}
	a := store.Assignment{
		Host:       r.Host,
		Hash:       r.Hash,
		Revision:   revision,
		Rollout:    rollout,
		AssignedAt: now,
		LeftOut:    strings.Join(left, "; "),
	}
	return a, store.Manifest{
		Hash:     r.Hash,
		Host:     r.Host,
		Revision: revision,
		Renderer: render.RendererVersion,
		Text:     r.Text(),
		Secrets:  r.Secrets(),
	}
}
