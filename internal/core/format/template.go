package format

import (
	"bytes"
	"fmt"
	"math/bits"
	"slices"
	"strings"

	"synaxis/internal/core/record"
)

// templatePart is a literal, or a field with its type.
type templatePart struct {
	literal   string
	name, typ string // name "-" skips
}

var templateTypes = []string{"text", "token", "quoted", "int", "float", "ip", "time", "remainder"}

// parseTemplate reads the template language: literals with {name:type}, {-} to skip, {{ and }} for braces.
func parseTemplate(text string) ([]templatePart, error) {
	var parts []templatePart
	lit := ""
	for i := 0; i < len(text); i++ {
		switch {
		case strings.HasPrefix(text[i:], "{{"), strings.HasPrefix(text[i:], "}}"):
			lit += text[i : i+1]
			i++
		case text[i] == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				return nil, fmt.Errorf("template: the { at position %d is not closed (write {{ for a brace)", i+1)
			}
			name, typ, _ := strings.Cut(text[i+1:i+end], ":")
			if typ == "" {
				typ = "text"
			}
			if err := checkField(name, typ); err != nil {
				return nil, err
			}
			if lit != "" {
				parts = append(parts, templatePart{literal: lit})
				lit = ""
			} else if n := len(parts); n > 0 && parts[n-1].typ == "text" {
				return nil, fmt.Errorf("template: {%s} follows {%s} with nothing between them; give the first a "+
					"type such as token or int", name, parts[n-1].name)
			}
			if n := len(parts); n > 0 &&
				slices.ContainsFunc(parts, func(p templatePart) bool { return p.typ == "remainder" }) {
				return nil, fmt.Errorf("template: {%s} stands after a remainder, which takes all", name)
			}
			if name != "-" && slices.ContainsFunc(parts, func(p templatePart) bool { return p.name == name }) {
				return nil, fmt.Errorf("template: {%s} is here twice", name)
			}
			parts = append(parts, templatePart{name: name, typ: typ})
			i += end
		case text[i] == '}':
			return nil, fmt.Errorf("template: the } at position %d closes nothing (write }} for a brace)", i+1)
		default:
			lit += text[i : i+1]
		}
	}
	if lit != "" {
		if n := len(parts); n > 0 && parts[n-1].typ == "remainder" {
			return nil, fmt.Errorf("template: %q stands after a remainder, which takes all", lit)
		}
		parts = append(parts, templatePart{literal: lit})
	}
	if !slices.ContainsFunc(parts, func(p templatePart) bool { return p.name != "" }) {
		return nil, fmt.Errorf("template: it has no field; write one as {name} or {name:int}")
	}
	return parts, nil
}

func checkField(name, typ string) error {
	if name == "" {
		return fmt.Errorf("template: a field has no name; {-} skips")
	}
	for _, c := range name {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '.' ||
			c == '-') {
			return fmt.Errorf("template: field name %q may hold letters, digits, _ . and - only", name)
		}
	}
	if !slices.Contains(templateTypes, typ) {
		fix := "known are " + strings.Join(templateTypes, ", ")
		return fmt.Errorf("template: field %s has type %q; %s", name, typ, fix)
	}
	return nil
}

// templateOp is a part of a template, ready to be read.
type templateOp struct {
	literal []byte
	typ     string
	slot    uint16
	skip    bool
	spaced  bool   // the literal has a space
	inner   bool   // and one that is not at its ends
	pivot   int    // where the literal has its rarest byte
	mask    uint64 // of the bytes that the literal has, the first lowest, when it has at most eight
	word    uint64
	own     bool // the field ends by itself: its type says where
	isTime  bool
	clock   *clock // of type time
}

// Short ways to read a field.
const (
	readPlain  uint8 = iota // none: as readField says
	readDigits              // an int that ends where its digits do
	readToken               // a token that ends at a space
	readText                // up to the literal behind it, which is taken too
	readTime                // the time of the record
	readRest                // a remainder
)

// templateField is a field with the literal behind it.
type templateField struct {
	code    uint8
	quick   bool   // the literal has at most eight bytes: mask and word tell whether it stands somewhere
	spaces  bool   // the literal ends with a space, and takes all that stand there
	front   bool   // and it begins with one, and has more
	pivot   int    // where it has its rarest byte
	rarest  uint64 // that byte, eight times
	slot    uint16
	place   int // among the fields of a record; behind them for one that is skipped
	literal int // its length
	mask    uint64
	word    uint64
	at      int         // of the field in ops
	clock   *clock      // of the time of the record
	behind  *templateOp // the literal; nil for none
	next    *templateField
}

// templateKind reads lines of one shape.
type templateKind struct {
	ops   []templateOp
	lead  *templateOp     // the literal that it begins with
	parts []templateField // its fields
	width int             // how many of them are kept
}

func newTemplate(p *reading, parts []templatePart, spec Spec) (*templateKind, error) {
	t := &templateKind{}
	names := []string{}
	for _, part := range parts {
		op := templateOp{
			literal: []byte(part.literal),
			typ:     part.typ,
			skip:    part.name == "-",
			spaced:  strings.Contains(part.literal, " "),
			pivot:   pivotOf(part.literal),
		}
		if part.name != "" && !op.skip {
			names = append(names, part.name)
			op.slot, _ = p.schema.Slot([]byte(part.name))
		}
		if part.typ == "time" {
			t := Time{}
			if part.name == spec.Time.Field {
				t.Layout, op.isTime = spec.Time.Layout, true
			}
			c, err := newClock(t)
			if err != nil {
				return nil, err
			}
			op.clock = c
		}
		if n := len(op.literal); n > 0 && n <= 8 {
			op.mask = ^uint64(0) >> (64 - 8*n)
			op.word = eight(append(bytes.Clone(op.literal), make([]byte, 8)...), 0)
		}
		if text := strings.Trim(part.literal, " "); op.spaced {
			op.inner = strings.Contains(text, " ") || text == "" && len(part.literal) > 1
		}
		t.ops = append(t.ops, op)
	}
	for i := range t.ops { // a number ends where its digits do, and a token at a space
		if i+1 == len(t.ops) || t.ops[i+1].typ != "" {
			continue
		}
		op, next := &t.ops[i], t.ops[i+1].literal[0]
		switch op.typ {
		case "int":
			op.own = next < '0' || next > '9'
		case "float":
			op.own = (next < '0' || next > '9') && strings.IndexByte("+-.eE", next) < 0
		case "token", "ip":
			op.own = next == ' '
		}
	}
	place := 0
	for i := range t.ops {
		op := &t.ops[i]
		if op.typ == "" {
			if i == 0 {
				t.lead = op
			}
			continue
		}
		f := templateField{slot: op.slot, place: len(names), at: i}
		if !op.skip {
			f.place = place
			place++
		}
		if i+1 < len(t.ops) && t.ops[i+1].typ == "" {
			next := &t.ops[i+1]
			f.behind, f.literal, f.mask, f.word = next, len(next.literal), next.mask, next.word
			f.quick = !next.inner && next.mask != 0
			f.spaces = next.literal[len(next.literal)-1] == ' '
			f.front = next.literal[0] == ' ' && len(next.literal) > 1
			f.pivot, f.rarest = next.pivot, ones*uint64(next.literal[next.pivot])
		}
		switch {
		case op.isTime:
			f.code, f.clock = readTime, op.clock
		case op.typ == "remainder":
			f.code = readRest
		case op.own && op.typ == "int":
			f.code = readDigits
		case op.own && op.typ == "token":
			f.code = readToken
		case op.typ == "text" && i+2 < len(t.ops):
			f.code = readText
		}
		t.parts = append(t.parts, f)
	}
	for i := range t.parts[:len(t.parts)-1] {
		t.parts[i].next = &t.parts[i+1]
	}
	t.width = len(names)
	for u, f := range map[*usual]string{&p.times: spec.Time.Field, &p.levels: spec.Level.Field, &p.bodies: spec.Body} {
		u.place = slices.Index(names, f)
	}
	for what, f := range map[string]string{"time.field": spec.Time.Field, "level.field": spec.Level.Field,
		"body": spec.Body} {
		if f != "" && !slices.Contains(names, f) {
			return nil, fmt.Errorf("%s: the template has no field %q; it has %s", what, f, strings.Join(names, ", "))
		}
	}
	return t, nil
}

func (t *templateKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	line := b.Bytes(span)
	have := len(b.Values)
	// who answers false leaves them, and Read takes them away
	b.Values = slices.Grow(b.Values, t.width+1)[:have+t.width+1]
	values := b.Values[have:]
	pos := 0
	if t.lead != nil {
		if pos = t.lead.match(line); pos < 0 {
			return false
		}
	}
	for f := &t.parts[0]; f != nil; f = f.next {
		// written field by field: what is put together elsewhere and copied waits for its own stores
		v := &values[f.place]
		v.Num, v.Kind, v.Slot = 0, record.Text, f.slot
		v.Span.Off = span.Off + uint32(pos)
		from := pos
		switch f.code {
		case readText:
			end, next := -1, 0
			if f.quick { // by the rarest byte of the literal, eight at a time: texts before a literal are short
				for i := pos + f.pivot; i+8 <= len(line); i += 8 {
					x := eight(line, i) ^ f.rarest
					if m := (x - ones) &^ x & tops; m != 0 { // the lowest bit is that of the first
						if at := i - f.pivot + bits.TrailingZeros64(m)/8; at+8 < len(line) &&
							eight(line, at)&f.mask == f.word {
							end, next = at, at+f.literal
						}
						break
					}
				}
			}
			if end < 0 || f.spaces && line[next] == ' ' || f.front && end > pos && line[end-1] == ' ' { // seldom
				if end = f.behind.index(line[pos:]); end < 0 {
					return false
				}
				end += pos
				next = end + f.behind.match(line[end:])
			}
			v.Span.Len = uint32(end - from)
			pos = next
			continue
		case readRest:
			v.Span.Len = uint32(len(line) - pos)
			pos = len(line)
			continue
		case readToken:
			pos = wordEnd(line, pos)
			if pos < len(line) && line[pos] != ' ' { // another control character may belong to it
				pos += tokenLen(line[pos:])
			}
			if pos == from {
				return false
			}
			v.Span.Len = uint32(pos - from)
		case readTime:
			took, ok := p.stampOf(f.clock, line[pos:])
			if !ok {
				return false
			}
			v.Span.Len = uint32(took)
			pos += took
		default:
			if digits, end, ok := digitsAt(line, pos); ok &&
				f.code == readDigits { // no sign, and no more than fits easily
				v.Num, v.Kind = digits, record.Int
				v.Span.Len = uint32(end - from)
				pos = end
				break
			}
			took, ok := t.readSlow(p, b, span, f, v, pos)
			if !ok {
				return false
			}
			line = b.Bytes(span)
			pos += took
		}
		switch {
		case f.behind == nil:
		case f.quick && pos+8 <= len(line) && eight(line, pos)&f.mask == f.word:
			if pos += f.literal; f.spaces {
				pos = spacesEnd(line, pos)
			}
		default:
			took := f.behind.match(line[pos:])
			if took < 0 {
				return false
			}
			pos += took
		}
	}
	b.Values = b.Values[:have+t.width]
	return pos == len(line)
}

// readSlow is readField into a value.
func (t *templateKind) readSlow(
	p *reading,
	b *record.Batch,
	span record.Span,
	f *templateField,
	v *record.Value,
	pos int,
) (n int, ok bool) {
	*v, n, ok = t.readField(p, b, span, f.at, pos)
	v.Slot = f.slot
	return n, ok
}

// readField reads the field that is part i of the template, at a place of a line, in the plain way.
func (t *templateKind) readField(p *reading, b *record.Batch, span record.Span, i, pos int) (v record.Value, n int,
	ok bool) {
	op, line := &t.ops[i], b.Bytes(span)
	end, limited := len(line), false
	if op.own { // nothing to look for
	} else if i+1 < len(t.ops) && t.ops[i+1].typ == "" && op.typ != "quoted" && op.typ != "time" &&
		op.typ != "remainder" {
		var k int
		if i+2 == len(t.ops) && op.typ == "text" { // anchored: a literal at the end is the end of the line
			k = len(line) - pos - len(t.ops[i+1].literal)
			if k < 0 || !bytes.HasSuffix(line[pos:], t.ops[i+1].literal) {
				return v, 0, false
			}
		} else if k = t.ops[i+1].index(line[pos:]); k < 0 {
			return v, 0, false
		}
		end, limited = pos+k, true
	}
	return op.read(p, b, span, pos, end, limited)
}

// walk takes the parts of a template through a line one by one, in the plain way, and tells visit where each stands.
// It answers false when the template does not read the line.
func (t *templateKind) walk(p *reading, b *record.Batch, span record.Span, visit func(i, from, to int,
	v record.Value)) bool {
	pos := 0
	for i := range t.ops {
		op := &t.ops[i]
		var v record.Value
		n, ok := 0, true
		if op.typ == "" {
			n = op.match(b.Bytes(span)[pos:])
			ok = n >= 0
		} else {
			v, n, ok = t.readField(p, b, span, i, pos)
			v.Slot = op.slot
		}
		if !ok {
			return false
		}
		visit(i, pos, pos+n, v)
		pos += n
	}
	return pos == int(span.Len)
}

// match tells how much of p's front a literal takes, or -1. A space takes all spaces that stand there, since programs
// line their columns up with them.
func (op *templateOp) match(p []byte) int {
	if !op.spaced {
		if n := len(op.literal); n <= 8 && op.at(p, 0) || n > 8 && bytes.HasPrefix(p, op.literal) {
			return n
		}
		return -1
	}
	n := len(op.literal)
	if len(p) > n && !op.inner &&
		(n <= 8 && op.at(p, 0) || n > 8 && string(p[:n]) == string(op.literal)) { // as it is, by far the most
		if op.literal[n-1] == ' ' {
			for n < len(p) && p[n] == ' ' {
				n++
			}
			return n
		}
		if op.literal[0] != ' ' || p[1] != ' ' {
			return n
		}
	}
	n = 0
	for i, c := range op.literal {
		if n == len(p) || p[n] != c {
			return -1
		}
		n++
		if c == ' ' && (i+1 == len(op.literal) || op.literal[i+1] != ' ') {
			for n < len(p) && p[n] == ' ' {
				n++
			}
		}
	}
	return n
}

// index finds the first place in p at which a literal stands, or -1.
func (op *templateOp) index(p []byte) int {
	if op.inner {
		for from := 0; ; from++ {
			at := bytes.IndexByte(p[from:], op.literal[0])
			if at < 0 {
				return -1
			}
			if from += at; op.match(p[from:]) >= 0 {
				return from
			}
		}
	}
	k := bytes.Index(p, op.literal)
	if k > 0 && op.literal[0] == ' ' && len(op.literal) > 1 { // the field before does not take spaces along
		for k > 0 && p[k-1] == ' ' {
			k--
		}
	}
	return k
}

// at tells whether a literal of at most eight bytes stands at a place of p.
func (op *templateOp) at(p []byte, k int) bool {
	if k+8 <= len(p) {
		return eight(p, k)&op.mask == op.word
	}
	return bytes.HasPrefix(p[k:], op.literal)
}

// pivotOf is where a literal has the byte that texts hold least: rather a sign than a digit, a letter or a space.
func pivotOf(literal string) int {
	best, at := -1, 0
	for i := range len(literal) {
		c, grade := literal[i], 3
		switch {
		case c == ' ', c == 'e', c == 'a', c == 'o', c == 'i', c == 't', c == 'n':
			grade = 0
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9':
			grade = 1
		case c == '.', c == '-', c == ':', c == '/', c == '_', c >= 'A' && c <= 'Z':
			grade = 2
		}
		if grade > best {
			best, at = grade, i
		}
	}
	return at
}

func tokenLen(p []byte) int {
	for i, c := range p {
		if c == ' ' || c == '\t' || c == '\n' || c == '\r' {
			return i
		}
	}
	return len(p)
}

func numberLen(p []byte, float bool) int {
	for i, c := range p {
		digit := c >= '0' && c <= '9' || (i == 0 && (c == '-' || c == '+'))
		if !digit &&
			!(float && (c == '.' || c == 'e' || c == 'E' || (i > 0 && (c == '-' || c == '+') && p[i-1]|0x20 == 'e'))) {
			return i
		}
	}
	return len(p)
}

// read reads one field at pos. limited says that end is where the next literal stands.
func (op *templateOp) read(
	p *reading,
	b *record.Batch,
	span record.Span,
	pos, end int,
	limited bool,
) (v record.Value, n int, ok bool) {
	line := b.Bytes(span)
	part := line[pos:end]
	v.Span = sub(span, pos, end)
	switch op.typ {
	case "text", "remainder":
		return v, len(part), true
	case "token":
		n = tokenLen(part)
		v.Span = sub(span, pos, pos+n)
		return v, n, n > 0 && (!limited || n == len(part))
	case "int", "float":
		n = numberLen(part, op.typ == "float")
		if limited && n != len(part) {
			return v, 0, false
		}
		if op.typ == "int" {
			v, ok = intValue(part[:n])
			v.Span = sub(span, pos, pos+n)
		} else {
			v, ok = floatValue(part[:n])
		}
		return v, n, ok
	case "ip":
		if !limited {
			n = tokenLen(part)
		} else {
			n = len(part)
		}
		v.Span = sub(span, pos, pos+n)
		return v, n, checkIP(part[:n])
	case "quoted":
		if len(part) < 2 || part[0] != '"' {
			return v, 0, false
		}
		k, escaped := closing(part[1:])
		if k < 0 {
			return v, 0, false
		}
		v.Span = sub(span, pos+1, pos+1+k)
		if escaped {
			v = escapedText(b, span, pos+1, pos+1+k)
		}
		return v, k + 2, true
	case "time":
		c, n, ok := op.clock.read(part)
		if !ok {
			return v, 0, false
		}
		if op.isTime {
			p.timeValue, p.timeParsed = c, true
		}
		v.Span = sub(span, pos, pos+n)
		return v, n, true
	}
	return v, 0, false
}
