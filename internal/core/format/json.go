package format

import (
	"encoding/binary"
	"math/bits"
	"unicode/utf16"
	"unicode/utf8"

	"synaxis/internal/core/record"
)

// maxJSONDepth bounds the nesting of a JSON record.
const maxJSONDepth = 32

// jsonKind reads objects.
type jsonKind struct{ path []byte }

// parse reads one JSON object (RFC 8259). Nested objects give dotted names, lists stay JSON, null gives no field.
func (k *jsonKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	j := jsonReader{p: p, k: k, b: b, span: span, line: b.Bytes(span)}
	j.space()
	if !j.is('{') || !j.object(0, len(k.path[:0])) {
		return false
	}
	j.space()
	return j.pos == len(j.line)
}

type jsonReader struct {
	p    *reading
	k    *jsonKind
	b    *record.Batch
	span record.Span
	line []byte
	pos  int
}

func (j *jsonReader) space() {
	for j.pos < len(j.line) {
		switch j.line[j.pos] {
		case ' ', '\t', '\n', '\r':
			j.pos++
		default:
			return
		}
	}
}

func (j *jsonReader) is(c byte) bool { return j.pos < len(j.line) && j.line[j.pos] == c }

// object reads an object whose names begin with the first prefix bytes of the path.
func (j *jsonReader) object(depth, prefix int) bool {
	if depth > maxJSONDepth {
		return false
	}
	j.pos++
	j.space()
	if j.is('}') {
		j.pos++
		return true
	}
	for {
		j.space()
		if !j.is('"') {
			return false
		}
		key, ok := j.text()
		if !ok {
			return false
		}
		name := j.b.Bytes(key)
		if prefix > 0 {
			j.k.path = append(j.k.path[:prefix], '.')
		} else {
			j.k.path = j.k.path[:0]
		}
		j.k.path = append(j.k.path, name...)
		j.space()
		if !j.is(':') {
			return false
		}
		j.pos++
		j.space()
		if !j.value(depth, len(j.k.path)) {
			return false
		}
		j.space()
		switch {
		case j.is(','):
			j.pos++
		case j.is('}'):
			j.pos++
			return true
		default:
			return false
		}
	}
}

func (j *jsonReader) value(depth, path int) bool {
	if j.pos >= len(j.line) {
		return false
	}
	var v record.Value
	switch c := j.line[j.pos]; {
	case c == '"':
		start := j.pos + 1
		s, ok := j.text()
		if !ok {
			return false
		}
		v.Span = s
		if s.Off != j.span.Off+uint32(start) {
			v.Num = sub(j.span, start, j.pos-1).Raw()
		}
	case c == '{':
		return j.object(depth+1, path)
	case c == '[':
		start := j.pos
		if !j.skip(depth + 1) {
			return false
		}
		v.Kind, v.Span = record.JSON, sub(j.span, start, j.pos)
	case c == 't' || c == 'f' || c == 'n':
		word, ok := j.word()
		if !ok {
			return false
		}
		if word == 'n' {
			return true
		}
		v.Kind = record.Bool
		if word == 't' {
			v.Num = 1
		}
	default:
		start := j.pos
		integer, ok := j.number()
		if !ok {
			return false
		}
		text := j.line[start:j.pos]
		if integer {
			v, ok = intValue(text)
			v.Span = sub(j.span, start, j.pos)
		}
		if !integer || !ok {
			if v, ok = floatValue(text); !ok {
				return false
			}
		}
	}
	j.p.add(j.b, j.k.path[:path], v)
	return true
}

func (j *jsonReader) word() (byte, bool) {
	for _, w := range [...]string{"true", "false", "null"} {
		if len(j.line)-j.pos >= len(w) && string(j.line[j.pos:j.pos+len(w)]) == w {
			j.pos += len(w)
			return w[0], true
		}
	}
	return 0, false
}

// number passes over a number by the grammar of RFC 8259.
func (j *jsonReader) number() (integer, ok bool) {
	run := func() bool {
		start := j.pos
		for j.pos < len(j.line) && j.line[j.pos] >= '0' && j.line[j.pos] <= '9' {
			j.pos++
		}
		return j.pos > start
	}
	integer = true
	if j.is('-') {
		j.pos++
	}
	if j.is('0') {
		j.pos++
	} else if !run() {
		return false, false
	}
	if j.is('.') {
		integer = false
		j.pos++
		if !run() {
			return false, false
		}
	}
	if j.is('e') || j.is('E') {
		integer = false
		j.pos++
		if j.is('+') || j.is('-') {
			j.pos++
		}
		if !run() {
			return false, false
		}
	}
	return integer, true
}

// skip passes over any value.
func (j *jsonReader) skip(depth int) bool {
	if depth > maxJSONDepth || j.pos >= len(j.line) {
		return false
	}
	switch c := j.line[j.pos]; {
	case c == '"':
		_, ok := j.text()
		return ok
	case c == '{' || c == '[':
		end := byte(']')
		if c == '{' {
			end = '}'
		}
		j.pos++
		j.space()
		if j.is(end) {
			j.pos++
			return true
		}
		for {
			j.space()
			if c == '{' {
				if !j.is('"') {
					return false
				}
				if _, ok := j.text(); !ok {
					return false
				}
				j.space()
				if !j.is(':') {
					return false
				}
				j.pos++
				j.space()
			}
			if !j.skip(depth + 1) {
				return false
			}
			j.space()
			if j.is(',') {
				j.pos++
				continue
			}
			if j.is(end) {
				j.pos++
				return true
			}
			return false
		}
	case c == 't' || c == 'f' || c == 'n':
		_, ok := j.word()
		return ok
	}
	_, ok := j.number()
	return ok
}

// text reads a string. Without escapes its span lies in the line; otherwise it is unescaped into the arena.
func (j *jsonReader) text() (record.Span, bool) {
	start := j.pos + 1
	line, i := j.line, j.pos+1
	// eight bytes at once, up to one that matters: a quote, a backslash, or a control character
	for ; i+8 <= len(line); i += 8 {
		w := binary.LittleEndian.Uint64(line[i:])
		quote, slash := w^(ones*'"'), w^(ones*'\\')
		if found := ((quote-ones)&^quote | (slash-ones)&^slash | (w-ones*0x20)&^w) & tops; found != 0 {
			i += bits.TrailingZeros64(found) / 8
			break
		}
	}
	for ; i < len(line); i++ {
		switch c := line[i]; {
		case c == '"':
			j.pos = i + 1
			return sub(j.span, start, i), true
		case c == '\\':
			return j.escaped(start, i)
		case c < 0x20:
			return record.Span{}, false
		}
	}
	return record.Span{}, false
}

func (j *jsonReader) escaped(start, i int) (record.Span, bool) {
	from := len(j.b.Arena)
	out := append(j.b.Arena, j.line[start:i]...)
	for i < len(j.line) {
		c := j.line[i]
		switch {
		case c == '"':
			j.pos = i + 1
			j.b.Arena = out
			j.line = j.b.Bytes(j.span)
			return record.Span{Off: uint32(from), Len: uint32(len(out) - from)}, true
		case c < 0x20:
			return record.Span{}, false
		case c != '\\':
			out = append(out, c)
			i++
		default:
			if i+1 >= len(j.line) {
				return record.Span{}, false
			}
			switch e := j.line[i+1]; e {
			case '"', '\\', '/':
				out = append(out, e)
			case 'b':
				out = append(out, '\b')
			case 'f':
				out = append(out, '\f')
			case 'n':
				out = append(out, '\n')
			case 'r':
				out = append(out, '\r')
			case 't':
				out = append(out, '\t')
			case 'u':
				r, ok := hex4(j.line[i+2:])
				if !ok {
					return record.Span{}, false
				}
				i += 4
				if utf16.IsSurrogate(r) {
					low, ok := rune(0), false
					if len(j.line) > i+3 && j.line[i+2] == '\\' && j.line[i+3] == 'u' {
						low, ok = hex4(j.line[i+4:])
					}
					if full := utf16.DecodeRune(r, low); ok && full != utf8.RuneError {
						r, i = full, i+6
					} else {
						r = utf8.RuneError
					}
				}
				out = utf8.AppendRune(out, r)
			default:
				return record.Span{}, false
			}
			i += 2
		}
	}
	return record.Span{}, false
}

func hex4(p []byte) (rune, bool) {
	if len(p) < 4 {
		return 0, false
	}
	var r rune
	for _, c := range p[:4] {
		switch {
		case c >= '0' && c <= '9':
			r = r<<4 | rune(c-'0')
		case c|0x20 >= 'a' && c|0x20 <= 'f':
			r = r<<4 | rune(c|0x20-'a'+10)
		default:
			return 0, false
		}
	}
	return r, true
}
