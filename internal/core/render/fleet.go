package render

import (
	"maps"
	"slices"
	"sync"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/inventory"
)

// Fleet is a whole inventory rendered against one input. It is never changed: With and WithHosts make the next one and
// share with it all that an edit does not reach, so that the cost of an edit is that of the hosts it reaches.
type Fleet struct {
	Index     *inventory.Index
	Manifests []*Manifest // by the position of the host in Index
	renderer  *Renderer
	chosen    map[catalogue.ID]inventory.Set
	guard     *sync.Mutex // for the caches of fragments, which successors share
}

// NewFleet renders all hosts.
func NewFleet(in Input, x *inventory.Index) *Fleet {
	f := &Fleet{
		Index:     x,
		renderer:  New(in),
		chosen:    map[catalogue.ID]inventory.Set{},
		guard:     &sync.Mutex{},
		Manifests: make([]*Manifest, len(x.Hosts)),
	}
	for _, d := range in.Catalogue.All() {
		if s := d.Selector(); s != nil {
			f.chosen[d.ID] = x.Choose(*s)
		}
	}
	render := f.render()
	for i := range x.Hosts {
		f.Manifests[i] = render(i)
	}
	return f
}

// render returns what renders one host. The sets of the definitions stand in lists, since they are asked for each
// host.
func (f *Fleet) render() func(host int) *Manifest {
	host := 0
	of := func(prepared []*prepared) func(i int) bool {
		sets := make([]inventory.Set, len(prepared))
		for i, p := range prepared {
			sets[i] = f.chosen[p.def.ID]
		}
		return func(i int) bool { return sets[i].Has(host) }
	}
	settings := make([]inventory.Set, 0, 8)
	for _, d := range f.renderer.in.Catalogue.Settings() {
		settings = append(settings, f.chosen[d.ID])
	}
	chosen := chooser{of(f.renderer.agents), of(f.renderer.sources), func(i int) bool { return settings[i].Has(host) }}
	return func(i int) *Manifest {
		host = i
		return f.renderer.host(&f.Index.Hosts[i], chosen)
	}
}

// Input is what the fleet was rendered from.
func (f *Fleet) Input() Input { return f.renderer.in }

// Chosen returns the hosts that a source, settings or agents definition chooses.
func (f *Fleet) Chosen(id catalogue.ID) inventory.Set { return f.chosen[id] }

// With renders the same hosts from another input. reached are the hosts that were rendered anew; they may still come
// out as they were.
func (f *Fleet) With(in Input) (next *Fleet, reached inventory.Set) {
	f.guard.Lock()
	defer f.guard.Unlock()
	next = &Fleet{
		Index:     f.Index,
		guard:     f.guard,
		chosen:    maps.Clone(f.chosen),
		Manifests: append([]*Manifest(nil), f.Manifests...),
	}
	next.renderer = renderer(in, f.renderer)
	reached = f.Index.NewSet()
	old, now := f.renderer.in.Catalogue, in.Catalogue
	touched := map[catalogue.ID]bool{} // formats, masks and destinations that mean something else
	visit := func(d *catalogue.Definition) {
		before, after := old.Get(d.Kind, d.Name), now.Get(d.Kind, d.Name)
		if before != nil && after != nil && (before == after || before.Text == after.Text) &&
			f.renderer.same(next.renderer, d.ID) {
			return
		}
		if d.Selector() == nil {
			touched[d.ID] = true
			return
		}
		if set, ok := f.chosen[d.ID]; ok {
			reached.Or(set)
		}
		delete(next.chosen, d.ID)
		if after != nil {
			next.chosen[d.ID] = f.Index.Choose(*after.Selector())
			reached.Or(next.chosen[d.ID])
		}
	}
	for _, d := range now.All() {
		visit(d)
	}
	for _, d := range old.All() {
		if now.Get(d.Kind, d.Name) == nil {
			visit(d)
		}
	}
	for _, side := range []*Fleet{f, next} {
		for _, p := range side.renderer.sources {
			for _, u := range p.uses {
				if touched[side.renderer.shared[u].def.ID] {
					reached.Or(side.chosen[p.def.ID])
					break
				}
			}
		}
	}
	render := next.render()
	reached.Each(func(i int) { next.Manifests[i] = render(i) })
	return next, reached
}

// same tells whether two renderers have prepared a definition in the same way, or both have not.
func (r *Renderer) same(o *Renderer, id catalogue.ID) bool {
	a, b := r.byID[id], o.byID[id]
	if a == nil || b == nil {
		return a == b
	}
	return b.means(a.def, a.guards, a.revision, r.in.Secrets)
}

// WithHosts renders other hosts from the same input. Hosts that are as they were are not rendered anew.
func (f *Fleet) WithHosts(x *inventory.Index) (next *Fleet, reached inventory.Set) {
	f.guard.Lock()
	defer f.guard.Unlock()
	if positions, ok := x.EditedFrom(f.Index); ok {
		return f.withEdited(x, positions)
	}
	next = &Fleet{
		Index:     x,
		renderer:  f.renderer,
		guard:     f.guard,
		chosen:    map[catalogue.ID]inventory.Set{},
		Manifests: make([]*Manifest, len(x.Hosts)),
	}
	for _, d := range f.renderer.in.Catalogue.All() {
		if s := d.Selector(); s != nil {
			next.chosen[d.ID] = x.Choose(*s)
		}
	}
	reached = x.NewSet()
	render := next.render()
	for i := range x.Hosts {
		if at, ok := f.Index.Position(x.Hosts[i].Name); ok && alike(&x.Hosts[i], &f.Index.Hosts[at]) {
			next.Manifests[i] = f.Manifests[at]
			continue
		}
		reached.Put(i, true)
		next.Manifests[i] = render(i)
	}
	return next, reached
}

// withEdited is WithHosts when it is known which hosts are others.
func (f *Fleet) withEdited(x *inventory.Index, positions []int) (next *Fleet, reached inventory.Set) {
	next = &Fleet{
		Index:     x,
		renderer:  f.renderer,
		guard:     f.guard,
		chosen:    map[catalogue.ID]inventory.Set{},
		Manifests: slices.Clone(f.Manifests),
	}
	for id, set := range f.chosen {
		sel := f.renderer.in.Catalogue.Get(id.Kind, id.Name).Selector()
		own := false
		for _, i := range positions {
			if in := sel.Match(&x.Hosts[i]); in != set.Has(i) {
				if !own {
					set, own = slices.Clone(set), true
				}
				set.Put(i, in)
			}
		}
		next.chosen[id] = set
	}
	reached = x.NewSet()
	render := next.render()
	for _, i := range positions {
		if !alike(&x.Hosts[i], &f.Index.Hosts[i]) {
			reached.Put(i, true)
			next.Manifests[i] = render(i)
		}
	}
	return next, reached
}

// alike tells whether two hosts are rendered the same.
func alike(a, b *inventory.Host) bool {
	return a.Name == b.Name && a.OS == b.OS && a.Arch == b.Arch && a.System == b.System &&
		maps.Equal(a.Labels, b.Labels) &&
		maps.Equal(a.Settings, b.Settings)
}

// Host finds the manifest of a host by its name, or nil.
func (f *Fleet) Host(name string) *Manifest {
	if i, ok := f.Index.Position(name); ok {
		return f.Manifests[i]
	}
	return nil
}
