package pipeline

import (
	"cmp"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"

	"synaxis/internal/core/mask"
	"synaxis/internal/core/record"
)

// screen is a list of masks that are applied together.
type screen struct {
	masks   []screened
	guard   bool // only and except do not count, and names that a record brings are looked at too
	names   []int32
	telling bool // a mask looks at the names of fields
}

// screened is one mask of a list.
type screened struct {
	*mask.Finder
	only, except []string
	key          []byte
	bit          uint64 // of record.Record.Masked, when it notes its name
	hit          uint64 // of Treatment.hits, for those that are counted
}

// private is a place in the arena where a mask found something.
type private struct {
	from, to uint32
	mask     int
	blank    bool // nothing of it may stay, whatever the fill is
}

// target is a text of a record that is looked at.
type target struct {
	name string // body, original, or a field's name
	span record.Span
	at   int // place in Batch.Values; -1 for the body, -2 for the original
	raw  record.Span
}

func (t *Treatment) newScreen(names []string, guard bool, p Parts) (*screen, error) {
	s := &screen{guard: guard}
	for _, name := range names {
		spec, ok := mask.Spec{}, false
		if p.Masks != nil {
			spec, ok = p.Masks(name)
		}
		if !ok {
			if !slices.Contains(mask.Detectors, name) {
				return nil, fmt.Errorf("there is no mask %s", name)
			}
			spec = mask.BuiltIn(name)
		}
		f, err := spec.Finder()
		if err != nil {
			return nil, err
		}
		m := screened{Finder: f}
		s.telling = s.telling || f.Telling()
		if !guard {
			m.only, m.except = spec.Only, spec.Except
		}
		if secret := spec.Fill.Hash; secret != "" {
			if p.Secret == nil { // the desk has none: a hash of this run only
				m.key = make([]byte, 32)
				if _, err := rand.Read(m.key); err != nil {
					return nil, err
				}
			} else if m.key, ok = p.Secret(secret); !ok {
				return nil, fmt.Errorf("mask %s: the secret %s is not here", name, secret)
			}
		}
		if spec.Mark {
			i := slices.Index(t.marks, name)
			if i < 0 {
				i = len(t.marks)
				t.marks = append(t.marks, name)
			}
			if i >= 64 {
				return nil, fmt.Errorf("mask %s: more than 64 masks of one source note their names", name)
			}
			m.bit = 1 << i
		}
		i := slices.Index(t.counted, name)
		if i < 0 && len(t.counted) < 64 {
			i = len(t.counted)
			t.counted, t.byMask = append(t.counted, name), append(t.byMask, 0)
		}
		if i >= 0 {
			m.hit = 1 << i
		}
		s.masks = append(s.masks, m)
	}
	t.screens = append(t.screens, s)
	return s, nil
}

// wants tells whether a mask looks at a text of this name.
func (m *screened) wants(name string) bool {
	if len(m.only) > 0 {
		return slices.Contains(m.only, name)
	}
	return !slices.Contains(m.except, name)
}

// apply masks a record. Each mask looks at the line as it was read, for what stands around a value, and at every text
// on its own; what it finds is masked wherever those bytes are shown.
func (t *Treatment) apply(s *screen, b *record.Batch, r *record.Record) {
	if t.clean(s, b, r) {
		if s.guard {
			t.coverNames(s, b, r)
		}
		return
	}
	t.targets = t.collect(t.targets[:0], b, r)
	t.found = t.found[:0]
	for i := range s.masks {
		s.masks[i].look(i, t, b)
	}
	if len(t.found) > 0 {
		slices.SortFunc(t.found, func(x, y private) int {
			if x.from != y.from {
				return cmp.Compare(x.from, y.from)
			}
			return cmp.Compare(y.to, x.to)
		})
		for _, g := range t.targets {
			t.cover(s, b, r, g)
		}
		if t.trace != nil {
			t.trace.inLine(t, s)
		}
	}
	if s.guard {
		t.coverNames(s, b, r)
	}
}

// clean tells quickly that a record holds nothing for any mask: all that it shows is a part of the line as it was
// read, and the line can hold nothing.
func (t *Treatment) clean(s *screen, b *record.Batch, r *record.Record) bool {
	from, end := t.line.Off, t.line.Off+t.line.Len
	inside := func(v record.Span) bool { return v.Off >= from && v.Off+v.Len <= end && v.Len > 0 }
	if s.telling || r.Body.Len > 0 && !inside(r.Body) || r.Flags&record.HasOriginal != 0 && !inside(r.Original) {
		return false
	}
	for _, v := range b.Fields(r) {
		if v.Kind != record.Float && v.Kind != record.Bool && !inside(v.Span) {
			return false
		}
	}
	line := b.Bytes(t.line)
	for i := range s.masks {
		if s.masks[i].May(line) {
			return false
		}
	}
	return true
}

// collect lists the texts of a record.
func (t *Treatment) collect(out []target, b *record.Batch, r *record.Record) []target {
	out = append(out, target{name: "body", span: r.Body, at: -1})
	if r.Flags&record.HasOriginal != 0 {
		out = append(out, target{name: "original", span: r.Original, at: -2})
	}
	for i := range b.Fields(r) {
		v := &b.Values[int(r.First)+i]
		g := target{name: b.Schema.Name(v.Slot), span: v.Span, at: int(r.First) + i}
		switch v.Kind {
		case record.Int:
			if v.Span.Len == 0 {
				var digits [20]byte
				v.Span = b.Put(strconv.AppendInt(digits[:0], int64(v.Num), 10))
				g.span = v.Span
			}
		case record.Text:
			g.raw, _ = v.RawSpan()
		case record.JSON:
		default:
			continue
		}
		if g.span.Len > 0 {
			out = append(out, g)
		}
	}
	return out
}

func (m *screened) look(i int, t *Treatment, b *record.Batch) {
	line := t.line
	may := m.May(b.Bytes(line))
	if may {
		for _, h := range m.Find(b.Bytes(line), "") {
			t.found = append(t.found, private{line.Off + uint32(h.Start), line.Off + uint32(h.End), i, false})
		}
	}
	inLine := len(t.found)
	for _, g := range t.targets {
		if g.span == line || !m.wants(g.name) {
			continue
		}
		if inside := g.span.Off >= line.Off && g.span.Off+g.span.Len <= line.Off+line.Len; inside && !may &&
			!m.Tells(g.name) {
			continue // what the line cannot hold no part of it holds
		}
		field := g.name
		if g.at < 0 {
			field = ""
		}
		hits := m.Find(b.Bytes(g.span), field)
		for _, h := range hits {
			t.found = append(t.found, private{g.span.Off + uint32(h.Start), g.span.Off + uint32(h.End), i, false})
		}
		if len(hits) == 0 || g.raw.Len == 0 {
			continue
		}
		seen := 0 // of a value that was written with escapes, the line must not show what the value hides
		for _, p := range t.found[:inLine] {
			if p.mask == i && p.from < g.raw.Off+g.raw.Len && p.to > g.raw.Off {
				seen++
			}
		}
		if seen < len(hits) {
			t.found = append(t.found, private{g.raw.Off, g.raw.Off + g.raw.Len, i, true})
		}
	}
}

// cover puts fills in the places of one text.
func (t *Treatment) cover(s *screen, b *record.Batch, r *record.Record, g target) {
	end := g.span.Off + g.span.Len
	start, at := len(b.Arena), g.span.Off
	var marks []Mark
	for i := 0; i < len(t.found); i++ {
		p := t.found[i]
		if p.to <= at || p.from >= end || !s.masks[p.mask].wants(g.name) {
			continue
		}
		from, to := max(p.from, at), min(p.to, end)
		for j := i + 1; j < len(t.found) && t.found[j].from < to; j++ { // what overlaps is one
			if s.masks[t.found[j].mask].wants(g.name) && t.found[j].to > to {
				to = min(t.found[j].to, end)
			}
		}
		m := &s.masks[p.mask]
		b.Arena = append(b.Arena, b.Arena[at:from]...)
		put := len(b.Arena)
		if p.blank {
			b.Arena = mask.AppendBlank(b.Arena)
		} else {
			b.Arena = m.Fill(b.Arena, b.Arena[from:to], m.key)
		}
		if t.trace != nil {
			marks = append(
				marks,
				Mark{
					In:    g.name,
					Start: put - start,
					End:   len(b.Arena) - start,
					Mask:  m.Name(),
					was:   [2]int{int(from - g.span.Off), int(to - g.span.Off)},
				},
			)
		}
		r.Masked |= m.bit
		t.hits |= m.hit
		at = to
	}
	if len(b.Arena) == start {
		return
	}
	t.didMask = true
	b.Arena = append(b.Arena, b.Arena[at:end]...)
	span := record.Span{Off: uint32(start), Len: uint32(len(b.Arena) - start)}
	if t.trace != nil {
		t.trace.marked(g, marks)
	}
	switch g.at {
	case -1:
		r.Body = span
	case -2:
		r.Original = span
	default:
		v := &b.Values[g.at]
		v.Num, v.Span = 0, span
		if v.Kind == record.JSON && !json.Valid(b.Bytes(span)) || v.Kind == record.Int {
			v.Kind = record.Text
		}
	}
}

// coverNames masks the names of fields that the record itself brought along.
func (t *Treatment) coverNames(s *screen, b *record.Batch, r *record.Record) {
	for i := range b.Fields(r) {
		v := &b.Values[int(r.First)+i]
		if int(v.Slot) < t.known {
			continue
		}
		for int(v.Slot) >= len(s.names) {
			s.names = append(s.names, -1)
		}
		if s.names[v.Slot] < 0 {
			name := []byte(b.Schema.Name(v.Slot))
			for i := range s.masks {
				m := &s.masks[i]
				if hits := m.Find(name, ""); len(hits) > 0 {
					name = m.Replace(name, slices.Clone(hits), m.key)
				}
			}
			slot, ok := b.Schema.Slot(name)
			if !ok {
				slot = 0
			}
			s.names[v.Slot] = int32(slot)
		}
		if slot := uint16(s.names[v.Slot]); slot != v.Slot {
			v.Slot, t.didMask = slot, true
		}
	}
}
