package pipeline

import (
	"math"

	"synaxis/internal/core/expr"
	"synaxis/internal/core/record"
)

// Where is a condition over records that were tried or looked at, as they are shown. It belongs to one goroutine.
type Where struct {
	text    string
	program *expr.Program
	batch   record.Batch
}

// maxNames is how many names of fields are kept before they are forgotten: records may bring any.
const maxNames = 2000

// NewWhere compiles a condition; an empty one is met by every record.
func NewWhere(text string) (*Where, error) {
	w := &Where{text: text}
	return w, w.renew()
}

func (w *Where) renew() (err error) {
	w.batch = record.Batch{Schema: record.NewSchema(), Origin: record.NewOrigin("", "", "", "", nil)}
	if w.text != "" {
		w.program, err = expr.Compile(w.text, true, w.batch.Schema)
	}
	return err
}

// Met tells whether a record meets the condition. One for which it cannot be computed does not.
func (w *Where) Met(y *Tried, origin *record.Origin) bool {
	if w.program == nil {
		return true
	}
	b := &w.batch
	if b.Schema.Len() > maxNames {
		if w.renew() != nil {
			return false
		}
	}
	b.Reset()
	if origin != nil {
		b.Origin = origin
	}
	r := record.Record{Time: y.Time.UnixNano(), Observed: y.Time.UnixNano(), Level: record.ParseLevel(y.Level)}
	r.Body = b.Put([]byte(y.Body))
	if !y.Read {
		r.Flags |= record.Unparsed
	}
	for _, f := range y.Fields {
		slot, ok := b.Schema.Slot([]byte(f.Name))
		if !ok {
			continue
		}
		b.Values = append(b.Values, f.value(b, slot))
		r.N++
	}
	met, failed := w.program.Met(b, &r)
	return met && !failed
}

// value is the value of a field in a batch.
func (f TriedField) value(b *record.Batch, slot uint16) record.Value {
	out := record.Value{Slot: slot}
	switch v := f.Value.(type) {
	case int64:
		out.Kind, out.Num = record.Int, uint64(v)
	case float64:
		out.Kind, out.Num = record.Float, math.Float64bits(v)
	case bool:
		out.Kind = record.Bool
		if v {
			out.Num = 1
		}
	case JSON:
		out.Kind, out.Span = record.JSON, b.Put(v)
	default:
		out.Kind, out.Span = record.Text, b.Put([]byte(ShowValue(f)))
	}
	return out
}
