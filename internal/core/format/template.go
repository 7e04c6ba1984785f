package format

import (
	"bytes"
	"fmt"
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

type templateOp struct {
	literal []byte
	typ     string
	slot    uint16
	skip    bool
	spaced  bool // the literal has a space
	isTime  bool
	clock   *clock // of type time
}

func (p *Parser) compileTemplate(parts []templatePart, spec Spec) error {
	names := []string{}
	for _, part := range parts {
		op := templateOp{literal: []byte(part.literal), typ: part.typ, skip: part.name == "-", spaced: strings.Contains(part.literal, " ")}
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
		p.ops = append(p.ops, op)
	}
	for what, f := range map[string]string{"time.field": spec.Time.Field, "level.field": spec.Level.Field, "body": spec.Body} {
		if f != "" && !slices.Contains(names, f) {
			return fmt.Errorf("%s: the template has no field %q; it has %s", what, f, strings.Join(names, ", "))
		}
	}
	return nil
}

func (p *Parser) parseTemplate(b *record.Batch, span record.Span) bool {
	line := b.Bytes(span)
	pos := 0
	for i := range p.ops {
		op := &p.ops[i]
		if op.typ == "" {
			n := op.match(line[pos:])
			if n < 0 {
				return false
			}
			pos += n
			continue
		}
		end, limited := len(line), false
		if i+1 < len(p.ops) && p.ops[i+1].typ == "" && op.typ != "quoted" && op.typ != "time" && op.typ != "remainder" {
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
			p.addSlot(b, op.slot, v)
		}
	}
	return pos == len(line)
}

// match tells how much of p's front a literal takes, or -1. A space takes all spaces that stand there, since programs line
// their columns up with them.
func (op *templateOp) match(p []byte) int {
	if !op.spaced {
		if bytes.HasPrefix(p, op.literal) {
			return len(op.literal)
		}
		return -1
	}
	n := 0
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
	k := bytes.Index(p, op.literal)
	if !op.spaced || op.literal[0] != ' ' && k >= 0 && bytes.IndexByte(p[:k], op.literal[0]) < 0 {
		return k
	}
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
