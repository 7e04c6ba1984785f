package format

import (
	"bytes"
	"fmt"
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
