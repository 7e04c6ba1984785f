package pipeline

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"synaxis/internal/core/record"
)

// Tried is one record that a treatment made of a log: where it stood, what was read, and what became of it.
type Tried struct {
	Line, Lines int // its first line, from 1, and how many there are
	Read        bool
	Time        time.Time
	TimeNote    record.TimeNote
	Level       string
	Body        string
	Original    string // as it came in, before anything was masked
	Fields      []TriedField
	Truncated   bool

	Private []Mark   // in Original: what masks took
	Marks   []Mark   // in the body and the fields as they go out: what masks put in
	Effects []Effect // of the steps, and of the guards
	Dropped string   // one of Reasons, or ""
	To      []string // destinations
	Weight  float64  // how many records it stands for, or 0
	Masked  []string // masks that note their names
}

// TriedField is a field with its value: a string, int64, float64 or bool, or JSON for lists and objects.
type TriedField struct {
	Name, Type string
	Value      any
}

// Mark is a masked part of a text, in bytes. In is body, original, or the name of a field.
type Mark struct {
	In         string
	Start, End int
	Mask       string
	was        [2]int // where the text before had it
}

// Effect is what one step did to a record.
type Effect struct {
	Step    int    // from 1; 0 for the guards
	Kind    string // such as drop, or guards
	Failed  int    // of its conditions and values: so many could not be computed, and did nothing
	Drops   bool   // the record ends here
	Changes []Change
}

// Change is one thing of a record that a step changed. Before and After are as they are shown; "" with Added or
// Removed.
type Change struct {
	Name           string
	Before, After  string
	Added, Removed bool
}

// JSON is a value that is JSON already.
type JSON []byte

// MarshalJSON gives the value as it is.
func (j JSON) MarshalJSON() ([]byte, error) { return j, nil }

// trace watches a treatment.
type trace struct {
	out     []Tried
	most    int // of out; 0 for any
	window  int // where the arena begins in the log
	effects []Effect
	marks   []Mark
	private []Mark
	was     []TriedField // with level and body
}

// Try treats a whole log as the host would and tells what became of it, record by record, those that are dropped too.
// observed stands in for times that cannot be read.
func (t *Treatment) Try(data []byte, observed time.Time) ([]Tried, Counts) {
	var all Counts
	b := &record.Batch{Origin: record.NewOrigin("", "", t.src.Name, "", labelList(t.src.Labels))}
	t.trace, t.trying = &trace{}, true
	defer func() { t.trace, t.trying = nil, false }()
	done, window := 0, tryWindow
	for done < len(data) {
		b.Reset()
		end := min(done+window, len(data))
		b.Arena = append(b.Arena[:0], data[done:end]...)
		t.trace.window = done
		used, c := t.run(b, int64(done), observed.UnixNano(), tryBatch, end == len(data))
		if used == 0 {
			if end == len(data) {
				break
			}
			window *= 2 // a record larger than that
			continue
		}
		window = tryWindow
		all.Add(c)
		done += used
	}
	out := t.trace.out
	cut := t.cutter.Over(data, 0)
	at, line := 0, 1
	for i := range out { // Line and Lines were places in the log until now
		start, end := out[i].Line, out[i].Lines
		n, _ := cut.Ends(data[at:start])
		line += n
		n, rest := cut.Ends(data[start:end])
		out[i].Line, out[i].Lines = line, max(1, n)
		if rest > 0 && n > 0 {
			out[i].Lines++
		}
		at, line = end, line+n
	}
	return out, all
}

func labelList(labels map[string]string) []record.Label {
	var out []record.Label
	for k, v := range labels {
		out = append(out, record.Label{Key: k, Value: v})
	}
	slices.SortFunc(out, func(a, b record.Label) int {
		if a.Key < b.Key {
			return -1
		}
		return 1
	})
	return out
}

// tryBatch is how many records are made at a time.
const tryBatch = 1000

// tryWindow is how many bytes are copied for them, so that what a long log takes grows with its length and no faster.
const tryWindow = 1 << 20

func (x *trace) full() bool { return x.most > 0 && len(x.out) >= x.most }

// before and after stand around a step.
func (x *trace) before(t *Treatment, b *record.Batch, r *record.Record) { x.was = t.shown(b, r) }

func (x *trace) after(t *Treatment, b *record.Batch, r *record.Record, step int, goes bool, failed int) {
	e := Effect{Step: step + 1, Failed: failed, Drops: !goes}
	if e.Kind = "guards"; step >= 0 {
		e.Kind = string(t.src.Steps[step].Kind)
	}
	now := t.shown(b, r)
	for _, f := range x.was {
		if !slices.ContainsFunc(now, func(g TriedField) bool { return g.Name == f.Name }) {
			e.Changes = append(e.Changes, Change{Name: f.Name, Before: ShowValue(f), Removed: true})
		}
	}
	for _, f := range now {
		i := slices.IndexFunc(x.was, func(g TriedField) bool { return g.Name == f.Name })
		switch {
		case i < 0:
			e.Changes = append(e.Changes, Change{Name: f.Name, After: ShowValue(f), Added: true})
		case x.was[i].Type != f.Type || ShowValue(x.was[i]) != ShowValue(f):
			e.Changes = append(e.Changes, Change{Name: f.Name, Before: ShowValue(x.was[i]), After: ShowValue(f)})
		}
	}
	if e.Kind != "mask" && e.Kind != "guards" { // what was set anew is not what a mask put there
		x.marks = slices.DeleteFunc(x.marks, func(m Mark) bool {
			return slices.ContainsFunc(e.Changes, func(c Change) bool { return !c.Added && c.Name == m.In })
		})
	}
	x.effects = append(x.effects, e)
}

// shown are the fields of a record, and its level and body under names that no field has.
func (t *Treatment) shown(b *record.Batch, r *record.Record) []TriedField {
	out := triedFields(b, r)
	return append(
		out,
		TriedField{"level", "text", record.LevelName(r.Level)},
		TriedField{"body", "text", string(b.Bytes(r.Body))},
	)
}

// marked notes what a mask put into a text; marks that were there move along.
func (x *trace) marked(g target, fresh []Mark) {
	kept := x.marks[:0]
	for _, m := range x.marks {
		if m.In != g.name {
			kept = append(kept, m)
			continue
		}
		shift, gone := 0, false
		for _, f := range fresh {
			gone = gone || f.was[0] < m.End && f.was[1] > m.Start
			if f.was[1] <= m.Start {
				shift += (f.End - f.Start) - (f.was[1] - f.was[0])
			}
		}
		if !gone {
			m.Start, m.End = m.Start+shift, m.End+shift
			kept = append(kept, m)
		}
	}
	x.marks = append(kept, fresh...)
}

// inLine notes what masks took of the line as it was read.
func (x *trace) inLine(t *Treatment, s *screen) {
	end := t.line.Off + t.line.Len
	for _, p := range t.found {
		if p.from < t.line.Off || p.to > end {
			continue
		}
		m := Mark{
			In:    "original",
			Start: int(p.from - t.line.Off),
			End:   int(p.to - t.line.Off),
			Mask:  s.masks[p.mask].Name(),
		}
		if !slices.ContainsFunc(x.private, func(h Mark) bool { return h.Start < m.End && h.End > m.Start }) {
			x.private = append(x.private, m)
		}
	}
}

// record notes a record that is done.
func (x *trace) record(t *Treatment, b *record.Batch, r *record.Record, start, end, reason int) {
	if reason != dropUnparsed && reason >= 0 {
		r.Routes = 0
	}
	y := tried(b, r)
	y.Line, y.Lines = x.window+start, x.window+end
	y.Original = string(bytes.TrimRight(b.Bytes(t.line), "\r\n"))
	y.Effects, x.effects = x.effects, nil
	y.Marks, x.marks = slices.Clone(x.marks), x.marks[:0]
	slices.SortFunc(x.private, func(a, b Mark) int { return a.Start - b.Start })
	y.Private, x.private = slices.Clone(x.private), x.private[:0]
	if reason >= 0 {
		y.Dropped = Reasons[reason]
	}
	for i, to := range t.routes.to {
		if r.Routes>>i&1 != 0 {
			y.To = append(y.To, to)
		}
	}
	for i, m := range t.marks {
		if r.Masked>>i&1 != 0 {
			y.Masked = append(y.Masked, m)
		}
	}
	y.Weight = r.Weight
	x.out = append(x.out, y)
}

func tried(b *record.Batch, r *record.Record) Tried {
	return Tried{
		Read:      r.Flags&record.Unparsed == 0,
		Time:      time.Unix(0, r.Time).UTC(),
		TimeNote:  r.TimeNote,
		Level:     record.LevelName(r.Level),
		Body:      string(b.Bytes(r.Body)),
		Truncated: r.Flags&record.Truncated != 0,
		Fields:    triedFields(b, r),
	}
}

func triedFields(b *record.Batch, r *record.Record) []TriedField {
	var out []TriedField
	for _, v := range b.Fields(r) {
		f := TriedField{Name: b.Schema.Name(v.Slot)}
		switch v.Kind {
		case record.Int:
			f.Type, f.Value = "int", int64(v.Num)
		case record.Float:
			f.Type, f.Value = "float", math.Float64frombits(v.Num)
			if x := math.Float64frombits(v.Num); math.IsInf(x, 0) || math.IsNaN(x) { // JSON has no word for it
				f.Value = strconv.FormatFloat(x, 'g', -1, 64)
			}
		case record.Bool:
			f.Type, f.Value = "bool", v.Num != 0
		case record.JSON:
			f.Type, f.Value = "json", JSON(bytes.Clone(b.Bytes(v.Span)))
		default:
			f.Type, f.Value = "text", string(b.Bytes(v.Span))
		}
		out = append(out, f)
	}
	return out
}

// ShowValue writes the value of a field.
func ShowValue(f TriedField) string {
	switch v := f.Value.(type) {
	case string:
		return v
	case JSON:
		return string(v)
	}
	return fmt.Sprint(f.Value)
}
