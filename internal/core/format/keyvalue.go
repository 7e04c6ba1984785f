package format

import (
	"bytes"

	"synaxis/internal/core/record"
)

// parseKeyValue reads key=value pairs; a word without = goes on with the value before it.
func (p *Parser) parseKeyValue(b *record.Batch, span record.Span) bool {
	line := b.Bytes(span)
	pos, found := 0, false
	for pos < len(line) {
		if line[pos] == ' ' || line[pos] == '\t' || line[pos] == ',' {
			pos++
			continue
		}
		eq := keyEnd(line, pos)
		if eq < 0 {
			return false
		}
		key := line[pos:eq]
		value := eq + 1
		if value < len(line) && line[value] == '"' {
			end, escaped := closing(line[value+1:])
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
		end := value
		for end < len(line) && line[end] != ' ' && line[end] != '\t' {
			end++
		}
		for next := end; next < len(line); { // words that are no key=value belong to this one
			for next < len(line) && (line[next] == ' ' || line[next] == '\t') {
				next++
			}
			if next == len(line) || keyEnd(line, next) >= 0 {
				break
			}
			for next < len(line) && line[next] != ' ' && line[next] != '\t' {
				next++
			}
			end = next
		}
		p.add(b, key, plainValue(line[value:end], sub(span, value, end)))
		pos, found = end, true
	}
	return found
}

// keyEnd returns where the = after a key beginning at pos stands, or -1.
func keyEnd(line []byte, pos int) int {
	for i := pos; i < len(line); i++ {
		switch c := line[i]; {
		case c == '=':
			if i == pos {
				return -1
			}
			return i
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == '_', c == '-', c == '.', c == '@', c == '/':
		default:
			return -1
		}
	}
	return -1
}

// plainValue types a value that was written without quotes.
func plainValue(text []byte, span record.Span) record.Value {
	if len(text) > 0 && (text[0] == '-' || text[0] >= '0' && text[0] <= '9') {
		if len(text) == 1 || text[0] != '0' || text[1] == '.' {
			if v, ok := intValue(text); ok {
				v.Span = span
				return v
			}
			if bytes.IndexByte(text, '.') > 0 && numberLen(text, true) == len(text) { // so that a date costs no failed parse
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
