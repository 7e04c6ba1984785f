package pipeline

import (
	"bytes"
	"unicode/utf8"

	"synaxis/internal/core/lines"
	"synaxis/internal/core/record"
)

// Message is a record that came whole, over a listener: its text is a span of the arena.
type Message struct {
	Text      record.Span
	Truncated bool
	Given     *record.Given // what came with it beside its text; nil for nothing
}

// RunMessages treats messages whose texts are in b.Arena, as Run does with lines. place is the place of the first one
// in its stream, in messages; observed is in Unix nanoseconds.
func (t *Treatment) RunMessages(b *record.Batch, messages []Message, place, observed int64) (c Counts) {
	if t.Tap != nil && t.Tap.copying.Load() > 0 {
		t.copied(Raw{Origin: b.Origin, Arena: b.Arena, Messages: messages, Observed: observed})
	}
	if x := t.Tap; x != nil && x.open.Load() > 0 {
		_, c = t.lookOn(x, b, observed, func() (int, Counts) { return 0, t.runMessages(b, messages, place, observed) })
		return c
	}
	return t.runMessages(b, messages, place, observed)
}

func (t *Treatment) runMessages(b *record.Batch, messages []Message, place, observed int64) (c Counts) {
	b.Schema, b.Masks = t.schema, t.marks
	t.parser.Expect(b.Arena)
	wide := t.src.Encoding != "" && t.src.Encoding != "utf-8"
	plain := !wide && ascii(b.Arena)
	decode := t.cutter.Over(b.Arena, 0)
	seen := t.trace
	for i := range messages {
		m := &messages[i]
		span, start := m.Text, int(m.Text.Off)
		c.Bytes += int64(span.Len)
		if wide {
			at := len(b.Arena)
			b.Arena = decode.Decode(b.Arena, b.Bytes(span))
			span = record.Span{Off: uint32(at), Len: uint32(len(b.Arena) - at)}
		}
		if body := b.Bytes(span); len(body) > 0 && body[len(body)-1] == 0 { // as C programs end a text
			span.Len = uint32(len(bytes.TrimRight(body, "\x00")))
		}
		t.one(b, span, place+int64(i)+1, observed, m.Truncated, plain, start, start+int(m.Text.Len), m.Given, &c)
		if t.trace != nil && t.trace.full() { // who looks has enough
			t.trace = nil
		}
	}
	t.trace = seen
	t.count(&c)
	return c
}

// give puts what came with a record onto it, where its format has not said so: a field that both have is as the format
// reads it, and the time and level that came with it count.
func (t *Treatment) give(b *record.Batch, r *record.Record, g *record.Given) {
	if g.Time != 0 {
		r.Time, r.TimeNote = g.Time, record.TimeGood
	}
	if g.Level != 0 {
		r.Level = g.Level
	}
	for i := range g.Fields {
		f := &g.Fields[i]
		slot, ok := t.schema.Slot(f.Name)
		if !ok || i >= mostGiven {
			r.Flags |= record.MoreFields
			continue
		}
		has := false
		for _, v := range b.Fields(r) {
			has = has || v.Slot == slot
		}
		if has || r.N == 1<<16-1 {
			continue
		}
		v := record.Value{Slot: slot, Kind: f.Kind, Num: f.Num}
		switch {
		case f.Kind == record.Text && !utf8.Valid(f.Text):
			at := len(b.Arena)
			b.Arena = lines.Visible(b.Arena, f.Text)
			v.Span = record.Span{Off: uint32(at), Len: uint32(len(b.Arena) - at)}
		case f.Kind == record.Text, f.Kind == record.JSON:
			v.Span = b.Put(f.Text)
		}
		if r.N == 0 {
			r.First = uint32(len(b.Values))
		}
		b.Values = append(b.Values, v)
		r.N++
	}
}

// mostGiven bounds the fields that come with one record.
const mostGiven = 1000
