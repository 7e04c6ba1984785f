package format

import (
	"bytes"
	"fmt"
	"math"
	"net/netip"
	"strconv"

	"synaxis/internal/core/record"
)

// Parser reads the records of batches. It keeps caches and belongs to one goroutine.
type Parser struct {
	reading
	kind   kind
	fields []declared
	first  []*Parser // of first-of
}

// kind reads the lines of one kind of format: it adds the fields of a line to the record being read, and answers false
// when it cannot read it. Each kind has a struct of its own.
type kind interface {
	parse(p *reading, b *record.Batch, line record.Span) bool
}

// rawKind adds no fields.
type rawKind struct{}

func (rawKind) parse(*reading, *record.Batch, record.Span) bool { return true }

// reading is the record that is being read, and what all kinds share of the format.
type reading struct {
	spec   Spec
	clock  *clock
	time   string // name of the field, or ""
	level  string
	body   string
	bare   bool // no field is asked for level and body
	fixed  bool // each field comes once at most
	loose  bool // json and keyvalue without a say: the first of the usual names
	inner  bool // syslog: what its text holds counts where the header has no time
	schema *record.Schema

	last                  []int32 // slot -> index in Batch.Values of the record being read, valid when gen agrees
	gen                   []uint32
	now                   uint32
	asked                 []asked
	times, levels, bodies usual
	order                 []uint16 // slots of names as the record before had them
	turn                  int
	knownLevels           [16]knownLevel // words that were read, each where its bytes put it
	slashes               bool           // there may be backslashes in what is read
	begin                 int

	digits    [32]byte // a number as it is written, so that it need not be made anew
	timeValue civil
	nanos     int64 // with timeKnown
	note      record.TimeNote
	observed  int64
	bodySpan  record.Span // that the header of a line leaves
	soFar
}

// soFar is what is known of the record being read.
type soFar struct {
	full       bool // it has names that the schema has no room for
	timeParsed bool
	timeKnown  bool // in nanoseconds, and its note
	hasBody    bool
	levelValue uint8 // that the header of a line says
}

// Other finds the formats that a first-of names.
type Other func(name string) (Spec, bool)

// Compile checks a spec and prepares a parser; t is laid over the spec's own time.
func Compile(spec Spec, t Time, other Other) (*Parser, error) {
	return compile(spec, t, other, record.NewSchema())
}

func compile(spec Spec, t Time, other Other, schema *record.Schema) (*Parser, error) {
	spec.Time = spec.Time.Merge(t)
	p := &Parser{reading: reading{
		times:   usual{names: timeNames, named: -1, place: -1},
		levels:  usual{names: levelNames, named: -1, place: -1},
		bodies:  usual{names: bodyNames, named: -1, place: -1},
		slashes: true,
		spec:    spec,
		schema:  schema,
		body:    spec.Body,
		level:   spec.Level.Field,
	}}
	var err error
	switch spec.Kind {
	case "raw", "recognise":
		p.kind = rawKind{}
	case "json":
		p.kind, p.loose = &jsonKind{}, true
	case "keyvalue":
		p.kind, p.loose = &keyvalueKind{alone: true}, true
	case "csv":
		p.loose = true
		p.kind, err = newCSV(spec)
	case "regex":
		p.fixed = true
		p.kind, err = newRegex(&p.reading, spec)
	case "syslog":
		p.kind, p.inner = newSyslog(schema), true
	case "cef":
		p.kind, p.inner = &cefKind{slots: slots(schema, cefFields...)}, true
	case "first-of":
		return p, p.compileFirstOf(spec, t, other)
	case "web-common", "web-combined":
		p.kind, p.fixed = &webKind{slots: slots(schema, webFields...), combined: spec.Kind == "web-combined"}, true
	case "template":
		var parts []templatePart
		if parts, err = parseTemplate(spec.Template); err != nil {
			return nil, err
		}
		if spec.Time.Field == "" {
			spec.Time = spec.impliedTime()
		}
		p.fixed = true
		p.kind, err = newTemplate(&p.reading, parts, spec)
	default:
		return nil, fmt.Errorf("format %s: kind %q is not known to this version", spec.Name, spec.Kind)
	}
	if err != nil {
		return nil, err
	}
	if p.fields, err = declare(spec, schema); err != nil {
		return nil, err
	}
	c, err := newClock(spec.Time)
	if err != nil {
		return nil, err
	}
	p.clock, p.time = c, spec.Time.Field
	p.bare = p.level == "" && p.body == "" && !p.loose && p.spec.Kind != "syslog" && p.spec.Kind != "cef"
	switch k := p.kind.(type) {
	case *templateKind:
		for i := range k.ops {
			if k.ops[i].isTime {
				k.ops[i].clock.zone = c.zone
			}
		}
	case *webKind:
		if p.clock.layout, err = compileLayout("%d/%b/%Y:%H:%M:%S %z"); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func slots(schema *record.Schema, names ...string) []uint16 {
	out := make([]uint16, len(names))
	for i, n := range names {
		out[i], _ = schema.Slot([]byte(n))
	}
	return out
}

// compileFirstOf prepares the formats of a first-of, which share one set of names.
func (p *Parser) compileFirstOf(spec Spec, t Time, other Other) error {
	for _, name := range spec.FirstOf {
		var one Spec
		ok := false
		if other != nil {
			one, ok = other(name)
		}
		if !ok {
			if one, ok = BuiltIn(name); !ok {
				return fmt.Errorf("format %s: there is no format %q", spec.Name, name)
			}
		}
		if one.Kind == "first-of" {
			return fmt.Errorf("format %s: %s is a first-of itself", spec.Name, name)
		}
		sub, err := compile(one, t, nil, p.schema)
		if err != nil {
			return fmt.Errorf("format %s: %w", spec.Name, err)
		}
		p.first = append(p.first, sub)
	}
	if len(p.first) == 0 {
		return fmt.Errorf("format %s: first-of names no format", spec.Name)
	}
	return nil
}

// Expect tells what lines will be read from, so that what is not in all of it need not be looked for in each.
func (p *Parser) Expect(data []byte) {
	switch p.kind.(type) {
	case *templateKind, *regexKind, *jsonKind: // which do not ask
		return
	}
	p.slashes = bytes.IndexByte(data, '\\') >= 0
	for _, sub := range p.first {
		sub.slashes = p.slashes
	}
}

// Schema returns the names that this parser gives to its fields.
func (p *Parser) Schema() *record.Schema { return p.schema }

// Read reads the record r of b, whose Body is the line and whose Observed is set: it appends fields and sets time,
// level and body. It answers false when the format cannot read the line; r is then flagged and otherwise as it was.
func (p *Parser) Read(b *record.Batch, r *record.Record) bool {
	if p.first != nil {
		for _, sub := range p.first {
			r.Flags &^= record.Unparsed
			if sub.Read(b, r) {
				return true
			}
		}
		return false
	}
	p.now++
	p.begin = len(b.Values)
	p.turn = 0
	p.observed = r.Observed
	p.soFar = soFar{}
	r.First, r.N, r.Time = uint32(p.begin), 0, r.Observed
	ok := p.kind.parse(&p.reading, b, r.Body)
	if !ok || len(p.fields) > 0 && !p.convert(b) || len(b.Values)-p.begin > math.MaxUint16 {
		b.Values = b.Values[:p.begin]
		r.Flags |= record.Unparsed
		return false
	}
	r.N = uint16(len(b.Values) - p.begin)
	if p.full {
		r.Flags |= record.MoreFields
	}
	if p.timeKnown {
		r.Time, r.TimeNote = p.nanos, p.note
	} else {
		p.setTime(b, r)
	}
	if p.bare {
		r.Level = p.levelValue
		return true
	}
	p.setLevel(b, r)
	if v := p.pick(b, p.body, &p.bodies); v != nil && v.Kind == record.Text {
		r.Body = v.Span
	} else if p.hasBody {
		r.Body = p.bodySpan
	}
	return true
}

// index is where the record being read has a field, in Batch.Values; -1 when it has not.
func (p *reading) index(b *record.Batch, slot uint16) int {
	if p.fixed {
		for i := p.begin; i < len(b.Values); i++ {
			if b.Values[i].Slot == slot {
				return i
			}
		}
		return -1
	}
	if int(slot) >= len(p.gen) || p.gen[slot] != p.now {
		return -1
	}
	return int(p.last[slot])
}

// append adds a field that the record cannot have yet.
func (p *reading) append(b *record.Batch, slot uint16, v record.Value) {
	v.Slot = slot
	b.Values = append(b.Values, v)
}

// add appends a field, or replaces it when the record has it already.
func (p *reading) add(b *record.Batch, name []byte, v record.Value) {
	slot, ok := p.slot(name)
	if !ok {
		p.full = true
		return
	}
	p.addSlot(b, slot, v)
}

// slot is the slot of a name. Records of one log mostly have the same names in the same order, which is tried first.
func (p *reading) slot(name []byte) (uint16, bool) {
	if p.turn < len(p.order) {
		if s := p.order[p.turn]; p.schema.Name(s) == string(name) {
			p.turn++
			return s, true
		}
	}
	slot, ok := p.schema.Slot(name)
	if ok && p.turn < maxOrder {
		p.order = append(p.order[:p.turn], slot)
		p.turn++
	}
	return slot, ok
}

// maxOrder bounds the names whose order is remembered.
const maxOrder = 256

func (p *reading) addSlot(b *record.Batch, slot uint16, v record.Value) {
	for int(slot) >= len(p.gen) {
		p.gen = append(p.gen, 0)
		p.last = append(p.last, 0)
	}
	v.Slot = slot
	if p.gen[slot] == p.now {
		b.Values[p.last[slot]] = v
		return
	}
	p.gen[slot], p.last[slot] = p.now, int32(len(b.Values))
	b.Values = append(b.Values, v)
}

func sub(line record.Span, from, to int) record.Span {
	return record.Span{Off: line.Off + uint32(from), Len: uint32(to - from)}
}

// unescape copies p into the arena with backslash escapes of quotes and backslashes undone.
func unescape(b *record.Batch, p []byte) record.Span {
	start := len(b.Arena)
	for i := 0; i < len(p); i++ {
		if p[i] == '\\' && i+1 < len(p) && (p[i+1] == '"' || p[i+1] == '\\') {
			i++
		}
		b.Arena = append(b.Arena, p[i])
	}
	return record.Span{Off: uint32(start), Len: uint32(len(b.Arena) - start)}
}

// closing finds the quote that ends a quoted text beginning before p; escaped tells whether it holds backslashes.
func closing(p []byte) (end int, escaped bool) {
	for i := 0; ; {
		k := bytes.IndexByte(p[i:], '"')
		if k < 0 {
			return -1, false
		}
		at := i + k
		slashes := 0
		for at-slashes > 0 && p[at-slashes-1] == '\\' {
			slashes++
		}
		if slashes%2 == 0 {
			return at, escaped || bytes.IndexByte(p[:at], '\\') >= 0
		}
		escaped, i = true, at+1
	}
}

// escapedText is a quoted text whose raw form holds escapes.
func escapedText(b *record.Batch, span record.Span, from, to int) record.Value {
	raw := sub(span, from, to)
	return record.Value{Span: unescape(b, b.Bytes(raw)), Num: raw.Raw()}
}

func intValue(p []byte) (record.Value, bool) {
	i, neg := 0, false
	if len(p) > 0 && (p[0] == '-' || p[0] == '+') {
		neg, i = p[0] == '-', 1
	}
	if i == len(p) || len(p)-i > 18 {
		return record.Value{}, false
	}
	var v int64
	for ; i < len(p); i++ {
		if p[i] < '0' || p[i] > '9' {
			return record.Value{}, false
		}
		v = v*10 + int64(p[i]-'0')
	}
	if neg {
		v = -v
	}
	return record.Value{Kind: record.Int, Num: uint64(v)}, true
}

func floatValue(p []byte) (record.Value, bool) {
	if len(p) == 0 || len(p) > 64 || !(p[0] >= '0' && p[0] <= '9' || p[0] == '-' || p[0] == '+' || p[0] == '.') {
		return record.Value{}, false
	}
	f, err := strconv.ParseFloat(string(p), 64)
	return record.Value{Kind: record.Float, Num: math.Float64bits(f)}, err == nil
}

// checkIP tells whether text is an address.
func checkIP(text []byte) bool {
	_, err := netip.ParseAddr(string(text))
	return err == nil
}
