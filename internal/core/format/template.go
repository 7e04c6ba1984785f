package format

import (
	"bytes"
	"encoding/binary"
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
				return nil, fmt.Errorf("template: {%s} follows {%s} with nothing between them; give the first a type such as token or int", name, parts[n-1].name)
			}
			if n := len(parts); n > 0 && slices.ContainsFunc(parts, func(p templatePart) bool { return p.typ == "remainder" }) {
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
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '.' || c == '-') {
			return fmt.Errorf("template: field name %q may hold letters, digits, _ . and - only", name)
		}
	}
	if !slices.Contains(templateTypes, typ) {
		fix := "known are " + strings.Join(templateTypes, ", ")
		return fmt.Errorf("template: field %s has type %q; %s", name, typ, fix)
	}
	return nil
}

// What a templateOp does, where there is a short way to do it.
const (
	opAny     uint8 = iota
	opByte          // a literal of one byte
	opLiteral       // a longer one
	opDigits        // an int that ends where its digits do
	opToken         // a token that ends at a space
	opText          // up to the next literal
	opTime
	opRest // a remainder
)

type templateOp struct {
	code    uint8
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

func (p *Parser) compileTemplate(parts []templatePart, spec Spec) error {
	names := []string{}
	for _, part := range parts {
		op := templateOp{literal: []byte(part.literal), typ: part.typ, skip: part.name == "-", spaced: strings.Contains(part.literal, " "), pivot: pivotOf(part.literal)}
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
				return err
			}
			op.clock = c
		}
		if n := len(op.literal); n > 0 && n <= 8 {
			op.mask = ^uint64(0) >> (64 - 8*n)
			var eight [8]byte
			copy(eight[:], op.literal)
			op.word = binary.LittleEndian.Uint64(eight[:])
		}
		if text := strings.Trim(part.literal, " "); op.spaced {
			op.inner = strings.Contains(text, " ") || text == "" && len(part.literal) > 1
		}
		p.ops = append(p.ops, op)
	}
	for i := range p.ops { // a number ends where its digits do, and a token at a space
		op := &p.ops[i]
		switch {
		case op.typ == "" && len(op.literal) == 1:
			op.code = opByte
		case op.typ == "":
			op.code = opLiteral
		case op.typ == "time":
			op.code = opTime
		case op.typ == "remainder":
			op.code = opRest
		}
		if i+1 == len(p.ops) || p.ops[i+1].typ != "" {
			continue
		}
		next := p.ops[i+1].literal[0]
		switch op.typ {
		case "int":
			op.own = next < '0' || next > '9'
		case "float":
			op.own = (next < '0' || next > '9') && strings.IndexByte("+-.eE", next) < 0
		case "token", "ip":
			op.own = next == ' '
		}
		switch {
		case op.own && op.typ == "int":
			op.code = opDigits
		case op.own && op.typ == "token":
			op.code = opToken
		case op.typ == "text" && i+2 < len(p.ops):
			op.code = opText
		}
	}
	for u, f := range map[*usual]string{&p.times: spec.Time.Field, &p.levels: spec.Level.Field, &p.bodies: spec.Body} {
		u.place = slices.Index(names, f)
	}
	for what, f := range map[string]string{"time.field": spec.Time.Field, "level.field": spec.Level.Field, "body": spec.Body} {
		if f != "" && !slices.Contains(names, f) {
			return fmt.Errorf("%s: the template has no field %q; it has %s", what, f, strings.Join(names, ", "))
		}
	}
	return nil
}

func (p *Parser) parseTemplate(b *record.Batch, span record.Span) bool {
	line := b.Arena[span.Off : span.Off+span.Len : span.Off+span.Len]
	values, off := b.Values, span.Off
	pos := 0
	for i := 0; i < len(p.ops); i++ {
		op := &p.ops[i]
		switch op.code {
		case opByte:
			if pos == len(line) || line[pos] != op.literal[0] {
				return false
			}
			if pos++; op.spaced {
				for pos < len(line) && line[pos] == ' ' {
					pos++
				}
			}
			continue
		case opLiteral:
			n := op.match(line[pos:])
			if n < 0 {
				return false
			}
			pos += n
			continue
		case opDigits:
			v, from := int64(0), pos
			for pos < len(line) && line[pos]-'0' <= 9 && pos < from+18 {
				v = v*10 + int64(line[pos]-'0')
				pos++
			}
			if pos == from || pos == from+18 { // a sign, or more than fits easily
				pos = from
				break
			}
			if !op.skip {
				values = append(values, record.Value{Kind: record.Int, Num: uint64(v), Span: record.Span{Off: off + uint32(from), Len: uint32(pos - from)}, Slot: op.slot})
			}
			continue
		case opToken:
			from := pos
			for pos < len(line) && line[pos] > ' ' {
				pos++
			}
			if pos < len(line) && line[pos] != ' ' { // another control character may belong to it
				pos = from
				break
			}
			if pos == from {
				return false
			}
			if !op.skip {
				values = append(values, record.Value{Span: record.Span{Off: off + uint32(from), Len: uint32(pos - from)}, Slot: op.slot})
			}
			continue
		case opText: // and the literal behind it, where it was found
			i++
			next := &p.ops[i]
			k, n := next.find(line[pos:])
			if k < 0 {
				return false
			}
			if !op.skip {
				values = append(values, record.Value{Span: record.Span{Off: off + uint32(pos), Len: uint32(k)}, Slot: op.slot})
			}
			pos += k + n
			continue
		case opRest:
			if !op.skip {
				values = append(values, record.Value{Span: record.Span{Off: off + uint32(pos), Len: uint32(len(line) - pos)}, Slot: op.slot})
			}
			pos = len(line)
			continue
		case opTime:
			n, ok := 0, false
			if op.isTime {
				n, ok = p.stampOf(op.clock, line[pos:])
			} else {
				_, n, ok = op.clock.read(line[pos:])
			}
			if !ok {
				return false
			}
			if !op.skip {
				values = append(values, record.Value{Span: record.Span{Off: off + uint32(pos), Len: uint32(n)}, Slot: op.slot})
			}
			pos += n
			continue
		}
		end, limited := len(line), false
		if op.own { // nothing to look for
		} else if i+1 < len(p.ops) && p.ops[i+1].typ == "" && op.typ != "quoted" && op.typ != "time" && op.typ != "remainder" {
			last := i+2 == len(p.ops)
			var k int
			if last && op.typ == "text" { // anchored: a literal at the end is the end of the line
				k = len(line) - pos - len(p.ops[i+1].literal)
				if k < 0 || !bytes.HasSuffix(line[pos:], p.ops[i+1].literal) {
					return false
				}
			} else if k = p.ops[i+1].index(line[pos:]); k < 0 {
				return false
			}
			end, limited = pos+k, true
		}
		v, n, ok := op.read(p, b, span, pos, end, limited)
		if !ok {
			return false
		}
		line = b.Bytes(span)
		pos += n
		if !op.skip {
			v.Slot = op.slot
			values = append(values, v)
		}
	}
	b.Values = values
	return pos == len(line)
}

// find finds the first place in p at which a literal stands, or -1, and how much of it the literal takes.
func (op *templateOp) find(p []byte) (k, n int) {
	if op.code == opByte {
		if k = bytes.IndexByte(p, op.literal[0]); k < 0 {
			return -1, 0
		}
		n = 1
		if op.spaced {
			for k+n < len(p) && p[k+n] == ' ' {
				n++
			}
		}
		return k, n
	}
	if k = op.index(p); k < 0 {
		return -1, 0
	}
	n = len(op.literal)
	switch {
	case !op.spaced:
	case op.inner, op.literal[0] == ' ' && p[k+1] == ' ' && n > 1: // spaces within it may be more than it has
		n = op.match(p[k:])
	case op.literal[n-1] == ' ':
		for k+n < len(p) && p[k+n] == ' ' {
			n++
		}
	}
	return k, n
}

// match tells how much of p's front a literal takes, or -1. A space takes all spaces that stand there, since programs line
// their columns up with them.
func (op *templateOp) match(p []byte) int {
	if !op.spaced {
		if n := len(op.literal); n <= 8 && op.at(p, 0) || n > 8 && bytes.HasPrefix(p, op.literal) {
			return n
		}
		return -1
	}
	n := len(op.literal)
	if len(p) > n && !op.inner && (n <= 8 && op.at(p, 0) || n > 8 && string(p[:n]) == string(op.literal)) { // as it is, by far the most
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
	k := op.indexPlain(p)
	if k > 0 && op.literal[0] == ' ' && len(op.literal) > 1 { // the field before does not take spaces along
		for k > 0 && p[k-1] == ' ' {
			k--
		}
	}
	return k
}

// indexPlain is bytes.Index of the literal, eight bytes at a time by its rarest one: texts before a literal are short.
func (op *templateOp) indexPlain(p []byte) int {
	if len(op.literal) > 8 {
		return bytes.Index(p, op.literal)
	}
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	all := ones * uint64(op.literal[op.pivot])
	i := op.pivot
	for ; i+8 <= len(p); i += 8 {
		x := binary.LittleEndian.Uint64(p[i:]) ^ all
		for m := (x - ones) &^ x & tops; m != 0; m &= m - 1 { // a top bit for each byte that is the rarest, and now and then for another
			if k := i - op.pivot + bits.TrailingZeros64(m)/8; op.at(p, k) {
				return k
			}
		}
	}
	for k := i - op.pivot; k+len(op.literal) <= len(p); k++ {
		if op.at(p, k) {
			return k
		}
	}
	return -1
}

// at tells whether a literal of at most eight bytes stands at a place of p.
func (op *templateOp) at(p []byte, k int) bool {
	if k+8 <= len(p) {
		return binary.LittleEndian.Uint64(p[k:])&op.mask == op.word
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
		if !digit && !(float && (c == '.' || c == 'e' || c == 'E' || (i > 0 && (c == '-' || c == '+') && p[i-1]|0x20 == 'e'))) {
			return i
		}
	}
	return len(p)
}

// read reads one field at pos. limited says that end is where the next literal stands.
func (op *templateOp) read(p *Parser, b *record.Batch, span record.Span, pos, end int, limited bool) (v record.Value, n int, ok bool) {
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
