// Package pipeline is one source's whole treatment: cut, parse, steps, guards, route. The agent and the workbench run
// this code.
package pipeline

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/bits"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/format"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
	"synaxis/internal/core/yamldoc"
)

// Source is what a host must know to collect one source. In the catalogue its texts may hold references; in a host
// config they are resolved.
type Source struct {
	Name, Was    string
	Labels       map[string]string
	Files        []string
	Except       []string
	Links        string // near, follow
	FirstRead    string // now, start
	Listen       *Listener
	FilesFrom    *Program  // a program that tells which files
	Command      *Program  // whose output is read
	Generate     *Generate // made up
	Journal      *Journal
	Encoding     string // utf-8, utf-16, utf-16le, utf-16be, latin-1
	Begin        string
	Idle         time.Duration // after which the last record counts as complete
	Most         int           // bytes of the largest record
	Format       string
	Time         format.Time
	KeepOriginal bool
	NoIDs        bool   // records carry no id
	Unparsed     string // keep, drop, or the name of a destination
	Steps        []Step
	Guards       []string // masks that guards put on it; in a host config only
	Send         []Entry
	Expect       expect.Expectation // what is normal for it; at the desk only
	Watch        Watch              // what the host itself watches of that; in a host config only
}

// Watch is what a host itself watches of what is expected of a source.
type Watch struct {
	Filled []string           // fields of which it is counted how often they are there
	File   expect.Expectation // of each file
}

// StepKind is what a step does: the one key of an entry of steps.
type StepKind string

// The kinds of steps.
const (
	Keep   StepKind = "keep"   // records that meet a condition go on, the others end here
	Drop   StepKind = "drop"   // records that meet a condition end here
	Parse  StepKind = "parse"  // a field is read by a format of its own
	Set    StepKind = "set"    // fields get computed values
	Mask   StepKind = "mask"   // private data is replaced
	Rename StepKind = "rename" // fields get other names
	Remove StepKind = "remove" // fields go
	Sample StepKind = "sample" // one of many goes on
	Limit  StepKind = "limit"  // so many a second go on
)

// Step is one thing done to a record.
type Step struct {
	Kind  StepKind
	Value *yamldoc.Node
}

// Input is the kind of input that the source reads by: the key of read.
func (s Source) Input() string {
	switch {
	case s.Listen != nil:
		return s.Listen.Kind
	case s.Command != nil:
		return "command"
	case s.Generate != nil:
		return "generate"
	case s.Journal != nil:
		return "journal"
	}
	return "files"
}

// Entry is one way that records go. An entry without a condition takes every record; Otherwise takes what no other
// took.
type Entry struct {
	To, When  string
	Otherwise bool
}

// Reasons are why records are dropped, in the order of Counts.ByRule.
var Reasons = []string{"unparsed", "keep", "drop", "sample", "limit", "no-route"}

const (
	dropUnparsed = iota
	dropKeep
	dropDrop
	dropSample
	dropLimit
	dropNoRoute
	reasons
)

// Counts are what became of the records of one run. Dropped and Drops of the numbers are empty: ByRule has them.
type Counts struct {
	wire.Numbers
	ByRule [reasons]int64 // by Reasons
}

// All are the numbers with what the rules dropped.
func (c *Counts) All() wire.Numbers {
	n := c.Numbers
	n.Dropped, n.Drops = 0, nil
	for i, d := range c.ByRule {
		if d > 0 {
			if n.Drops == nil {
				n.Drops = map[string]int64{}
			}
			n.Dropped += d
			n.Drops[Reasons[i]] = d
		}
	}
	return n
}

// Add sums up.
func (c *Counts) Add(o Counts) {
	c.Numbers.Add(o.Numbers)
	for i, n := range o.ByRule {
		c.ByRule[i] += n
	}
}

// Parts are what a source is compiled with, beside its format.
type Parts struct {
	Formats format.Other                        // that steps, and a first-of, name
	Masks   func(name string) (mask.Spec, bool) // beside the built-in ones
	Secret  func(text string) ([]byte, bool)    // of a keyed hash; nil at the desk, where a key for this run stands in
}

// Treatment is a compiled source. It belongs to one goroutine.
type Treatment struct {
	Tap       *Tap       // who looks at what it does; may be nil
	Found     *Found     // the format that it was made for, where that was recognised
	Unclaimed *Unclaimed // examples of what its format does not read, and no route takes; may be nil

	src    Source
	cutter *lines.Cutter
	parser *format.Parser
	schema *record.Schema
	raw    bool
	known  int  // names that format and steps give, in the schema
	direct bool // a record goes out as the format reads it, and everywhere
	steps  []step
	guards *screen
	routes routes
	marks  []string // masks that note their names
	// all lists of masks, those of the guards too
	screens []*screen

	line    record.Span // of the record at hand, as it was read
	targets []target
	found   []private
	didMask bool
	counted []string // masks, by the bits of hits
	hits    uint64   // those that found something in the record at hand
	byMask  []int64  // and in how many of the run
	filled  []filled
	trace   *trace
	trying  bool // a whole log at once
}

// Compile prepares the treatment of a source with its format.
func Compile(src Source, f format.Spec, p Parts) (*Treatment, error) {
	wrap := func(err error) error { return fmt.Errorf("source %s: %w", src.Name, err) }
	cutter, err := lines.Compile(lines.Spec{Begin: src.Begin, Most: src.Most, Encoding: src.Encoding})
	if err != nil {
		return nil, wrap(err)
	}
	parser, err := format.Compile(f, src.Time, p.Formats)
	if err != nil {
		return nil, wrap(err)
	}
	t := &Treatment{src: src, cutter: cutter, parser: parser, schema: parser.Schema(), raw: f.Kind == "raw"}
	for i, s := range src.Steps {
		one, err := t.compileStep(s, p)
		if err != nil {
			return nil, wrap(fmt.Errorf("step %d: %w", i+1, err))
		}
		t.steps = append(t.steps, one)
	}
	if len(src.Guards) > 0 {
		if t.guards, err = t.newScreen(src.Guards, true, p); err != nil {
			return nil, wrap(fmt.Errorf("guards: %w", err))
		}
	}
	if t.routes, err = t.compileRoutes(); err != nil {
		return nil, wrap(err)
	}
	for _, name := range src.Watch.Filled {
		slot, _ := t.schema.Slot([]byte(name))
		t.filled = append(t.filled, filled{name: name, slot: slot})
	}
	t.known = t.schema.Len()
	t.direct = len(t.steps) == 0 && len(t.filled) == 0 && t.guards == nil && !src.KeepOriginal && src.Unparsed != "drop" &&
		len(t.routes.entries) == 0 &&
		t.routes.unparsed == 0 &&
		(t.routes.rest != 0 || len(t.routes.to) == 0)
	return t, nil
}

// Schema returns the field names of this source.
func (t *Treatment) Schema() *record.Schema { return t.schema }

// Lines tells whether each line is a record.
func (t *Treatment) Lines() bool { return t.cutter.Lines() }

// MaxRecord is the bound of one record, in bytes.
func (t *Treatment) MaxRecord() int { return t.cutter.Most() }

// Run treats the bytes that fill b.Arena: it cuts, reads, takes the steps, applies the guards, finds the ways and
// appends the records that are complete and not dropped, until the batch holds limit records. offset is the place of
// the first byte in its file, observed the time in Unix nanoseconds. With flush what is left at the end counts as
// complete. It returns how many bytes were used; the rest must be given again, with more behind it.
func (t *Treatment) Run(b *record.Batch, offset, observed int64, limit int, flush bool) (used int, c Counts) {
	data := b.Arena
	if x := t.Tap; x != nil && x.open.Load() > 0 {
		used, c = t.watched(x, b, offset, observed, limit, flush)
	} else {
		used, c = t.run(b, offset, observed, limit, flush)
	}
	if used > 0 && t.Tap != nil && t.Tap.copying.Load() > 0 {
		t.copied(Raw{Origin: b.Origin, Arena: data[:used], Lines: true, Observed: observed})
	}
	return used, c
}

func (t *Treatment) run(b *record.Batch, offset, observed int64, limit int, flush bool) (used int, c Counts) {
	b.Schema, b.Masks = t.schema, t.marks
	data := b.Arena
	cut := t.cutter.Over(data, offset)
	wide := t.src.Encoding != "" && t.src.Encoding != "utf-8"
	plain := !wide && (ascii(data) || utf8.Valid(data)) // then every line is
	t.parser.Expect(data)
	holes := !strings.HasPrefix(t.src.Encoding, "utf-16")
	for len(b.Records) < limit {
		start, truncated := cut.Used(), false
		var span record.Span
		if n, size := cut.Line(); size > 0 { // by far the most
			span.Off, span.Len = uint32(start), uint32(n)
		} else {
			p, ok := cut.Next(flush)
			if !ok {
				break
			}
			cut.Take(p)
			span, truncated = record.Span{Off: uint32(start + p.Skip), Len: uint32(p.Body)}, p.Truncated
		}
		body := data[span.Off : span.Off+span.Len]
		if wide {
			at := len(b.Arena)
			b.Arena = cut.Decode(b.Arena, body)
			span = record.Span{Off: uint32(at), Len: uint32(len(b.Arena) - at)}
			body = b.Bytes(span)
		}
		if holes && len(body) > 0 && body[0] == 0 { // room that a program left when its file was truncated under it
			n := len(body) - len(bytes.TrimLeft(body, "\x00"))
			c.Zeros += int64(n)
			if body = body[n:]; len(body) == 0 {
				continue
			}
			span.Off, span.Len = span.Off+uint32(n), span.Len-uint32(n)
		}
		t.one(b, span, offset+int64(cut.Used()), observed, truncated, plain, start, cut.Used(), nil, &c)
		if t.trace != nil && t.trace.full() {
			break
		}
	}
	t.count(&c)
	c.Bytes = int64(cut.Used())
	return cut.Used(), c
}

// one treats one record: the text at a span of the arena, which was cut from its bytes from start to stop, and ends at
// a place of its stream. A plain one is known to be UTF-8.
func (t *Treatment) one(
	b *record.Batch, span record.Span, end, observed int64, truncated, plain bool, start, stop int,
	given *record.Given, c *Counts,
) {
	body := b.Bytes(span)
	if !t.raw && blank(body) && (given == nil || given.Empty()) {
		c.Blank++
		return
	}
	c.Read++
	if !plain && !utf8.Valid(body) {
		at := len(b.Arena)
		b.Arena = lines.Visible(b.Arena, body)
		span = record.Span{Off: uint32(at), Len: uint32(len(b.Arena) - at)}
	}
	at, values := len(b.Records), len(b.Values)
	b.Records = slices.Grow(b.Records, 1)[:at+1]
	r := &b.Records[at]
	// and then each field: a record that is made elsewhere and copied waits for its own stores
	*r = record.Record{}
	r.Observed, r.Time, r.End = observed, observed, end
	r.Body, r.First = span, uint32(values)
	if truncated {
		r.Flags |= record.Truncated
	}
	if t.direct && t.trace == nil && given == nil {
		if !t.parser.Read(b, r) {
			if c.Unparsed++; t.Unclaimed != nil {
				t.unclaimed(b, r, Reasons[dropUnparsed], true)
			}
		}
		if r.TimeNote == record.TimeNoZone {
			c.NoZone++
		}
		r.Routes = t.routes.rest
		return
	}
	t.line = span
	reason := t.treat(b, r, given, c)
	if t.Unclaimed != nil && (r.Flags&record.Unparsed != 0 || reason == dropNoRoute) {
		why := dropNoRoute
		if r.Flags&record.Unparsed != 0 {
			why = dropUnparsed
		}
		t.unclaimed(b, r, Reasons[why], reason < 0 || reason == dropNoRoute)
	}
	if r.TimeNote == record.TimeNoZone {
		c.NoZone++
	}
	if t.trace != nil {
		if reason >= 0 && t.guards != nil { // who looks at what was dropped is not shown what guards would hide
			t.apply(t.guards, b, r)
		}
		t.trace.record(t, b, r, start, stop, reason)
	}
	if reason >= 0 {
		c.ByRule[reason]++
		b.Values, b.Records = b.Values[:values], b.Records[:at]
	}
}

// count puts what was counted by mask and by field into the counts of a run, and begins anew.
func (t *Treatment) count(c *Counts) {
	for i, n := range t.byMask {
		if n > 0 {
			if c.Masks == nil {
				c.Masks = map[string]int64{}
			}
			c.Masks[t.counted[i]], t.byMask[i] = n, 0
		}
	}
	if len(t.filled) > 0 && c.Read > 0 {
		c.Filled = make(map[string]int64, len(t.filled)) // also what is never there, since it is watched
		for i := range t.filled {
			f := &t.filled[i]
			c.Filled[f.name], f.n = f.n, 0
		}
	}
}

// treat reads one record and takes it through. It answers why the record is dropped, or -1.
func (t *Treatment) treat(b *record.Batch, r *record.Record, given *record.Given, c *Counts) int {
	t.didMask, t.hits = false, 0
	read := t.parser.Read(b, r)
	if given != nil {
		t.give(b, r, given)
	}
	if !read {
		c.Unparsed++
		if t.src.Unparsed == "drop" {
			return dropUnparsed
		}
	}
	if read {
		t.fill(b, r)
	}
	if t.src.KeepOriginal {
		r.Original, r.Flags = t.line, r.Flags|record.HasOriginal
	}
	for i := range t.steps {
		s := &t.steps[i]
		if t.trace != nil {
			t.trace.before(t, b, r)
		}
		ok, failed := s.run(b, r)
		c.Failed += int64(failed)
		if t.trace != nil {
			t.trace.after(t, b, r, i, ok, failed)
		}
		if !ok {
			return s.reason
		}
	}
	if t.guards != nil {
		if t.trace != nil {
			t.trace.before(t, b, r)
		}
		t.apply(t.guards, b, r)
		if t.trace != nil {
			t.trace.after(t, b, r, -1, true, 0)
		}
	}
	if t.didMask {
		c.Masked++
		for h := t.hits; h != 0; h &= h - 1 {
			t.byMask[bits.TrailingZeros64(h)]++
		}
	}
	if r.Routes = t.routes.rest; len(t.routes.entries) > 0 || t.routes.unparsed != 0 {
		r.Routes = 0
		c.Failed += int64(t.routes.find(b, r))
	}
	if r.Routes == 0 && len(t.routes.to) > 0 {
		return dropNoRoute
	}
	return -1
}

// filled counts in how many records of a run a field is there.
type filled struct {
	name string
	slot uint16
	n    int64
}

// fill counts the fields that are watched and there. An empty text is nothing.
func (t *Treatment) fill(b *record.Batch, r *record.Record) {
	for i := range t.filled {
		f := &t.filled[i]
		for _, v := range b.Values[r.First : r.First+uint32(r.N)] {
			if v.Slot == f.slot && (v.Kind != record.Text || v.Span.Len > 0) {
				f.n++
				break
			}
		}
	}
}

// ascii tells whether no byte has its top bit set. Most logs are plain, and utf8.Valid takes three times as long to
// say so.
func ascii(p []byte) bool {
	all := uint64(0)
	for ; len(p) >= 64; p = p[64:] {
		q := p[:64]
		all |= binary.LittleEndian.Uint64(
			q,
		) | binary.LittleEndian.Uint64(
			q[8:],
		) | binary.LittleEndian.Uint64(
			q[16:],
		) | binary.LittleEndian.Uint64(
			q[24:],
		) |
			binary.LittleEndian.Uint64(
				q[32:],
			) | binary.LittleEndian.Uint64(
			q[40:],
		) | binary.LittleEndian.Uint64(
			q[48:],
		) | binary.LittleEndian.Uint64(
			q[56:],
		)
	}
	for _, c := range p {
		all |= uint64(c)
	}
	return all&0x8080808080808080 == 0
}

func blank(p []byte) bool {
	if len(p) > 0 && p[0] > ' ' {
		return false
	}
	return !slices.ContainsFunc(p, func(c byte) bool { return c != ' ' && c != '\t' && c != '\r' && c != '\n' })
}
