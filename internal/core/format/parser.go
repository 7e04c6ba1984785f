package format

import (
	"bytes"
	"fmt"
	"math"
	"net/netip"
	"strconv"
	"strings"
	"unicode/utf8"

	"synaxis/internal/core/record"
)

// Parser reads the records of batches. It keeps caches and belongs to one goroutine.
type Parser struct {
	spec   Spec
	parse  func(b *record.Batch, line record.Span) bool
	clock  *clock
	time   string // name of the field, or ""
	level  string
	body   string
	loose  bool // json and keyvalue without a say: the first of the usual names
	schema *record.Schema

	last  []int32 // slot -> index in Batch.Values of the record being read, valid when gen agrees
	gen   []uint32
	now   uint32
	first int
	full  bool
	path  []byte

	ops        []templateOp
	timeValue  civil
	timeParsed bool
}

// Compile checks a spec and prepares a parser; t is laid over the spec's own time.
func Compile(spec Spec, t Time) (*Parser, error) {
	spec.Time = spec.Time.Merge(t)
	p := &Parser{spec: spec, schema: record.NewSchema(), body: spec.Body, level: spec.Level.Field}
	switch spec.Kind {
	case "raw":
		p.parse = func(*record.Batch, record.Span) bool { return true }
	case "json":
		p.parse, p.loose = p.parseJSON, true
	case "keyvalue":
		p.parse, p.loose = p.parseKeyValue, true
	case "web-common", "web-combined":
		combined := spec.Kind == "web-combined"
		p.schema = record.NewSchema(webFields...)
		p.parse = func(b *record.Batch, line record.Span) bool { return p.parseWeb(b, line, combined) }
	case "template":
		parts, err := parseTemplate(spec.Template)
		if err != nil {
			return nil, err
		}
		if spec.Time.Field == "" {
			spec.Time = spec.impliedTime()
		}
		if err := p.compileTemplate(parts, spec); err != nil {
			return nil, err
		}
		p.parse = p.parseTemplate
	default:
		return nil, fmt.Errorf("format %s: kind %q is not known to this version", spec.Name, spec.Kind)
	}
	c, err := newClock(spec.Time)
	if err != nil {
		return nil, err
	}
	p.clock, p.time = c, spec.Time.Field
	if spec.Kind == "web-common" || spec.Kind == "web-combined" {
		if p.clock.layout, err = compileLayout("%d/%b/%Y:%H:%M:%S %z"); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// Schema returns the names that this parser gives to its fields.
func (p *Parser) Schema() *record.Schema { return p.schema }

var (
	timeNames  = []string{"time", "timestamp", "ts", "@timestamp", "datetime"}
	levelNames = []string{"level", "severity", "lvl"}
	bodyNames  = []string{"message", "msg", "body"}
)

// Read reads the record r of b, whose Body is the line and whose Observed is set: it appends fields and sets time,
// level and body. It answers false when the format cannot read the line; r is then flagged and otherwise as it was.
func (p *Parser) Read(b *record.Batch, r *record.Record) bool {
	p.now++
	p.first = len(b.Values)
	p.full, p.timeParsed = false, false
	r.First, r.N, r.Time = uint32(p.first), 0, r.Observed
	if !p.parse(b, r.Body) || len(b.Values)-p.first > math.MaxUint16 {
		b.Values = b.Values[:p.first]
		r.Flags |= record.Unparsed
		return false
	}
	r.N = uint16(len(b.Values) - p.first)
	if p.full {
		r.Flags |= record.MoreFields
	}
	p.setTime(b, r)
	p.setLevel(b, r)
	if v, ok := p.pick(b, p.body, bodyNames, p.loose); ok && v.Kind == record.Text {
		r.Body = v.Span
	}
	return true
}

// pick finds a field of the record being read: the named one, or the first of the usual names.
func (p *Parser) pick(b *record.Batch, name string, usual []string, loose bool) (record.Value, bool) {
	if name != "" {
		return p.find(b, name)
	}
	if loose {
		for _, n := range usual {
			if v, ok := p.find(b, n); ok {
				return v, true
			}
		}
	}
	return record.Value{}, false
}

func (p *Parser) find(b *record.Batch, name string) (record.Value, bool) {
	slot, ok := p.schema.Lookup(name)
	if !ok || int(slot) >= len(p.gen) || p.gen[slot] != p.now {
		return record.Value{}, false
	}
	return b.Values[p.last[slot]], true
}

func (p *Parser) setTime(b *record.Batch, r *record.Record) {
	if p.timeParsed {
		r.Time, r.TimeNote = p.clock.resolve(p.timeValue, r.Observed)
		return
	}
	v, ok := p.pick(b, p.time, timeNames, p.loose)
	if !ok {
		if p.time != "" {
			r.TimeNote = record.TimeUnreadable
		}
		return
	}
	text := b.Bytes(v.Span)
	var digits [32]byte
	switch v.Kind {
	case record.Text:
	case record.Int:
		text = strconv.AppendInt(digits[:0], int64(v.Num), 10)
	case record.Float:
		text = strconv.AppendFloat(digits[:0], math.Float64frombits(v.Num), 'f', -1, 64)
	default:
		r.TimeNote = record.TimeUnreadable
		return
	}
	c, n, ok := p.clock.read(text)
	if !ok || n != len(text) {
		r.TimeNote = record.TimeUnreadable
		return
	}
	r.Time, r.TimeNote = p.clock.resolve(c, r.Observed)
}

func (p *Parser) setLevel(b *record.Batch, r *record.Record) {
	v, ok := p.pick(b, p.level, levelNames, p.loose)
	if !ok {
		return
	}
	var digits [24]byte
	text := b.Bytes(v.Span)
	if v.Kind == record.Int {
		text = strconv.AppendInt(digits[:0], int64(v.Num), 10)
	}
	if len(p.spec.Level.Map) > 0 {
		if l, ok := lookupFold(p.spec.Level.Map, text); ok {
			r.Level = l
		} else {
			r.Level = p.spec.Level.Map["*"]
		}
		return
	}
	r.Level = parseLevel(text)
}

func lookupFold(m map[string]uint8, text []byte) (uint8, bool) {
	if l, ok := m[string(text)]; ok {
		return l, true
	}
	l, ok := m[strings.ToLower(string(text))]
	return l, ok
}

func parseLevel(text []byte) uint8 {
	if len(text) > 12 {
		return 0
	}
	var low [12]byte
	for i, c := range text {
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		low[i] = c
	}
	return record.ParseLevel(string(low[:len(text)]))
}

// add appends a field, or replaces it when the record has it already.
func (p *Parser) add(b *record.Batch, name []byte, v record.Value) {
	slot, ok := p.schema.Slot(name)
	if !ok {
		p.full = true
		return
	}
	p.addSlot(b, slot, v)
}

func (p *Parser) addSlot(b *record.Batch, slot uint16, v record.Value) {
	for int(slot) >= len(p.gen) {
		p.gen = append(p.gen, 0)
		p.last = append(p.last, 0)
	}
	v.Slot = slot
	if p.gen[slot] == p.now {
		b.Values[p.last[slot]] = v
		return
	}
	p.gen[slot], p.last[slot] = p.now, int32(len(b.Values))
	b.Values = append(b.Values, v)
}

func sub(line record.Span, from, to int) record.Span {
	return record.Span{Off: line.Off + uint32(from), Len: uint32(to - from)}
}

// unescape copies p into the arena with backslash escapes of quotes and backslashes undone.
func unescape(b *record.Batch, p []byte) record.Span {
	start := len(b.Arena)
	for i := 0; i < len(p); i++ {
		if p[i] == '\\' && i+1 < len(p) && (p[i+1] == '"' || p[i+1] == '\\') {
			i++
		}
		b.Arena = append(b.Arena, p[i])
	}
	return record.Span{Off: uint32(start), Len: uint32(len(b.Arena) - start)}
}

// closing finds the quote that ends a quoted text beginning before p; escaped tells whether it holds backslashes.
func closing(p []byte) (end int, escaped bool) {
	for i := 0; ; {
		k := bytes.IndexByte(p[i:], '"')
		if k < 0 {
			return -1, false
		}
		at := i + k
		slashes := 0
		for at-slashes > 0 && p[at-slashes-1] == '\\' {
			slashes++
		}
		if slashes%2 == 0 {
			return at, escaped || bytes.IndexByte(p[:at], '\\') >= 0
		}
		escaped, i = true, at+1
	}
}

func intValue(p []byte) (record.Value, bool) {
	i, neg := 0, false
	if len(p) > 0 && (p[0] == '-' || p[0] == '+') {
		neg, i = p[0] == '-', 1
	}
	if i == len(p) || len(p)-i > 18 {
		return record.Value{}, false
	}
	var v int64
	for ; i < len(p); i++ {
		if p[i] < '0' || p[i] > '9' {
			return record.Value{}, false
		}
		v = v*10 + int64(p[i]-'0')
	}
	if neg {
		v = -v
	}
	return record.Value{Kind: record.Int, Num: uint64(v)}, true
}

func floatValue(p []byte) (record.Value, bool) {
	if len(p) == 0 || len(p) > 64 || !(p[0] >= '0' && p[0] <= '9' || p[0] == '-' || p[0] == '+' || p[0] == '.') {
		return record.Value{}, false
	}
	f, err := strconv.ParseFloat(string(p), 64)
	return record.Value{Kind: record.Float, Num: math.Float64bits(f)}, err == nil
}

// webFields are the names of web-common and web-combined, by the OpenTelemetry semantic conventions.
var webFields = []string{"client.address", "user.name", "http.request.method", "url.path", "url.query",
	"network.protocol.version", "http.response.status_code", "http.response.body.size",
	"http.request.header.referer", "user_agent.original", "url.original"}

// parseWeb reads the NCSA common log format, and with combined two quoted texts more.
func (p *Parser) parseWeb(b *record.Batch, span record.Span, combined bool) bool {
	line := b.Bytes(span)
	text := func(slot uint16, from, to int) {
		if to-from != 1 || line[from] != '-' {
			p.addSlot(b, slot, record.Value{Span: sub(span, from, to)})
		}
	}
	address := bytes.IndexByte(line, ' ')
	if address <= 0 {
		return false
	}
	ident := bytes.IndexByte(line[address+1:], ' ')
	if ident <= 0 {
		return false
	}
	user := address + 1 + ident + 1
	open := bytes.Index(line[user:], []byte(" ["))
	if open <= 0 {
		return false
	}
	stamp := user + open + 2
	stampEnd := bytes.IndexByte(line[stamp:], ']')
	if stampEnd < 0 {
		return false
	}
	stampEnd += stamp
	if len(line) < stampEnd+3 || line[stampEnd+1] != ' ' || line[stampEnd+2] != '"' {
		return false
	}
	request := stampEnd + 3
	requestEnd, escaped := closing(line[request:])
	if requestEnd < 0 {
		return false
	}
	requestEnd += request
	rest := requestEnd + 1
	if len(line) < rest+5 || line[rest] != ' ' {
		return false
	}
	status, k, ok := digits(line[rest+1:], 3, 3)
	if !ok || line[rest+1+k] != ' ' {
		return false
	}
	size := rest + 2 + k
	sizeEnd := size
	for sizeEnd < len(line) && line[sizeEnd] != ' ' {
		sizeEnd++
	}
	bytesSent, isInt := intValue(line[size:sizeEnd])
	if !isInt && !(sizeEnd == size+1 && line[size] == '-') {
		return false
	}

	text(0, 0, address)
	text(1, user, user+open)
	p.webRequest(b, span, request, requestEnd, escaped)
	line = b.Bytes(span)
	p.addSlot(b, 6, record.Value{Kind: record.Int, Num: uint64(status)})
	if isInt {
		p.addSlot(b, 7, bytesSent)
	}
	if combined {
		for pos, slot := sizeEnd, uint16(8); slot <= 9; slot++ {
			if len(line) < pos+3 || line[pos] != ' ' || line[pos+1] != '"' {
				return false
			}
			from := pos + 2
			end, escaped := closing(line[from:])
			if end < 0 {
				return false
			}
			if escaped {
				p.addSlot(b, slot, record.Value{Span: unescape(b, line[from:from+end])})
				line = b.Bytes(span)
			} else {
				text(slot, from, from+end)
			}
			pos = from + end + 1
		}
	}
	v, n, ok := p.clock.read(line[stamp:stampEnd])
	if !ok || n != stampEnd-stamp {
		return false
	}
	p.timeValue, p.timeParsed = v, true
	return true
}

func (p *Parser) webRequest(b *record.Batch, span record.Span, from, to int, escaped bool) {
	line := b.Bytes(span)
	request := line[from:to]
	method := bytes.IndexByte(request, ' ')
	last := bytes.LastIndexByte(request, ' ')
	if escaped || method <= 0 || last == method || !bytes.HasPrefix(request[last+1:], []byte("HTTP/")) {
		if len(request) != 1 || request[0] != '-' {
			whole := sub(span, from, to)
			if escaped {
				whole = unescape(b, request)
			}
			p.addSlot(b, 10, record.Value{Span: whole})
		}
		return
	}
	p.addSlot(b, 2, record.Value{Span: sub(span, from, from+method)})
	path, end := from+method+1, from+last
	if q := bytes.IndexByte(line[path:end], '?'); q >= 0 {
		p.addSlot(b, 3, record.Value{Span: sub(span, path, path+q)})
		p.addSlot(b, 4, record.Value{Span: sub(span, path+q+1, end)})
	} else {
		p.addSlot(b, 3, record.Value{Span: sub(span, path, end)})
	}
	p.addSlot(b, 5, record.Value{Span: sub(span, from+last+6, to)})
}

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
			s := sub(span, value+1, value+1+end)
			if escaped {
				s = unescape(b, line[value+1:value+1+end])
			}
			p.add(b, key, record.Value{Span: s})
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

// checkIP tells whether text is an address.
func checkIP(text []byte) bool {
	_, err := netip.ParseAddr(string(text))
	return err == nil
}

// CheckSamples runs the samples of a spec and returns what each failing one says.
func CheckSamples(spec Spec, t Time) (failures []SampleFailure, err error) {
	p, err := Compile(spec, t)
	if err != nil {
		return nil, err
	}
	for _, s := range spec.Samples {
		if why := p.checkSample(s); why != "" {
			failures = append(failures, SampleFailure{s, why})
		}
	}
	return failures, nil
}

// SampleFailure is a sample that does not give what it says.
type SampleFailure struct {
	Sample Sample
	Why    string
}

func (p *Parser) checkSample(s Sample) string {
	b := &record.Batch{Schema: p.schema}
	line := s.Text
	if !utf8.ValidString(line) {
		line = strings.ToValidUTF8(line, "\uFFFD")
	}
	r := record.Record{Body: b.Put([]byte(line))}
	ok := p.Read(b, &r)
	if s.None {
		if ok {
			return "the format reads this line, though the sample says it gives none"
		}
		return ""
	}
	if !ok {
		return "the format does not read this line"
	}
	for name, want := range s.Gives {
		v, ok := b.Field(&r, name)
		if !ok {
			return fmt.Sprintf("field %s is missing", name)
		}
		if got := Show(b, v); !same(v, want, got) {
			return fmt.Sprintf("field %s is %s (%s), expected %s (%s)", name, got, kindName(v.Kind), want.Text, kindName(want.Kind))
		}
	}
	if s.Exactly && len(s.Gives) != int(r.N) {
		for _, v := range b.Fields(&r) {
			if _, ok := s.Gives[p.schema.Name(v.Slot)]; !ok {
				return fmt.Sprintf("field %s is not in gives-exactly", p.schema.Name(v.Slot))
			}
		}
	}
	if s.Level != "" && record.ParseLevel(s.Level) != r.Level {
		got := record.LevelName(r.Level)
		if got == "" {
			got = "not set"
		}
		return fmt.Sprintf("level is %s, expected %s", got, s.Level)
	}
	return ""
}

func same(v record.Value, want Want, got string) bool {
	if v.Kind == record.Float && want.Kind == record.Int || v.Kind == record.Float && want.Kind == record.Float {
		w, err := strconv.ParseFloat(want.Text, 64)
		return err == nil && w == math.Float64frombits(v.Num)
	}
	return v.Kind == want.Kind && got == want.Text
}

func kindName(k record.Kind) string {
	return [...]string{"text", "int", "float", "bool", "json"}[k]
}

// Show writes a value as text.
func Show(b *record.Batch, v record.Value) string {
	switch v.Kind {
	case record.Int:
		return strconv.FormatInt(int64(v.Num), 10)
	case record.Float:
		return strconv.FormatFloat(math.Float64frombits(v.Num), 'g', -1, 64)
	case record.Bool:
		return strconv.FormatBool(v.Num != 0)
	}
	return string(b.Bytes(v.Span))
}
