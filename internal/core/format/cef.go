package format

import (
	"bytes"

	"synaxis/internal/core/record"
)

// cefFields are the names of the parts of a header; pairs behind it keep their own names.
var cefFields = []string{"cef.version", "cef.device.vendor", "cef.device.product", "cef.device.version", "cef.class",
	"cef.name", "cef.severity", "syslog.facility", "syslog.severity", "syslog.hostname"}

const (
	cefVersion  = 0
	cefName     = 5
	cefSeverity = 6
	cefFacility = 7
	cefPriority = 8
	cefHost     = 9
)

// cefKind reads the event format of security devices: CEF:VERSION|VENDOR|PRODUCT|VERSION|CLASS|NAME|SEVERITY|PAIRS,
// where a bar and a backslash have a backslash before them, and in pairs an equals sign too. A header of syslog may
// stand before it.
type cefKind struct{ slots []uint16 }

func (c *cefKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	line := b.Bytes(span)
	at := bytes.Index(line, []byte("CEF:"))
	if at < 0 {
		return false
	}
	pos, part := at+len("CEF:"), 0
	var bars [7]int
	escaped := false
	for i := pos; i < len(line) && part < 7; i++ {
		switch line[i] {
		case '\\':
			i++
			escaped = true
		case '|':
			bars[part] = i
			part++
		}
	}
	if part < 6 { // the last bar may be missing, where no pairs follow
		return false
	}
	if part == 6 {
		bars[6] = len(line)
	}
	version, n, ok := digits(line[pos:], 1, 4)
	if !ok || pos+n != bars[0] {
		return false
	}
	if at > 0 {
		c.before(p, b, span, at)
	}
	p.addSlot(b, c.slots[cefVersion], record.Value{Kind: record.Int, Num: uint64(version)})
	for i := 1; i < 7; i++ {
		from, to := bars[i-1]+1, bars[i]
		text := b.Bytes(sub(span, from, to))
		v := record.Value{Span: sub(span, from, to)}
		if escaped && bytes.IndexByte(text, '\\') >= 0 {
			v = record.Value{Span: cefUnescape(b, text), Num: sub(span, from, to).Raw()}
		}
		p.addSlot(b, c.slots[i], v)
		switch i {
		case cefName:
			p.bodySpan, p.hasBody = v.Span, v.Span.Len > 0
		case cefSeverity:
			p.levelValue = cefLevel(text)
		}
	}
	if bars[6] < len(line) {
		c.pairs(p, b, span, bars[6]+1)
	}
	return true
}

// cefLevel is the level of a severity: 0 to 3 are low, 4 to 6 medium, 7 and 8 high, 9 and 10 very high.
func cefLevel(text []byte) uint8 {
	text = bytes.TrimSpace(text)
	if n, k, ok := digits(text, 1, 3); ok && k == len(text) {
		switch {
		case n <= 3:
			return record.Info
		case n <= 6:
			return record.Warn
		case n <= 8:
			return record.Error
		}
		return record.Fatal
	}
	switch string(bytes.ToLower(text)) {
	case "low":
		return record.Info
	case "medium":
		return record.Warn
	case "high":
		return record.Error
	case "very-high":
		return record.Fatal
	}
	return 0
}

// before reads what stands before the event: a priority, a time and a host.
func (c *cefKind) before(p *reading, b *record.Batch, span record.Span, end int) {
	line := b.Bytes(span)[:end]
	pos := 0
	if len(line) > 2 && line[0] == '<' {
		if pri, n, ok := digits(line[1:], 1, 4); ok && 1+n < len(line) && line[1+n] == '>' && pri < 192 {
			pos = n + 2
			p.addSlot(b, c.slots[cefFacility], record.Value{Kind: record.Int, Num: uint64(pri >> 3)})
			p.addSlot(b, c.slots[cefPriority], record.Value{Kind: record.Int, Num: uint64(pri & 7)})
			if version, n, ok := digits(line[pos:], 1, 2); ok && version == 1 && pos+n < len(line) &&
				line[pos+n] == ' ' {
				pos += n + 1
			}
		}
	}
	if v, n, ok := p.clock.read(line[pos:]); ok {
		p.timeValue, p.timeParsed = v, true
		pos += n
	}
	for pos < len(line) && line[pos] == ' ' {
		pos++
	}
	if to := word(line, pos); to > pos && to < len(line) {
		p.addSlot(b, c.slots[cefHost], record.Value{Span: sub(span, pos, to)})
	}
}

// pairs reads key=value pairs whose values hold spaces: a value goes on to the next key.
func (c *cefKind) pairs(p *reading, b *record.Batch, span record.Span, pos int) {
	line := b.Bytes(span)
	times := [3]record.Span{}
	for pos < len(line) {
		for pos < len(line) && line[pos] == ' ' {
			pos++
		}
		eq := cefKey(line, pos)
		if eq < 0 {
			return
		}
		name := bytes.Clone(line[pos:eq])
		end, next, escaped := len(line), len(line), false
		for i := eq + 1; i < len(line); i++ {
			if line[i] == '\\' {
				i++
				escaped = true
				continue
			}
			if line[i] == ' ' && cefKey(line, i+1) > 0 {
				end, next = i, i+1
				break
			}
		}
		from := eq + 1
		for end > from && line[end-1] == ' ' {
			end--
		}
		text := line[from:end]
		v := record.Value{Span: sub(span, from, end)}
		if n, ok := cefNumber(text); ok {
			n.Span = v.Span
			v = n
		} else if escaped && bytes.IndexByte(text, '\\') >= 0 {
			v = record.Value{Span: cefUnescape(b, text), Num: v.Span.Raw()}
			line = b.Bytes(span) // the arena may have moved
		}
		switch string(name) {
		case "rt":
			times[0] = sub(span, from, end)
		case "end":
			times[1] = sub(span, from, end)
		case "start":
			times[2] = sub(span, from, end)
		case "msg":
			if v.Kind == record.Text && v.Span.Len > 0 {
				p.bodySpan, p.hasBody = v.Span, true
			}
		}
		p.add(b, name, v)
		pos = next
	}
	for _, s := range times {
		if s.Len > 0 {
			if t, n, ok := p.clock.read(b.Bytes(s)); ok && n == int(s.Len) {
				p.timeValue, p.timeParsed = t, true
				return
			}
		}
	}
}

// cefKey is where the equals sign of a key stands that begins at pos; -1 where none begins there.
func cefKey(line []byte, pos int) int {
	for i := pos; i < len(line) && i-pos <= 64; i++ {
		switch ch := line[i]; {
		case ch == '=':
			if i > pos {
				return i
			}
			return -1
		case ch >= 'a' && ch <= 'z', ch >= 'A' && ch <= 'Z', ch >= '0' && ch <= '9', ch == '_', ch == '.', ch == '-',
			ch == '[', ch == ']':
		default:
			return -1
		}
	}
	return -1
}

// cefNumber reads a whole number as it is usually written; what begins with a zero or a plus is a text.
func cefNumber(text []byte) (record.Value, bool) {
	digit := bytes.TrimPrefix(text, []byte("-"))
	if len(digit) == 0 || digit[0] == '+' || digit[0] == '-' || digit[0] == '0' && len(digit) > 1 {
		return record.Value{}, false
	}
	return intValue(text)
}

// cefUnescape copies a text into the arena with its escapes undone.
func cefUnescape(b *record.Batch, text []byte) record.Span {
	start := len(b.Arena)
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+1 < len(text) {
			switch next := text[i+1]; next {
			case '\\', '|', '=':
				b.Arena = append(b.Arena, next)
				i++
				continue
			case 'n':
				b.Arena = append(b.Arena, '\n')
				i++
				continue
			case 'r':
				b.Arena = append(b.Arena, '\r')
				i++
				continue
			}
		}
		b.Arena = append(b.Arena, text[i])
	}
	return record.Span{Off: uint32(start), Len: uint32(len(b.Arena) - start)}
}
