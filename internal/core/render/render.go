// Package render turns the catalogue and the inventory into one manifest per host.
//
// Rendering is pure: the same inputs give the same bytes. Each definition is rendered once for every combination of
// values that it reads, and the hosts share these fragments; the hash of a host is over the hashes of its fragments,
// and its text is put together only when somebody asks for it.
package render

import (
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/yamldoc"
)

// RendererVersion is part of every hash: a renderer that writes something else has another one.
const RendererVersion = "1"

// Renderer renders hosts against one catalogue. It caches fragments and belongs to one goroutine.
type Renderer struct {
	cat     *catalogue.Catalogue
	changed map[catalogue.ID]int
	sources []*plan
	shared  []*plan // the formats and destinations in use
}

// plan is a definition prepared for rendering.
type plan struct {
	def      *catalogue.Definition
	refs     []catalogue.Ref
	cache    map[string]*Part
	uses     []int // of a source: places in shared of its format, when it is not built in, and its destinations
	revision int
}

// Part is a rendered definition, as many hosts may share it.
type Part struct {
	catalogue.ID
	Revision int // in which its meaning last changed
	body     []byte
	sum      [sha256.Size]byte
}

// LeftOut is a source that a host should run and cannot, because a value is missing.
type LeftOut struct{ Source, Reason string }

// Manifest is what one host should run.
type Manifest struct {
	Host    string
	Hash    string
	Labels  map[string]string
	Parts   []*Part
	LeftOut []LeftOut
}

// New prepares a renderer. changed tells for each definition the revision in which its meaning last changed.
func New(cat *catalogue.Catalogue, changed map[catalogue.ID]int) *Renderer {
	r := &Renderer{cat: cat, changed: changed}
	place := map[catalogue.ID]int{}
	for _, d := range cat.All() {
		if d.Format != nil || d.Destination != nil {
			place[d.ID] = len(r.shared)
			r.shared = append(r.shared, r.plan(d))
		}
	}
	for _, d := range cat.All() {
		if d.Source == nil {
			continue
		}
		p := r.plan(d)
		if i, ok := place[catalogue.ID{Kind: "format", Name: d.Source.Format}]; ok {
			p.uses = append(p.uses, i)
		}
		for _, to := range d.Source.Send {
			if i, ok := place[catalogue.ID{Kind: "destination", Name: to}]; ok {
				p.uses = append(p.uses, i)
			}
		}
		r.sources = append(r.sources, p)
	}
	return r
}

func (r *Renderer) plan(d *catalogue.Definition) *plan {
	p := &plan{def: d, cache: map[string]*Part{}, revision: r.changed[d.ID]}
	refs, _ := catalogue.DefinitionRefs(d)
	p.refs = slices.SortedFunc(maps.Keys(refs), func(a, b catalogue.Ref) int { return strings.Compare(a.String(), b.String()) })
	return p
}

// Host renders one host.
func (r *Renderer) Host(h inventory.Host) *Manifest {
	m := &Manifest{Host: h.Name, Labels: h.Labels, Parts: make([]*Part, 0, len(r.sources)+4)}
	var settings map[string]string
	lookup := func(ref catalogue.Ref) (string, bool) {
		if settings == nil {
			settings, _ = r.cat.Layers(h)
		}
		return catalogue.Lookup(h, settings)(ref)
	}
	shared := make([]*Part, len(r.shared))
	for _, p := range r.sources {
		if !p.def.Source.Hosts.Match(h.Labels) {
			continue
		}
		part, missing := p.part(lookup)
		if len(missing) == 0 {
			for _, u := range p.uses {
				if _, miss := r.shared[u].part(lookup); len(miss) > 0 {
					missing = append(missing, miss...)
				}
			}
		}
		if len(missing) > 0 {
			m.LeftOut = append(m.LeftOut, LeftOut{p.def.Name, missing[0].String() + " is not defined on this host"})
			continue
		}
		m.Parts = append(m.Parts, part)
		for _, u := range p.uses {
			if shared[u] == nil {
				shared[u], _ = r.shared[u].part(lookup)
			}
		}
	}
	for _, part := range shared { // the catalogue's order: sources come first, and each list is sorted
		if part != nil {
			m.Parts = append(m.Parts, part)
		}
	}
	m.hash()
	return m
}

func (m *Manifest) hash() {
	head := hostconfig.AppendHead(make([]byte, 0, 256), m.Host, RendererVersion, m.Labels)
	h := sha256.New()
	h.Write(head)
	for _, p := range m.Parts {
		h.Write(p.sum[:])
	}
	m.Hash = hex.EncodeToString(h.Sum(nil))
}

func (p *plan) part(lookup func(catalogue.Ref) (string, bool)) (*Part, []catalogue.Ref) {
	key := ""
	if len(p.refs) > 0 {
		var b []byte
		for _, ref := range p.refs {
			v, ok := lookup(ref)
			if !ok {
				return nil, []catalogue.Ref{ref}
			}
			b = append(append(b, v...), 0)
		}
		key = string(b)
	}
	if part, ok := p.cache[key]; ok {
		return part, nil
	}
	head := append(make([]byte, 0, 512), p.def.ID.String()...)
	head = append(head, '\n')
	text := p.body(head, lookup)
	part := &Part{ID: p.def.ID, Revision: p.revision, body: text[len(head):], sum: sha256.Sum256(text)}
	p.cache[key] = part
	return part, nil
}

// body appends the definition with every reference resolved.
func (p *plan) body(dst []byte, lookup func(catalogue.Ref) (string, bool)) []byte {
	expand := func(texts []*string) {
		for _, t := range texts {
			*t, _, _ = catalogue.Expand(*t, lookup)
		}
	}
	expandMap := func(m map[string]string) map[string]string {
		if len(p.refs) == 0 {
			return m
		}
		m = maps.Clone(m)
		for k, v := range m {
			m[k], _, _ = catalogue.Expand(v, lookup)
		}
		return m
	}
	switch d := p.def; {
	case d.Source != nil:
		s := d.Source.Source
		s.Files, s.Except, s.Labels = slices.Clone(s.Files), slices.Clone(s.Except), expandMap(s.Labels)
		expand(catalogue.SourceTexts(&s))
		return s.AppendYAML(dst, hostconfig.Indent)
	case d.Destination != nil:
		s := *d.Destination
		s.Headers = expandMap(s.Headers)
		expand(catalogue.DestinationTexts(&s))
		return s.AppendYAML(dst, hostconfig.Indent)
	case d.Format != nil:
		return d.Format.AppendYAML(dst, hostconfig.Indent)
	}
	return dst
}

// AppendText writes the host config.
func (m *Manifest) AppendText(dst []byte) []byte {
	return m.appendParts(hostconfig.AppendHead(dst, m.Host, m.Hash, m.Labels))
}

func (m *Manifest) appendParts(dst []byte) []byte {
	section := ""
	for _, p := range m.Parts {
		if p.Kind != section {
			section = p.Kind
			dst = hostconfig.AppendSection(dst, section)
		}
		dst = hostconfig.AppendItem(dst, p.Kind, p.Name, p.Revision, p.body)
	}
	return dst
}

// Text is AppendText as a string.
func (m *Manifest) Text() string { return string(m.AppendText(nil)) }

// Sources returns the names of the sources that the host should run.
func (m *Manifest) Sources() []string {
	var out []string
	for _, p := range m.Parts {
		if p.Kind == "source" {
			out = append(out, p.Name)
		}
	}
	return out
}

// Body is the config without its head: what can be compared between hosts.
func (m *Manifest) Body() string {
	var dst []byte
	if len(m.Labels) > 0 {
		dst = append(yamldoc.AppendFlowMap(append(dst, "labels: "...), m.Labels), '\n')
	}
	return string(m.appendParts(dst))
}

// DifferenceKey is the same for two pairs of manifests that differ in the same way.
func DifferenceKey(before, after *Manifest) string {
	old := map[[sha256.Size]byte]bool{}
	for _, p := range before.Parts {
		old[p.sum] = true
	}
	var key []byte
	for _, p := range after.Parts {
		if !old[p.sum] {
			key = append(append(key, '+'), p.sum[:]...)
		}
		delete(old, p.sum)
	}
	for _, p := range before.Parts {
		if old[p.sum] {
			key = append(append(key, '-'), p.sum[:]...)
		}
	}
	return string(key)
}
