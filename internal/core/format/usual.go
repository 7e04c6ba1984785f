package format

import (
	"bytes"
	"math"
	"strconv"
	"strings"

	"synaxis/internal/core/record"
)

var (
	timeNames  = []string{"time", "timestamp", "ts", "@timestamp", "datetime"}
	levelNames = []string{"level", "severity", "lvl", "log.level", "loglevel"}
	bodyNames  = []string{"message", "msg", "body"}
)

// pick finds a field of the record being read: the named one, or the first of the usual names; nil for none.
func (p *reading) pick(b *record.Batch, name string, u *usual) *record.Value {
	if u.place >= 0 {
		return &b.Values[p.begin+u.place]
	}
	return p.search(b, name, u)
}

func (p *reading) search(b *record.Batch, name string, u *usual) *record.Value {
	if name != "" {
		if u.named < 0 {
			slot, ok := p.schema.Lookup(name)
			if !ok {
				return nil
			}
			u.named = int(slot)
		}
		if at := p.index(b, uint16(u.named)); at >= 0 {
			return &b.Values[at]
		}
		return nil
	}
	if p.loose {
		return p.firstOf(b, u)
	}
	return nil
}

// firstOf finds the first of the usual names that the record has.
func (p *reading) firstOf(b *record.Batch, u *usual) *record.Value {
	if u.at != p.schema.Len() {
		u.at, u.slots = p.schema.Len(), u.slots[:0]
		for _, n := range u.names {
			if slot, ok := p.schema.Lookup(n); ok {
				u.slots = append(u.slots, slot)
			}
		}
	}
	for _, slot := range u.slots {
		if at := p.index(b, slot); at >= 0 {
			return &b.Values[at]
		}
	}
	return nil
}

// usual are names that are looked for where nobody said one, in order, with the slots of those that a schema of at
// names has.
type usual struct {
	names []string
	slots []uint16
	at    int
	named int // slot of the name that somebody said, or -1
	place int // of a template, whose fields are the same in every record: which of them it is; -1 for none
}

func (p *reading) find(b *record.Batch, name string) (record.Value, bool) {
	slot, ok := p.known(name)
	if !ok {
		return record.Value{}, false
	}
	at := p.index(b, slot)
	if at < 0 {
		return record.Value{}, false
	}
	return b.Values[at], true
}

// known is the slot of a name that is asked for in every record; the schema is looked at again only when it has grown.
func (p *reading) known(name string) (uint16, bool) {
	for i := range p.asked {
		if a := &p.asked[i]; a.name == name {
			if a.slot < 0 && a.at != p.schema.Len() {
				a.at = p.schema.Len()
				if slot, ok := p.schema.Lookup(name); ok {
					a.slot = int(slot)
				}
			}
			return uint16(max(0, a.slot)), a.slot >= 0
		}
	}
	p.asked = append(p.asked, asked{name, -1, -1})
	return p.known(name)
}

// asked is a name with its slot, or -1 as long as the schema had no more than at names.
type asked struct {
	name     string
	slot, at int
}

// stampOf reads the time of the record at the front of a text, by a clock that has the format's zone.
func (p *reading) stampOf(c *clock, text []byte) (n int, ok bool) {
	if q := &c.quick; q.ready && q.iso {
		if frac, n := q.isoAgain(text); n > 0 {
			p.isAt(q, frac)
			return n, true
		}
	}
	if p.nanos, p.note, n, ok = c.again(text, p.observed); ok {
		p.timeKnown = true
		return n, true
	}
	if p.timeValue, n, ok = c.read(text); ok {
		p.timeParsed = true
	}
	return n, ok
}

// isAt takes a fraction of the second that was settled for the time of the record.
func (p *reading) isAt(q *settled, frac int64) {
	p.timeKnown, p.note, p.nanos = true, q.note, q.zoned+frac
	if q.note == record.TimeNoZone {
		p.nanos = p.observed
	}
}

// setTime sets the time of a record of which the parser does not know it yet.
func (p *reading) setTime(b *record.Batch, r *record.Record) {
	if p.timeParsed {
		r.Time, r.TimeNote = p.clock.resolve(&p.timeValue, r.Observed, b.Written)
		return
	}
	if p.time == "" && !p.loose && !p.inner {
		return
	}
	v := p.pick(b, p.time, &p.times)
	if v == nil && p.inner && p.time == "" {
		v = p.firstOf(b, &p.times)
	}
	if v == nil && p.loose && p.time == "" && p.auditTime(b, r) {
		return
	}
	if v == nil {
		if p.time != "" {
			r.TimeNote = record.TimeUnreadable
		}
		return
	}
	text := b.Bytes(v.Span)
	switch v.Kind {
	case record.Text:
	case record.Int:
		text = strconv.AppendInt(p.digits[:0], int64(v.Num), 10)
	case record.Float:
		text = strconv.AppendFloat(p.digits[:0], math.Float64frombits(v.Num), 'f', -1, 64)
	default:
		r.TimeNote = record.TimeUnreadable
		return
	}
	if t, note, n, ok := p.clock.again(text, r.Observed); ok && n == len(text) {
		r.Time, r.TimeNote = t, note
		return
	}
	c, n, ok := p.clock.read(text)
	if ok && c.noDate && (p.loose || p.inner) {
		if day, there := p.find(b, "date"); there && day.Kind == record.Text { // the date stands in a field of its own
			at := len(b.Arena)
			b.Arena = append(append(append(b.Arena, b.Bytes(day.Span)...), ' '), text...)
			if whole, k, good := p.clock.read(b.Arena[at:]); good && k == len(b.Arena)-at {
				c = whole
			}
			b.Arena = b.Arena[:at]
		}
	}
	if !ok || n != len(text) {
		r.TimeNote = record.TimeUnreadable
		return
	}
	r.Time, r.TimeNote = p.clock.resolve(&c, r.Observed, b.Written)
}

// maxAudit is how far into a line the time of the kernel's audit is looked for.
const maxAudit = 256

// auditTime reads the time of a record of the kernel's audit: msg=audit(EPOCH:NUMBER). It is read from the line, since
// a record may have another pair of that name.
func (p *reading) auditTime(b *record.Batch, r *record.Record) bool {
	line := b.Bytes(r.Body)
	_, rest, ok := bytes.Cut(line[:min(len(line), maxAudit)], []byte("audit("))
	if !ok {
		return false
	}
	c, n, ok := epoch(rest)
	if !ok || n == len(rest) || rest[n] != ':' {
		return false
	}
	r.Time, r.TimeNote = p.clock.resolve(&c, r.Observed, b.Written)
	return true
}

func (p *reading) setLevel(b *record.Batch, r *record.Record) {
	v := p.pick(b, p.level, &p.levels)
	if v == nil {
		r.Level = p.levelValue
		return
	}
	if at, n := int(v.Span.Off), int(v.Span.Len); v.Kind == record.Text && n > 0 && n <= 8 &&
		at+8 <= len(b.Arena) { // by far the most
		word := eight(b.Arena, at) << (64 - 8*n)
		k := &p.knownLevels[word*0x9e3779b97f4a7c15>>60]
		if k.word != word || k.n != n {
			*k = knownLevel{word, n, p.levelOf(b, v)}
		}
		r.Level = k.level
		return
	}
	r.Level = p.levelOf(b, v)
}

func (p *reading) levelOf(b *record.Batch, v *record.Value) uint8 {
	var digits [24]byte
	text := bytes.TrimSpace(b.Bytes(v.Span)) // programs fill levels up to line their columns up
	if v.Kind == record.Int {
		text = strconv.AppendInt(digits[:0], int64(v.Num), 10)
	}
	if len(p.spec.Level.Map) > 0 {
		if l, ok := lookupFold(p.spec.Level.Map, text); ok {
			return l
		}
		if l, ok := p.spec.Level.Map["*"]; ok {
			return l
		}
	}
	if n := int64(v.Num); v.Kind == record.Int && n >= 0 && n < 8 { // a severity of RFC 5424
		return syslogLevels[n]
	}
	return parseLevel(text)
}

// knownLevel is a word of up to eight bytes and the level that it is.
type knownLevel struct {
	word  uint64
	n     int
	level uint8
}

func lookupFold(m map[string]uint8, text []byte) (uint8, bool) {
	if l, ok := m[string(text)]; ok {
		return l, true
	}
	l, ok := m[strings.ToLower(string(text))]
	return l, ok
}

func parseLevel(text []byte) uint8 {
	if len(text) > 12 {
		return 0
	}
	var low [12]byte
	for i, c := range text {
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		low[i] = c
	}
	return record.ParseLevel(string(low[:len(text)]))
}
