package format

import (
	"fmt"
	"math"
	"strconv"

	"synaxis/internal/core/record"
)

// declared is the type that a format says a field has.
type declared struct {
	slot uint16
	typ  string
}

func declare(spec Spec, schema *record.Schema) ([]declared, error) {
	var out []declared
	for name, typ := range spec.Fields {
		slot, ok := schema.Slot([]byte(name))
		if !ok {
			return nil, fmt.Errorf("format %s: it has too many fields", spec.Name)
		}
		out = append(out, declared{slot, typ})
	}
	return out, nil
}

// convert gives the fields of the record being read the types that they were declared with. A value that does not fit
// makes a line of csv one that the format does not read, such as its head; elsewhere the value stays as it is.
func (p *Parser) convert(b *record.Batch) bool {
	for _, d := range p.fields {
		at := p.index(b, d.slot)
		if at < 0 {
			continue
		}
		v := &b.Values[at]
		if !as(b, v, d.typ) && p.spec.Kind == "csv" {
			return false
		}
	}
	return true
}

// as gives a value a type, when it fits.
func as(b *record.Batch, v *record.Value, typ string) bool {
	slot := v.Slot
	set := func(x record.Value, ok bool) bool {
		if ok {
			*v = x
			v.Slot = slot
		}
		return ok
	}
	switch typ {
	case "int":
		if v.Kind == record.Text {
			x, ok := intValue(b.Bytes(v.Span))
			x.Span = v.Span
			return set(x, ok)
		}
		if f := math.Float64frombits(v.Num); v.Kind == record.Float && f == math.Trunc(f) && math.Abs(f) < 1<<53 {
			return set(record.Value{Kind: record.Int, Num: uint64(int64(f))}, true)
		}
		return v.Kind == record.Int
	case "float":
		if v.Kind == record.Text {
			return set(floatValue(b.Bytes(v.Span)))
		}
		if v.Kind == record.Int {
			return set(record.Value{Kind: record.Float, Num: math.Float64bits(float64(int64(v.Num)))}, true)
		}
		return v.Kind == record.Float
	case "bool":
		if v.Kind != record.Text {
			return v.Kind == record.Bool
		}
		switch string(b.Bytes(v.Span)) {
		case "true", "TRUE", "True", "yes", "1":
			return set(record.Value{Kind: record.Bool, Num: 1}, true)
		case "false", "FALSE", "False", "no", "0":
			return set(record.Value{Kind: record.Bool}, true)
		}
		return false
	case "ip":
		return v.Kind == record.Text && checkIP(b.Bytes(v.Span))
	}
	if v.Kind != record.Text && v.Kind != record.JSON { // text, and a time, which is kept as it is written
		return set(record.Value{Span: b.Put(appendValue(nil, *v))}, true)
	}
	return true
}

func appendValue(dst []byte, v record.Value) []byte {
	switch v.Kind {
	case record.Int:
		return strconv.AppendInt(dst, int64(v.Num), 10)
	case record.Float:
		return strconv.AppendFloat(dst, math.Float64frombits(v.Num), 'g', -1, 64)
	}
	return strconv.AppendBool(dst, v.Num != 0)
}
