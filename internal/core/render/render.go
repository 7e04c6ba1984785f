// Package render turns the catalogue and the inventory into one manifest per host.
//
// Rendering is pure: the same inputs give the same bytes. Each definition is rendered once for every combination of
// values that it reads, and the hosts share these fragments; the hash of a host is over the hashes of its fragments,
// and its text is put together only when somebody asks for it.
package render

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/expect"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// RendererVersion is part of every hash: a renderer that writes something else has another one.
const RendererVersion = "3"

// Input is what hosts are rendered from, beside the inventory.
type Input struct {
	Catalogue *catalogue.Catalogue
	Changed   map[catalogue.ID]int // the revision in which each definition's meaning last changed
	Secrets   map[string]int       // the versions of the secrets that exist
}

// Renderer renders hosts against one input. It caches fragments and belongs to one goroutine.
type Renderer struct {
	in      Input
	agents  []*prepared
	sources []*prepared
	shared  []*prepared // the formats, masks and destinations in use
	byID    map[catalogue.ID]*prepared
}

// prepared is a definition prepared for rendering.
type prepared struct {
	def      *catalogue.Definition
	refs     []catalogue.Ref
	cache    map[string]*Part
	uses     []int    // of a source: positions in shared of what it needs
	guards   []string // of a source: the masks that guards put on it
	secrets  []int    // versions of the secrets in refs
	versions map[string]int
	revision int
	shaped   [sha256.Size]byte // zero until it was asked for
}

// Part is a rendered definition, as many hosts may share it.
type Part struct {
	catalogue.ID
	Revision int // in which its meaning last changed
	body     []byte
	sum      [sha256.Size]byte
	shape    [sha256.Size]byte // the same with the host's own values left as references

	Files, Except []string // of a source: its patterns
	Port          int      // of a source that listens; 0 when it is no port
	Writes        string   // of a destination: the file that it appends to

	Secrets []string // that its definition names, as NAME@VERSION
}

// Sum64 is a short hash of what the part means.
func (p *Part) Sum64() uint64 { return binary.LittleEndian.Uint64(p.sum[:]) }

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

// New prepares a renderer.
func New(in Input) *Renderer { return renderer(in, nil) }

// renderer prepares one and takes over from an older one every definition, with its fragments, that means the same.
func renderer(in Input, old *Renderer) *Renderer {
	r := &Renderer{in: in, byID: map[catalogue.ID]*prepared{}}
	position := map[catalogue.ID]int{}
	for _, d := range in.Catalogue.All() {
		if d.Format != nil || d.Mask != nil || d.Destination != nil {
			position[d.ID] = len(r.shared)
			r.shared = append(r.shared, r.prepare(d, nil, old))
		}
	}
	for _, d := range in.Catalogue.All() {
		switch {
		case d.Agents != nil:
			r.agents = append(r.agents, r.prepare(d, nil, old))
		case d.Source != nil:
			guards, _ := in.Catalogue.GuardMasks(d.Source)
			p := r.prepare(d, guards, old)
			p.uses = nil
			for _, u := range in.Catalogue.Uses(d.Source) {
				p.uses = append(p.uses, position[u.ID])
			}
			r.sources = append(r.sources, p)
		}
	}
	return r
}

func (r *Renderer) prepare(d *catalogue.Definition, guards []string, old *Renderer) *prepared {
	p := &prepared{def: d, cache: map[string]*Part{}, guards: guards, revision: r.in.Changed[d.ID]}
	if old != nil {
		if was := old.byID[d.ID]; was != nil && was.means(d, guards, p.revision, r.in.Secrets) {
			q := *was // its positions in shared are others
			q.def = d
			r.byID[d.ID] = &q
			return &q
		}
	}
	refs, _ := d.Refs()
	p.refs = slices.SortedFunc(
		maps.Keys(refs),
		func(a, b catalogue.Ref) int { return strings.Compare(a.String(), b.String()) },
	)
	p.secrets, p.versions = versions(p.refs, r.in.Secrets), r.in.Secrets
	r.byID[d.ID] = p
	return p
}

func versions(refs []catalogue.Ref, secrets map[string]int) []int {
	var out []int
	for _, ref := range refs {
		if ref.Space == "secret" {
			out = append(out, secrets[ref.Name])
		}
	}
	return out
}

// means tells whether what is prepared is as good for a definition as if it were made anew.
func (p *prepared) means(d *catalogue.Definition, guards []string, revision int, secrets map[string]int) bool {
	return p.revision == revision && (p.def == d || p.def.Text == d.Text) && slices.Equal(p.guards, guards) &&
		slices.Equal(p.secrets, versions(p.refs, secrets))
}

// Host renders one host.
func (r *Renderer) Host(h *inventory.Host) *Manifest {
	return r.host(h, chooser{
		agents:   func(i int) bool { return r.agents[i].def.Agents.Hosts.Match(h) },
		sources:  func(i int) bool { return r.sources[i].def.Source.Hosts.Match(h) },
		settings: func(i int) bool { return r.in.Catalogue.Settings()[i].Settings.Hosts.Match(h) },
	})
}

// chooser tells whether a host is chosen by the definition at a position.
type chooser struct{ agents, sources, settings func(i int) bool }

func (r *Renderer) host(h *inventory.Host, chosen chooser) *Manifest {
	m := &Manifest{Host: h.Name, Labels: h.Labels}
	parts := make([]*Part, 0, 64)
	var lookup func(ref catalogue.Ref) (string, bool)
	get := func(ref catalogue.Ref) (string, bool) {
		if lookup == nil {
			settings, _ := r.in.Catalogue.Layers(h, chosen.settings)
			lookup = catalogue.Lookup(h, settings, r.in.Secrets)
		}
		return lookup(ref)
	}
	for i, p := range r.agents {
		if chosen.agents(i) {
			if part, missing := p.part(get); len(missing) == 0 {
				parts = append(parts, part)
			}
			break // two for one host are an error at the desk; the first counts
		}
	}
	shared := make([]*Part, len(r.shared))
	for i, p := range r.sources {
		if !chosen.sources(i) {
			continue
		}
		part, missing := p.part(get)
		for _, u := range p.uses {
			if len(missing) > 0 {
				break
			}
			_, missing = r.shared[u].part(get)
		}
		if len(missing) > 0 {
			m.LeftOut = append(m.LeftOut, LeftOut{p.def.Name, missing[0].String() + " is not defined on this host"})
			continue
		}
		parts = append(parts, part)
		for _, u := range p.uses {
			if shared[u] == nil {
				shared[u], _ = r.shared[u].part(get)
			}
		}
	}
	for _, part := range shared { // the catalogue's order: sources come first, and each list is sorted
		if part != nil {
			parts = append(parts, part)
		}
	}
	m.Parts = slices.Clone(parts)
	m.hash()
	return m
}

func (m *Manifest) hash() {
	b := hostconfig.AppendHead(make([]byte, 0, 256+len(m.Parts)*sha256.Size), m.Host, RendererVersion, m.Labels)
	for _, p := range m.Parts {
		b = append(b, p.sum[:]...)
	}
	sum := sha256.Sum256(b)
	m.Hash = hex.EncodeToString(sum[:])
}

// shape is the sum of the definition as it is on every host: only secrets have their values.
func (p *prepared) shape(lookup func(catalogue.Ref) (string, bool)) [sha256.Size]byte {
	if p.shaped == [sha256.Size]byte{} {
		p.shaped = sha256.Sum256(p.body([]byte(p.def.ID.String()+"\n"), func(r catalogue.Ref) (string, bool) {
			if r.Space == "secret" {
				return lookup(r)
			}
			return r.String(), true
		}))
	}
	return p.shaped
}

func (p *prepared) part(lookup func(catalogue.Ref) (string, bool)) (*Part, []catalogue.Ref) {
	key := ""
	if len(p.refs) > 0 {
		b := make([]byte, 0, 128)
		for _, ref := range p.refs {
			v, ok := lookup(ref)
			if !ok {
				return nil, []catalogue.Ref{ref}
			}
			b = append(append(b, v...), 0)
		}
		if part, ok := p.cache[string(b)]; ok {
			return part, nil
		}
		key = string(b)
	} else if part, ok := p.cache[""]; ok {
		return part, nil
	}
	head := append(make([]byte, 0, 512), p.def.ID.String()...)
	head = append(head, '\n')
	text := p.body(head, lookup)
	part := &Part{ID: p.def.ID, Revision: p.revision, body: text[len(head):], sum: sha256.Sum256(text)}
	if part.shape = part.sum; len(p.refs) > 0 {
		part.shape = p.shape(lookup)
	}
	expand := func(text string) string {
		out, _, _ := catalogue.Expand(text, lookup)
		return out
	}
	switch d := p.def; {
	case d.Source != nil:
		for _, f := range d.Source.Files {
			part.Files = append(part.Files, expand(f))
		}
		for _, f := range d.Source.Except {
			part.Except = append(part.Except, expand(f))
		}
		if d.Source.Listen != nil {
			if n, err := strconv.Atoi(expand(d.Source.Listen.Port)); err == nil && n > 0 && n < 1<<16 {
				part.Port = n
			}
		}
	case d.Destination != nil && d.Destination.Kind == delivery.File:
		part.Writes = expand(d.Destination.Path)
	}
	// from the definition, never from the text: what a host reports may look like a reference
	for _, ref := range p.refs {
		if ref.Space == "secret" {
			part.Secrets = append(part.Secrets, fmt.Sprintf("%s@%d", ref.Name, p.versions[ref.Name]))
		}
	}
	p.cache[key] = part
	return part, nil
}

// body appends the definition with every reference resolved.
func (p *prepared) body(dst []byte, lookup func(catalogue.Ref) (string, bool)) []byte {
	indent := hostconfig.Indent
	if hostconfig.TopLevel(p.def.Kind) {
		indent = ""
	}
	dst = p.def.Schema().AppendCanonical(dst, p.def.Body(), indent, schema.DeskKeys, func(text string) string {
		out, _, _ := catalogue.Expand(text, lookup)
		return out
	})
	if len(p.guards) > 0 {
		dst = append(append(dst, indent...), "guards: "...)
		dst = append(yamldoc.AppendFlowList(dst, p.guards), '\n')
	}
	if s := p.def.Source; s != nil {
		zone, _, _ := catalogue.Expand(s.Time.Zone, lookup)
		dst = appendWatch(dst, indent, s.Expect, zone)
	}
	return dst
}

// appendWatch writes what the host itself watches of what is expected of a source.
func appendWatch(dst []byte, indent string, e expect.Expectation, zone string) []byte {
	var parts [][]byte
	if len(e.Filled) > 0 {
		var names []string
		for _, f := range e.Filled {
			names = append(names, f.Field)
		}
		parts = append(parts, yamldoc.AppendFlowList([]byte("filled: "), names))
	}
	if e.Per == "file" && e.Every > 0 {
		parts = append(parts, fmt.Appendf(nil, "every: %s", e.Every))
		if hours := e.During.String(); hours != "" {
			parts = append(parts, fmt.Appendf(nil, "during: %q", hours), yamldoc.AppendQuote([]byte("zone: "), zone))
		}
	}
	if len(parts) == 0 {
		return dst
	}
	return fmt.Appendf(dst, "%swatch: {%s}\n", indent, bytes.Join(parts, []byte(", ")))
}

// AppendText writes the host config.
func (m *Manifest) AppendText(dst []byte) []byte {
	return m.appendParts(hostconfig.AppendHead(dst, m.Host, m.Hash, m.Labels))
}

func (m *Manifest) appendParts(dst []byte) []byte {
	section := ""
	for _, p := range m.Parts {
		if hostconfig.TopLevel(p.Kind) {
			dst = append(dst, p.body...)
			continue
		}
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

// Secrets are the secrets that the host needs, as NAME@VERSION, in order.
func (m *Manifest) Secrets() []string {
	out := []string{}
	for _, p := range m.Parts {
		out = append(out, p.Secrets...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

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

// DifferenceKey is the same for two pairs of manifests that differ in the same way. Where a definition is another one,
// what it makes of a host's own values does not count; where the values are other ones, they do.
func DifferenceKey(before, after *Manifest) string {
	was, is := map[catalogue.ID]*Part{}, map[catalogue.ID]*Part{}
	for _, p := range before.Parts {
		was[p.ID] = p
	}
	for _, p := range after.Parts {
		is[p.ID] = p
	}
	var key []byte
	add := func(sign byte, p, other *Part) {
		switch {
		case other != nil && other.sum == p.sum:
		case other != nil && other.shape == p.shape:
			key = append(append(key, sign), p.sum[:]...)
		default:
			key = append(append(key, sign), p.shape[:]...)
		}
	}
	for _, p := range after.Parts {
		add('+', p, was[p.ID])
	}
	for _, p := range before.Parts {
		add('-', p, is[p.ID])
	}
	return string(key)
}
