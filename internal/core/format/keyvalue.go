package format

import (
	"bytes"

	"synaxis/internal/core/record"
)

// keyvalueKind reads pairs.
type keyvalueKind struct {
	alone bool   // the line is pairs, and not only the text of a message
	held  uint16 // slot of the key that was read last
	holds bool
}

// parse reads key=value pairs; a word without = goes on with the value before it.
func (q *keyvalueKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	line := b.Bytes(span)
	pos, found := 0, false
	ahead, aheadEq := -1, 0 // a key that was seen already
	for pos < len(line) {
		if c := line[pos]; c == ' ' || c == '\t' || c == ',' || c == ';' || c == '|' {
			pos++
			continue
		}
		eq := aheadEq
		if pos != ahead {
			eq = q.keyAt(p, line, pos)
		}
		if eq < 0 {
			return false
		}
		key := line[pos:eq]
		value := eq + 1
		if value < len(line) && line[value] == '"' {
			end, escaped := 0, false
			if p.slashes {
				end, escaped = closing(line[value+1:])
			} else {
				end = bytes.IndexByte(line[value+1:], '"')
			}
			if end < 0 {
				return false
			}
			v := record.Value{Span: sub(span, value+1, value+1+end)}
			if escaped {
				v = escapedText(b, span, value+1, value+1+end)
			}
			p.add(b, key, v)
			line = b.Bytes(span)
			pos = value + end + 2
			found = true
			continue
		}
		if value < len(line) && line[value] == '\'' {
			if end := closingSingle(line[value+1:]); end >= 0 {
				p.add(b, key, record.Value{Span: sub(span, value+1, value+1+end)})
				pos, found = value+end+2, true
				continue
			}
		}
		end := value
		for end < len(line) && line[end] != ' ' && line[end] != '\t' {
			end++
		}
		q.addKey(p, key)
		for next := end; next < len(line); { // words that are no key=value belong to this one
			for next < len(line) && (line[next] == ' ' || line[next] == '\t') {
				next++
			}
			if next == len(line) {
				break
			}
			if ahead, aheadEq = next, q.keyAt(p, line, next); aheadEq >= 0 {
				break
			}
			for next < len(line) && line[next] != ' ' && line[next] != '\t' {
				next++
			}
			end = next
		}
		if c := line[max(end, 1)-1]; (c == ',' || c == ';') && end > value && aheadEq >= 0 &&
			ahead > end { // between this and the next
			end--
		}
		if bytes.IndexByte(line[value:end], '=') >= 0 {
			if k := q.parted(line[value:end]); k >= 0 {
				end, ahead = value+k, -1
			}
		}
		q.put(p, b, plainValue(line[value:end], sub(span, value, end)))
		pos, found = end, true
	}
	return found
}

// parted finds where a value ends behind which the next key=value comes, with nothing but a mark between them, or -1.
// A mark behind another = belongs to the value, as in an address of a page.
func (q *keyvalueKind) parted(value []byte) int {
	for i, c := range value {
		switch c {
		case '=', '"', '?':
			return -1
		case ',', ';', '|':
			next := spacesEnd(value, i+1)
			if key := next; key < len(value) && keyBytes[value[key]] && (value[key] < '0' || value[key] > '9') {
				for key < len(value) && keyBytes[value[key]] {
					key++
				}
				if key < len(value) && value[key] == '=' {
					return i
				}
			}
		}
	}
	return -1
}

// closingSingle finds the single quote that ends a value: one with nothing, or a mark between pairs, behind it; -1 for
// none.
func closingSingle(p []byte) int {
	for i, c := range p {
		if c == '\'' {
			if i+1 == len(p) || p[i+1] == ' ' || p[i+1] == '\t' || p[i+1] == ',' || p[i+1] == ';' || p[i+1] == '|' {
				return i
			}
			return -1
		}
	}
	return -1
}

// addKey makes room for a field whose value comes next; put gives it.
func (q *keyvalueKind) addKey(p *reading, key []byte) {
	slot, ok := p.slot(key)
	p.full = p.full || !ok
	q.held, q.holds = slot, ok
}

func (q *keyvalueKind) put(p *reading, b *record.Batch, v record.Value) {
	if q.holds {
		p.addSlot(b, q.held, v)
	}
}

// keyBytes are what a key may be made of.
var keyBytes = func() (t [256]bool) {
	for c := range t {
		t[c] = c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '-' ||
			c == '.' ||
			c == '@' ||
			c == '/'
	}
	return t
}()

// keyAt returns where the = after a key beginning at pos stands, or -1. The key that the record before had here is
// tried first.
func (q *keyvalueKind) keyAt(p *reading, line []byte, pos int) int {
	if p.turn < len(p.order) {
		name := p.schema.Name(p.order[p.turn])
		if eq := pos + len(name); eq < len(line) && line[eq] == '=' && q.alone &&
			string(line[pos:eq]) == name {
			return eq
		}
	}
	i := pos
	for i < len(line) && keyBytes[line[i]] {
		i++
	}
	if i == pos || i == len(line) || line[i] != '=' {
		return -1
	}
	return i
}

// plainValue types a value that was written without quotes.
func plainValue(text []byte, span record.Span) record.Value {
	if len(text) > 0 && (text[0] == '-' || text[0] >= '0' && text[0] <= '9') {
		if len(text) == 1 || text[0] != '0' || text[1] == '.' {
			if v, ok := intValue(text); ok {
				v.Span = span
				return v
			}
			if bytes.IndexByte(text, '.') > 0 &&
				numberLen(text, true) == len(text) { // so that a date costs no failed parse
				if v, ok := floatValue(text); ok {
					return v
				}
			}
		}
	}
	switch string(text) {
	case "true":
		return record.Value{Kind: record.Bool, Num: 1}
	case "false":
		return record.Value{Kind: record.Bool}
	}
	return record.Value{Span: span}
}
