package pipeline

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"synaxis/internal/core/expr"
	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
	"synaxis/internal/core/yamldoc"
)

// step is one step that is ready to be taken. It answers whether the record goes on, and how much of it could not be
// computed: what cannot be computed never loses a record.
type step struct {
	run    func(b *record.Batch, r *record.Record) (goes bool, failed int)
	reason int // of a record that does not go on
}

func (t *Treatment) condition(text string) (*expr.Program, error) {
	if text == "" {
		return nil, nil
	}
	return expr.Compile(text, true, t.schema)
}

func (t *Treatment) compileStep(s Step, p Parts) (step, error) {
	switch s.Kind {
	case Keep, Drop:
		return t.filter(s.Kind == Keep, s.Value.Text())
	case Set:
		return t.setter(s.Value)
	case Rename:
		return t.renamer(s.Value), nil
	case Remove:
		return t.remover(s.Value.Texts()), nil
	case Mask:
		m, err := t.newScreen(s.Value.Texts(), false, p)
		return step{run: func(b *record.Batch, r *record.Record) (bool, int) {
			t.apply(m, b, r)
			return true, 0
		}}, err
	case Parse:
		return t.inner(s.Value, p)
	case Sample:
		return t.sampler(s.Value)
	case Limit:
		return t.limiter(s.Value)
	}
	return step{}, fmt.Errorf("%q is no step", s.Kind)
}

// filter drops what a condition meets, or does not meet. Where it cannot be computed the record goes on.
func (t *Treatment) filter(keep bool, text string) (step, error) {
	c, err := t.condition(text)
	if err != nil {
		return step{}, err
	}
	if c == nil {
		return step{}, errors.New("the condition is empty")
	}
	reason := dropDrop
	if keep {
		reason = dropKeep
	}
	return step{reason: reason, run: func(b *record.Batch, r *record.Record) (bool, int) {
		met, failed := c.Met(b, r)
		if failed {
			return true, 1
		}
		return met == keep, 0
	}}, nil
}

// put sets a field of the record at the end of the batch.
func (t *Treatment) put(b *record.Batch, r *record.Record, v record.Value) bool {
	for i := range b.Fields(r) {
		if have := &b.Values[int(r.First)+i]; have.Slot == v.Slot {
			*have = v
			return true
		}
	}
	if r.N == math.MaxUint16 {
		return false
	}
	b.Values = append(b.Values, v)
	r.N++
	return true
}

func (t *Treatment) drop(b *record.Batch, r *record.Record, slot uint16) {
	first := int(r.First)
	for i, v := range b.Fields(r) {
		if v.Slot == slot {
			b.Values = slices.Delete(b.Values, first+i, first+i+1)
			r.N--
			return
		}
	}
}

func (t *Treatment) slot(name string) uint16 {
	slot, _ := t.schema.Slot([]byte(name)) // a schema is never full of what definitions name
	return slot
}

// setter computes all values on the record as it is, and then sets them. What cannot be computed stays as it was.
func (t *Treatment) setter(n *yamldoc.Node) (step, error) {
	type one struct {
		slot uint16
		prog *expr.Program
	}
	type got struct {
		v     record.Value
		there bool
		slot  uint16
	}
	var list []one
	for _, e := range n.Entries {
		prog, err := expr.Compile(e.Value.Text(), false, t.schema)
		if err != nil {
			return step{}, fmt.Errorf("set %s: %w", e.Key, err)
		}
		list = append(list, one{t.slot(e.Key), prog})
	}
	results := make([]got, 0, len(list))
	return step{run: func(b *record.Batch, r *record.Record) (bool, int) {
		results, failed := results[:0], 0
		for _, o := range list {
			v, there, bad := o.prog.Value(b, r)
			if bad {
				failed++
				continue
			}
			v.Slot = o.slot
			results = append(results, got{v, there, o.slot})
		}
		for _, g := range results {
			if !g.there {
				t.drop(b, r, g.slot)
			} else if !t.put(b, r, g.v) {
				failed++
			}
		}
		return true, failed
	}}, nil
}

// renamer gives fields other names, all at once; one that has the name already gives way.
func (t *Treatment) renamer(n *yamldoc.Node) step {
	type pair struct{ from, to uint16 }
	var list []pair
	for _, e := range n.Entries {
		list = append(list, pair{t.slot(e.Key), t.slot(e.Value.Text())})
	}
	moved := make([]record.Value, 0, len(list))
	return step{run: func(b *record.Batch, r *record.Record) (bool, int) {
		moved := moved[:0]
		for _, p := range list {
			for _, v := range b.Fields(r) {
				if v.Slot == p.from {
					v.Slot = p.to
					moved = append(moved, v)
					t.drop(b, r, p.from)
					break
				}
			}
		}
		for _, v := range moved {
			t.put(b, r, v)
		}
		return true, 0
	}}
}

func (t *Treatment) remover(names []string) step {
	var slots []uint16
	for _, n := range names {
		slots = append(slots, t.slot(n))
	}
	return step{run: func(b *record.Batch, r *record.Record) (bool, int) {
		for _, s := range slots {
			t.drop(b, r, s)
		}
		return true, 0
	}}
}

// inner reads a field, or the body, by a format of its own. What that format finds becomes fields; a level counts
// where the record has none. A text that it cannot read leaves the record as it was.
func (t *Treatment) inner(n *yamldoc.Node, p Parts) (step, error) {
	from, name, prefix := n.Get("from").Text(), n.Get("format").Text(), n.Get("prefix").Text()
	spec, ok := format.BuiltIn(name)
	if !ok && p.Formats != nil {
		spec, ok = p.Formats(name)
	}
	if !ok {
		return step{}, fmt.Errorf("there is no format %s", name)
	}
	parser, err := format.Compile(spec, t.src.Time, p.Formats)
	if err != nil {
		return step{}, err
	}
	if prefix != "" {
		prefix += "."
	}
	source := t.slot(from)
	var slots []int32 // of the inner schema, in ours
	ours := func(slot uint16) (uint16, bool) {
		for int(slot) >= len(slots) {
			slots = append(slots, -1)
		}
		if slots[slot] < 0 {
			s, ok := t.schema.Slot([]byte(prefix + parser.Schema().Name(slot)))
			if !ok {
				return 0, false
			}
			slots[slot] = int32(s)
		}
		return uint16(slots[slot]), true
	}
	for slot := range parser.Schema().Len() {
		ours(uint16(slot))
	}
	return step{run: func(b *record.Batch, r *record.Record) (bool, int) {
		text, found := record.Span{}, false
		for _, v := range b.Fields(r) {
			if v.Slot == source {
				text, found = v.Span, v.Kind == record.Text || v.Kind == record.JSON ||
					v.Kind == record.Int && v.Span.Len > 0
			}
		}
		if !found && from == "body" {
			text, found = r.Body, true
		}
		if !found {
			return true, 1
		}
		start := len(b.Values)
		b.Schema = parser.Schema()
		inside := record.Record{Body: text, Observed: r.Observed}
		read := parser.Read(b, &inside)
		b.Schema = t.schema
		if !read {
			b.Values = b.Values[:start]
			return true, 1
		}
		values := b.Values[start:]
		b.Values = b.Values[:start]
		for _, v := range values { // put appends no faster than this reads
			if v.Slot, read = ours(v.Slot); !read || !t.put(b, r, v) {
				r.Flags |= record.MoreFields
			}
		}
		if r.Level == 0 {
			r.Level = inside.Level
		}
		return true, 0
	}}, nil
}

// sampler keeps so many of so many records that meet its condition, the first ones of each run, and notes for how many
// they stand.
func (t *Treatment) sampler(n *yamldoc.Node) (step, error) {
	var keep, of int
	if c, err := fmt.Sscanf(n.Get("keep").Text(), "%d in %d", &keep, &of); c != 2 || err != nil || keep < 1 ||
		of <= keep {
		return step{}, fmt.Errorf("%q is not a sample such as 1 in 10", n.Get("keep").Text())
	}
	when, err := t.condition(n.Get("when").Text())
	seen := 0
	weight := float64(of) / float64(keep)
	return step{reason: dropSample, run: func(b *record.Batch, r *record.Record) (bool, int) {
		if met, failed := meets(when, b, r); !met {
			return true, failed
		}
		place := seen
		if seen++; seen == of {
			seen = 0
		}
		if place >= keep {
			return false, 0
		}
		if r.Weight == 0 {
			r.Weight = 1
		}
		r.Weight *= weight
		return true, 0
	}}, err
}

// meets tells whether a record meets a when; one without a condition is always met.
func meets(when *expr.Program, b *record.Batch, r *record.Record) (met bool, failed int) {
	if when == nil {
		return true, 0
	}
	met, bad := when.Met(b, r)
	if bad {
		failed = 1
	}
	return met, failed
}

// limiter lets so many records pass in a time, and as many at once as pass in a second.
func (t *Treatment) limiter(n *yamldoc.Node) (step, error) {
	amount, bytes, per, err := yamldoc.ParseRate(n.Get("records").Text())
	if err != nil || bytes {
		return step{}, fmt.Errorf("%q is not a number of records such as 500/s", n.Get("records").Text())
	}
	when, err := t.condition(n.Get("when").Text())
	rate := amount / per.Seconds()
	most := max(1, rate)
	left, last, begun := most, int64(0), false
	return step{reason: dropLimit, run: func(b *record.Batch, r *record.Record) (bool, int) {
		if met, failed := meets(when, b, r); !met {
			return true, failed
		}
		now := r.Observed
		if t.trying { // a log that is tried comes all at once: its own times tell how fast it was written
			now = r.Time
		}
		if begun && now > last {
			left = min(most, left+rate*time.Duration(now-last).Seconds())
		}
		if !begun || now > last {
			last, begun = now, true
		}
		if left < 1 {
			return false, 0
		}
		left--
		return true, 0
	}}, err
}

// routes are the ways that records go.
type routes struct {
	to       []string // destinations, by bit
	entries  []way
	rest     uint64 // for what no entry took, or all where no entry has a condition
	unparsed uint64 // for what the format did not read
}

type way struct {
	bit  uint64
	when *expr.Program
}

func (t *Treatment) compileRoutes() (routes, error) {
	x := routes{to: t.src.Destinations()}
	if len(x.to) > 64 {
		return x, fmt.Errorf("it sends to %d destinations; 64 are possible", len(x.to))
	}
	bit := func(name string) uint64 { return 1 << max(0, slices.Index(x.to, name)) }
	for i, e := range t.src.Send {
		if e.Otherwise {
			x.rest |= bit(e.To)
			continue
		}
		when, err := t.condition(e.When)
		if err != nil {
			return x, fmt.Errorf("send %d: %w", i+1, err)
		}
		x.entries = append(x.entries, way{bit(e.To), when})
	}
	if len(x.entries) > 0 &&
		!slices.ContainsFunc(x.entries, func(w way) bool { return w.when != nil }) { // all of them, always
		x.rest = 0
		for _, w := range x.entries {
			x.rest |= w.bit
		}
		x.entries = nil
	}
	if u := t.src.Unparsed; u != "" && u != "keep" && u != "drop" {
		x.unparsed = bit(u)
	}
	return x, nil
}

// Destinations are the names of the destinations, in the order of the bits of record.Record.Routes.
func (t *Treatment) Destinations() []string { return t.routes.to }

// find sets the ways of a record, and answers how many conditions could not be computed.
func (x *routes) find(b *record.Batch, r *record.Record) (failed int) {
	if x.unparsed != 0 && r.Flags&record.Unparsed != 0 {
		r.Routes = x.unparsed
		return 0
	}
	for i := range x.entries {
		met, bad := meets(x.entries[i].when, b, r)
		if failed += bad; met {
			r.Routes |= x.entries[i].bit
		}
	}
	if r.Routes == 0 {
		r.Routes = x.rest
	}
	return failed
}
