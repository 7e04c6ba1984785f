package format

import (
	"bytes"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"unicode/utf8"

	"synaxis/internal/core/record"
)

// csvKind is how values stand in a line of csv (RFC 4180, with any separator; a value does not go over several
// lines).
type csvKind struct {
	separator []byte
	columns   []string
	names     [][]byte
}

// maxColumns bounds the values of a line whose columns nobody named.
const maxColumns = 256

func newCSV(spec Spec) (*csvKind, error) {
	c := &csvKind{separator: []byte(","), columns: spec.Columns}
	if spec.Separator != "" {
		c.separator = []byte(spec.Separator)
	}
	if utf8.RuneCount(c.separator) != 1 || bytes.ContainsAny(c.separator, "\"\n\r") {
		return c, fmt.Errorf("format %s: %q cannot be the separator of csv", spec.Name, spec.Separator)
	}
	for _, n := range spec.Columns {
		c.names = append(c.names, []byte(n))
	}
	if len(c.names) == 0 {
		for i := range maxColumns {
			c.names = append(c.names, fmt.Appendf(nil, "column%d", i+1))
		}
	}
	return c, nil
}

// parse reads a line of values. With columns there must be as many values; an empty value gives no field.
func (c *csvKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	line := b.Bytes(span)
	n := 0
	for pos := 0; ; n++ {
		if n == len(c.names) {
			return false
		}
		var v record.Value
		end := 0
		if pos < len(line) && line[pos] == '"' {
			close, doubled := closeCSV(line[pos+1:])
			if close < 0 {
				return false
			}
			v.Span = sub(span, pos+1, pos+1+close)
			if doubled {
				v.Num = v.Span.Raw()
				v.Span = undouble(b, line[pos+1:pos+1+close])
				line = b.Bytes(span)
			}
			end = pos + close + 2
		} else {
			if end = bytes.Index(line[pos:], c.separator); end < 0 {
				end = len(line)
			} else {
				end += pos
			}
			v = plainValue(line[pos:end], sub(span, pos, end))
			if len(c.columns) > 0 { // columns are text unless fields says otherwise
				v = record.Value{Span: sub(span, pos, end)}
			}
		}
		if v.Kind != record.Text || v.Span.Len > 0 {
			p.add(b, c.names[n], v)
		}
		if end == len(line) {
			n++
			break
		}
		if !bytes.HasPrefix(line[end:], c.separator) {
			return false
		}
		pos = end + len(c.separator)
	}
	return len(c.columns) == 0 && n > 1 || n == len(c.columns)
}

// closeCSV finds the quote that ends a value; a doubled one is a quote in it.
func closeCSV(p []byte) (end int, doubled bool) {
	for i := 0; i < len(p); i++ {
		k := bytes.IndexByte(p[i:], '"')
		if k < 0 {
			return -1, false
		}
		if i += k; i+1 == len(p) || p[i+1] != '"' {
			return i, doubled
		}
		doubled = true
		i++
	}
	return -1, false
}

func undouble(b *record.Batch, p []byte) record.Span {
	start := len(b.Arena)
	for i := 0; i < len(p); i++ {
		b.Arena = append(b.Arena, p[i])
		if p[i] == '"' {
			i++
		}
	}
	return record.Span{Off: uint32(start), Len: uint32(len(b.Arena) - start)}
}

// regexKind reads lines by an expression.
type regexKind struct {
	expression *regexp.Regexp
	groups     []int // slot of each, -1 for one without a name
}

func newRegex(p *reading, spec Spec) (*regexKind, error) {
	re, err := regexp.Compile(spec.Regex)
	if err != nil {
		return nil, fmt.Errorf("format %s: %w", spec.Name, err)
	}
	k := &regexKind{expression: re}
	for _, name := range re.SubexpNames() {
		slot := -1
		if name != "" {
			s, _ := p.schema.Slot([]byte(name))
			slot = int(s)
		}
		k.groups = append(k.groups, slot)
	}
	for what, f := range map[string]string{"time.field": spec.Time.Field, "level.field": spec.Level.Field,
		"body": spec.Body} {
		if f != "" && re.SubexpIndex(f) < 0 {
			return nil, fmt.Errorf("%s: the expression has no group %q", what, f)
		}
	}
	return k, nil
}

// parse reads a line by an expression; groups that took no part give no field.
func (k *regexKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	m := k.expression.FindSubmatchIndex(b.Bytes(span))
	if m == nil {
		return false
	}
	for i, slot := range k.groups {
		if slot >= 0 && m[2*i] >= 0 {
			p.append(b, uint16(slot), record.Value{Span: sub(span, m[2*i], m[2*i+1])})
		}
	}
	return true
}

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
