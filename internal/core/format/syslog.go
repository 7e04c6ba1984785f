package format

import (
	"bytes"
	"strings"

	"synaxis/internal/core/record"
)

// syslogFields are the names of the header's parts. Structured data gives syslog.data.ID.PARAM.
var syslogFields = []string{
	"syslog.facility",
	"syslog.severity",
	"syslog.version",
	"syslog.hostname",
	"syslog.appname",
	"syslog.procid",
	"syslog.msgid",
}

// syslogKind reads messages, with objects and pairs in their texts.
type syslogKind struct {
	slots  syslogSlots
	object jsonKind
	pairs  keyvalueKind
	path   []byte
	within *syslogKind // reads a header inside the text of another, as relays leave it; nil within it
}

// newSyslog reads messages with the fields of syslogFields, and a header inside them with those of innerFields.
func newSyslog(schema *record.Schema) *syslogKind {
	var inner []string
	for _, f := range syslogFields {
		inner = append(inner, "syslog.inner."+strings.TrimPrefix(f, "syslog."))
	}
	return &syslogKind{slots: newSyslogSlots(schema, syslogFields),
		within: &syslogKind{slots: newSyslogSlots(schema, inner)}}
}

type syslogSlots struct{ facility, severity, version, hostname, appname, procid, msgid uint16 }

func newSyslogSlots(schema *record.Schema, names []string) syslogSlots {
	s := slots(schema, names...)
	return syslogSlots{s[0], s[1], s[2], s[3], s[4], s[5], s[6]}
}

// syslogLevels are the levels of the eight severities (RFC 5424, section 6.2.1).
var syslogLevels = [8]uint8{21, 21, 21, 17, 13, 10, 9, 5}

// byteOrderMark may stand before the whole message or before its text (RFC 5424, section 6.4).
const byteOrderMark = "\xef\xbb\xbf"

func marked(text []byte) bool {
	return len(text) >= len(byteOrderMark) && text[0] == byteOrderMark[0] && text[1] == byteOrderMark[1] &&
		text[2] == byteOrderMark[2]
}

// parse reads a message by RFC 5424, by RFC 3164, and as devices really send them: without a year, a host or a
// priority, with a year or a sequence number, with JSON or key=value as its text.
func (s *syslogKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	line := b.Bytes(span)
	pos := 0
	if marked(line) {
		pos = len(byteOrderMark)
	}
	hasPriority := false
	if pos+1 < len(line) && line[pos] == '<' && line[pos+1] == '>' {
		pos += 2
	} else if pos < len(line) && line[pos] == '<' {
		pri, n, ok := digits(line[pos+1:], 1, 4)
		if !ok || pos+1+n >= len(line) || line[pos+1+n] != '>' {
			return false
		}
		pos += n + 2
		hasPriority = true
		p.addSlot(b, s.slots.facility, record.Value{Kind: record.Int, Num: uint64(pri >> 3)})
		p.addSlot(b, s.slots.severity, record.Value{Kind: record.Int, Num: uint64(pri & 7)})
		p.levelValue = syslogLevels[pri&7]
		keep := len(b.Values) - p.begin
		for pos < len(line) && line[pos] == ' ' {
			pos++
		}
		if version, k, ok := digits(line[pos:], 1, 2); ok && pos+k < len(line) && line[pos+k] == ' ' {
			if s.parse5424(p, b, span, pos+k+1, version) {
				return true
			}
			p.drop(b, keep)
		}
	}
	return s.parse3164(p, b, span, pos, hasPriority)
}

// drop takes back the fields after the first keep ones of the record being read.
func (p *reading) drop(b *record.Batch, keep int) {
	for _, v := range b.Values[p.begin+keep:] {
		p.gen[v.Slot] = p.now - 1
	}
	b.Values = b.Values[:p.begin+keep]
	p.timeParsed, p.hasBody = false, false
}

// word returns where the word at pos ends.
func word(line []byte, pos int) int {
	if k := bytes.IndexByte(line[pos:], ' '); k >= 0 {
		return pos + k
	}
	return len(line)
}

// parse5424 reads what follows the version (RFC 5424, section 6).
func (s *syslogKind) parse5424(p *reading, b *record.Batch, span record.Span, pos, version int) bool {
	line := b.Bytes(span)
	end := word(line, pos)
	if end == len(line) {
		return false
	}
	if end != pos+1 || line[pos] != '-' {
		v, n, ok := p.clock.read(line[pos:end])
		if !ok || n != end-pos {
			return false
		}
		p.timeValue, p.timeParsed = v, true
	}
	p.addSlot(b, s.slots.version, record.Value{Kind: record.Int, Num: uint64(version)})
	pos = end + 1
	for i, slot := range [4]uint16{s.slots.hostname, s.slots.appname, s.slots.procid, s.slots.msgid} {
		end = word(line, pos)
		if end == pos || end == len(line) && i < 3 {
			return false
		}
		if end != pos+1 || line[pos] != '-' {
			p.addSlot(b, slot, record.Value{Span: sub(span, pos, end)})
		}
		pos = min(end+1, len(line))
	}
	switch {
	case pos < len(line) && line[pos] == '-':
		pos++
	case pos < len(line) && line[pos] == '[':
		keep, v, parsed := len(b.Values)-p.begin, p.timeValue, p.timeParsed
		end, ok := s.structured(p, b, span, pos)
		if line = b.Bytes(span); !ok || end < len(line) && line[end] != ' ' { // torn, or a text in brackets
			p.drop(b, keep)
			p.timeValue, p.timeParsed = v, parsed
			s.message(p, b, span, pos)
			return true
		}
		pos = end
	case pos < len(line): // left out, as devices do
		s.message(p, b, span, pos)
		return true
	}
	if pos < len(line) && line[pos] != ' ' {
		return false
	}
	s.message(p, b, span, min(pos+1, len(line)))
	return true
}

// structured reads structured data: [id name="value" ...] any number of times, where \" \\ and \] stand for
// themselves.
func (s *syslogKind) structured(p *reading, b *record.Batch, span record.Span, pos int) (end int, ok bool) {
	line := b.Bytes(span)
	for pos < len(line) && line[pos] == '[' {
		id := pos + 1
		for pos = id; pos < len(line) && line[pos] != ' ' && line[pos] != ']' && line[pos] != '='; pos++ {
		}
		if pos == id || pos == len(line) || line[pos] == '=' {
			return 0, false
		}
		idEnd := pos
		for pos < len(line) && line[pos] == ' ' {
			for pos < len(line) && line[pos] == ' ' {
				pos++
			}
			if pos < len(line) && line[pos] == ']' {
				break
			}
			eq := bytes.IndexByte(line[pos:], '=')
			if eq <= 0 || pos+eq+1 >= len(line) || line[pos+eq+1] != '"' {
				return 0, false
			}
			name, value := pos, pos+eq+2
			close, escaped := closing(line[value:])
			if close < 0 {
				return 0, false
			}
			s.path = append(
				append(append(append(s.path[:0], "syslog.data."...), line[id:idEnd]...), '.'),
				line[name:pos+eq]...)
			v := record.Value{Span: sub(span, value, value+close)}
			if escaped {
				v.Span = unescapeData(b, line[value:value+close])
				line = b.Bytes(span)
			}
			p.add(b, s.path, v)
			pos = value + close + 1
		}
		if pos >= len(line) || line[pos] != ']' {
			return 0, false
		}
		pos++
	}
	return pos, true
}

func unescapeData(b *record.Batch, p []byte) record.Span {
	start := len(b.Arena)
	for i := 0; i < len(p); i++ {
		if p[i] == '\\' && i+1 < len(p) && (p[i+1] == '"' || p[i+1] == '\\' || p[i+1] == ']') {
			i++
		}
		b.Arena = append(b.Arena, p[i])
	}
	return record.Span{Off: uint32(start), Len: uint32(len(b.Arena) - start)}
}

// parse3164 reads TIMESTAMP HOST TAG[PID]: TEXT (RFC 3164, section 4) in what is left of it. Of a line without a
// priority at least the time must be there, or any text would be one.
func (s *syslogKind) parse3164(p *reading, b *record.Batch, span record.Span, pos int, hasPriority bool) bool {
	line := b.Bytes(span)
	host := 0 // the length of one that stands before the time
	if n := sequence(line[pos:]); n > 0 && pos+n < len(line) {
		if _, _, ok := s.stamp(p, line[pos+n:]); ok {
			pos += n
		} else if end := word(line, pos+n); end+1 < len(line) && line[end-1] == ':' && hostLike(line[pos+n:end-1]) {
			after := end + 1
			after += sequence(line[after:])
			if _, _, ok := s.stamp(p, line[after:]); ok {
				host = end - 1 - pos - n
				p.addSlot(b, s.slots.hostname, record.Value{Span: sub(span, pos+n, end-1)})
				pos = after
			}
		}
	}
	n, ok := s.take(p, line[pos:])
	comma := false // in the time, as programs write it for people: a logger follows, and no host
	switch {
	case ok:
		comma = n > monthSize && bytes.IndexByte(line[pos:pos+n], ',') >= 0
		pos += n
		if pos < len(line) && line[pos] == ':' {
			pos++
		}
		if pos < len(line) && line[pos] != ' ' {
			return false
		}
	case !hasPriority:
		return false
	}
	for pos < len(line) && line[pos] == ' ' {
		pos++
	}
	if text, ok := s.tag(p, b, span, pos); ok { // no host
		s.message(p, b, span, text)
		return true
	}
	end := word(line, pos)
	if host == 0 && p.timeParsed && end < len(line) && hostLike(line[pos:end]) {
		begin, keep := pos, len(b.Values)-p.begin
		p.addSlot(b, s.slots.hostname, record.Value{Span: sub(span, pos, end)})
		pos = end + 1
		for pos < len(line) && line[pos] == ' ' {
			pos++
		}
		if pos+1 < len(line) && line[pos] == ':' && line[pos+1] == ' ' {
			pos += 2
		}
		if text, ok := s.tag(p, b, span, pos); ok {
			pos = text
		} else if comma {
			v := p.timeValue
			p.drop(b, keep)
			p.timeValue, p.timeParsed = v, true
			pos = begin
		}
	}
	s.message(p, b, span, pos)
	return true
}

// sequence measures what some devices put before the time: a sequence number and a colon, and a mark of a clock that
// is not set.
func sequence(line []byte) int {
	n := 0
	for n < len(line) && line[n] >= '0' && line[n] <= '9' {
		n++
	}
	if n > 0 {
		if n >= len(line) || line[n] != ':' {
			return 0
		}
		n++
		for n < len(line) && line[n] == ' ' {
			n++
		}
	}
	if n < len(line) && (line[n] == '*' || line[n] == '.') {
		n++
	}
	return n
}

// stamp reads a time stamp at the front of a line: "Apr 2 06:15:09", with a year, a fraction or a zone, or as ISO
// 8601.
func (s *syslogKind) stamp(p *reading, line []byte) (civil, int, bool) {
	v, n, ok := p.clock.read(line)
	return v, n, ok && (!v.isEpoch || p.clock.layout != nil)
}

// take is stamp for the time of the message itself.
func (s *syslogKind) take(p *reading, line []byte) (n int, ok bool) {
	if c := p.clock; c.layout == nil && c.sameMonth(line) { // as most lines have it, without copies of it
		p.timeValue, p.timeParsed = c.wasM, true
		return monthSize, true
	}
	v, n, ok := s.stamp(p, line)
	if ok {
		p.timeValue, p.timeParsed = v, true
	}
	return n, ok
}

// hostLike tells whether a word may be a host: a name or an address, and not the beginning of a sentence, nor an
// address with its port.
func hostLike(w []byte) bool {
	colons := 0
	for _, c := range w {
		if c == ':' {
			colons++
		}
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '.' ||
			c == '_' || c == ':' || c == '%' || c == '@') {
			return false
		}
	}
	return len(w) > 0 && w[len(w)-1] != ':' && colons != 1
}

// endsTag are the bytes at which the name in a tag ends.
var endsTag = [256]bool{'[': true, ':': true, ' ': true}

// tag reads TAG: or TAG[PID]: at pos; text is where the message begins.
func (s *syslogKind) tag(p *reading, b *record.Batch, span record.Span, pos int) (text int, ok bool) {
	line := b.Bytes(span)
	end := pos
	for most := min(len(line), pos+64); end < most && !endsTag[line[end]]; {
		end++
	}
	bracket := end
	if end+1 < len(line) && line[end] == ' ' && line[end+1] == '[' {
		bracket++
	}
	if end == pos || end == len(line) || line[bracket] == ' ' || line[pos] == '{' || line[pos] == '"' {
		return 0, false
	}
	pid, pidEnd, after := 0, 0, end
	if line[bracket] == '[' {
		k := bracket + 1
		for most := min(len(line), bracket+41); k < most && line[k] != ']' && line[k] != ' '; {
			k++
		}
		if k < bracket+2 || k >= len(line) || line[k] != ']' {
			return 0, false
		}
		pid, pidEnd, after = bracket+1, k, k+1
		if after+1 < len(line) && line[after] == ' ' && line[after+1] == ':' {
			after++
		}
	}
	if after >= len(line) || line[after] != ':' || after+1 < len(line) && line[after+1] != ' ' {
		return 0, false
	}
	p.addSlot(b, s.slots.appname, record.Value{Span: sub(span, pos, end)})
	if p.levelValue == 0 {
		p.levelValue = mnemonicLevel(line[pos:end])
	}
	if pid > 0 {
		p.addSlot(b, s.slots.procid, record.Value{Span: sub(span, pid, pidEnd)})
	}
	text = after + 1
	for text < len(line) && line[text] == ' ' {
		text++
	}
	return text, true
}

// mnemonicLevel is the level in a tag as devices write it where no priority stands before:
// %FACILITY-SEVERITY-MNEMONIC.
func mnemonicLevel(tag []byte) uint8 {
	if tag[0] != '%' {
		return 0
	}
	for i := 2; i+3 < len(tag); i++ {
		if tag[i] == '-' && tag[i+1] >= '0' && tag[i+1] <= '7' && tag[i+2] == '-' {
			return syslogLevels[tag[i+1]-'0']
		}
	}
	return 0
}

// leadingLevel is the level with which a text begins: in brackets, with a colon behind it, or in large letters; 0 for
// none.
func leadingLevel(text []byte) uint8 {
	from := 0
	if len(text) > 0 && (text[0] == '[' || text[0] == '<') {
		from = 1
	}
	n, large := from, true
	for n < len(text) && n < 16 && (text[n]|0x20) >= 'a' && (text[n]|0x20) <= 'z' {
		large = large && text[n] < 'a'
		n++
	}
	if n-from < 3 || n == len(text) {
		return 0
	}
	switch c := text[n]; {
	case from == 1 && (c == ']' || c == '>'), from == 0 && c == ':', from == 0 && c == ' ' && large:
		return parseLevel(text[from:n])
	}
	return 0
}

// message takes the text of a message as the body, and the fields that it holds as JSON or key=value.
func (s *syslogKind) message(p *reading, b *record.Batch, span record.Span, pos int) {
	line := b.Bytes(span)
	if marked(line[pos:]) {
		pos += len(byteOrderMark)
	}
	text := sub(span, pos, len(line))
	p.bodySpan, p.hasBody = text, true
	if p.levelValue == 0 {
		p.levelValue = leadingLevel(line[pos:])
	}
	keep := len(b.Values) - p.begin
	if s.within != nil && s.relayed(p, b, line, pos) { // the device's own header, with its own time and level
		timeValue, timeParsed, level := p.timeValue, p.timeParsed, p.levelValue
		if s.within.parse(p, b, text) {
			return
		}
		p.drop(b, keep)
		p.timeValue, p.timeParsed, p.levelValue, p.bodySpan, p.hasBody = timeValue, timeParsed, level, text, true
		line = b.Bytes(span)
	}
	at := bytes.IndexByte(line[pos:], '{')
	object := at == 0 || at > 0 && at <= 8 && line[len(line)-1] == '}' // "{...}" and "@cee: {...}"
	if !object && s.pairs.keyAt(p, line, pos) <= 0 {
		return
	}
	timeValue, timeParsed := p.timeValue, p.timeParsed
	if object && s.object.parse(p, b, sub(span, pos+at, len(line))) || !object && s.pairs.parse(p, b, text) {
		p.within(b)
		return
	}
	p.drop(b, keep)
	p.timeValue, p.timeParsed, p.bodySpan, p.hasBody = timeValue, timeParsed, text, true
}

// relayed tells whether a text begins with a header of its own: a priority, or where the header before names no
// program, a date in words with a host and a program behind it.
func (s *syslogKind) relayed(p *reading, b *record.Batch, line []byte, pos int) bool {
	if pos >= len(line) {
		return false
	}
	if line[pos] == '<' {
		_, n, ok := digits(line[pos+1:], 1, 4)
		after := pos + n + 2
		if !ok || after >= len(line) || line[after-1] != '>' {
			return false
		}
		if bytes.HasPrefix(line[after:], []byte("1 ")) {
			return true
		}
		_, _, ok = s.stamp(p, line[after:])
		return ok
	}
	if line[pos] < 'A' || line[pos] > 'S' || p.index(b, s.slots.appname) >= 0 || p.index(b, s.slots.hostname) < 0 {
		return false
	}
	_, n, ok := s.stamp(p, line[pos:])
	if !ok || pos+n+1 >= len(line) || line[pos+n] != ' ' {
		return false
	}
	host := word(line, pos+n+1)
	colon := bytes.IndexByte(line[min(host+1, len(line)):], ':')
	return hostLike(line[pos+n+1:host]) && colon > 0 && colon <= 64
}

// within takes body and level out of the fields of a message's text, where the header does not say them.
func (p *reading) within(b *record.Batch) {
	if v := p.firstOf(b, &p.bodies); v != nil && v.Kind == record.Text {
		p.bodySpan = v.Span
	}
	if v := p.firstOf(b, &p.levels); v != nil && v.Kind == record.Text && p.levelValue == 0 {
		p.levelValue = parseLevel(b.Bytes(v.Span))
	}
}
