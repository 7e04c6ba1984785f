package format

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"synaxis/internal/core/record"
)

// Carve makes a part of a line, from start to end in bytes, a field of a template that reads the line; the template
// may be empty. What stands around the part and tells where it is becomes literal. typ may be "", for what the part
// looks like. The new template reads the line too, and gives the field that part.
func Carve(template, line string, start, end int, name, typ string) (carved, as string, err error) {
	if start < 0 || end > len(line) || start >= end {
		return "", "", errors.New("nothing is selected")
	}
	if strings.TrimSpace(template) == "" {
		template = "{message:remainder}"
	}
	parts, err := parseTemplate(template)
	if err != nil {
		return "", "", err
	}
	if typ == "" {
		typ = looksLike(line[start:end])
	}
	if err := checkField(name, typ); err != nil {
		return "", "", err
	}
	spans, err := places(template, parts, line)
	if err != nil {
		return "", "", err
	}
	taken := func(n string) bool {
		return slices.ContainsFunc(parts, func(p templatePart) bool { return p.name == n })
	}
	var out []templatePart
	put := false
	for i, p := range parts {
		from, to := spans[i][0], spans[i][1]
		if to <= start || from >= end {
			if from >= end && !put {
				out, put = append(out, templatePart{name: name, typ: typ}), true
			}
			out = append(out, p)
			continue
		}
		if from < start {
			out = append(out, head(p, line[from:start])...)
		}
		if !put {
			out, put = append(out, templatePart{name: name, typ: typ}), true
		}
		if to > end {
			rest := p.name
			if from < start || rest == "" {
				for k := 2; taken(rest) || rest == name; k++ {
					rest = fmt.Sprintf("%s-%d", p.name, k)
				}
			}
			out = append(out, tail(p, rest, line[end:to], i == len(parts)-1)...)
		}
	}
	carved = write(out)
	if err := gives(carved, line, name, line[start:end], typ); err != nil {
		return "", "", fmt.Errorf("this part cannot be told by what stands around it: %w", err)
	}
	return carved, typ, nil
}

// places are where the parts of a template stand in a line that it reads.
func places(template string, parts []templatePart, line string) ([][2]int, error) {
	spec := Spec{Name: "carved", Kind: "template", Template: template}
	p, err := Compile(spec, Time{}, nil)
	if err != nil {
		return nil, err
	}
	out := make([][2]int, 0, len(parts))
	b := &record.Batch{Arena: []byte(line), Schema: p.Schema()}
	if !p.kind.(*templateKind).walk(
		&p.reading,
		b,
		record.Span{Len: uint32(len(line))},
		func(_, from, to int, _ record.Value) { out = append(out, [2]int{from, to}) },
	) {
		return nil, errors.New("the template does not read this line")
	}
	return out, nil
}

var (
	anchor = regexp.MustCompile(`[\pL\pN_.-]*[^\pL\pN]*$`) // the last word, and what stands behind it
	steady = regexp.MustCompile(
		`[^\s\pN]{1,24}\s*$`,
	) // the same with all that belongs to it, where no number is in it
	delimiter = regexp.MustCompile(`^[^\pL\pN]+`)
)

// head is what stays of a part before the one that is carved out: the field, and the last word as a literal.
func head(p templatePart, text string) []templatePart {
	if p.typ == "" {
		return []templatePart{{literal: text}}
	}
	literal := anchor.FindString(text)
	if s := steady.FindStringIndex(text); s != nil && (s[0] == 0 || text[s[0]-1] == ' ') {
		literal = text[s[0]:]
	}
	if literal == text {
		return []templatePart{{literal: text}}
	}
	typ := p.typ
	if typ != "text" && typ != "token" {
		typ = "text"
	}
	return []templatePart{{name: p.name, typ: typ}, {literal: literal}}
}

// tail is what stays of a part behind it: what separates them, and the rest as a field.
func tail(p templatePart, name, text string, last bool) []templatePart {
	if p.typ == "" {
		return []templatePart{{literal: text}}
	}
	var out []templatePart
	if d := delimiter.FindString(text); d != "" {
		out = append(out, templatePart{literal: d})
		text = text[len(d):]
	}
	if text == "" {
		return out
	}
	typ := "text"
	if last {
		typ = "remainder"
	}
	return append(out, templatePart{name: name, typ: typ})
}

// write writes parts as a template.
func write(parts []templatePart) string {
	var b strings.Builder
	brace := strings.NewReplacer("{", "{{", "}", "}}")
	for _, p := range parts {
		switch {
		case p.typ == "":
			b.WriteString(brace.Replace(p.literal))
		case p.typ == "text":
			b.WriteString("{" + p.name + "}")
		default:
			b.WriteString("{" + p.name + ":" + p.typ + "}")
		}
	}
	return b.String()
}

// gives tells why a template does not give a field a value; nil when it does.
func gives(template, line, name, want, typ string) error {
	p, err := Compile(Spec{Name: "carved", Kind: "template", Template: template}, Time{}, nil)
	if err != nil {
		return err
	}
	b := &record.Batch{Arena: []byte(line)}
	b.Schema = p.Schema()
	r := record.Record{Body: record.Span{Len: uint32(len(line))}}
	if !p.Read(b, &r) {
		return fmt.Errorf("%s does not read the line", template)
	}
	v, ok := b.Field(&r, name)
	if name == "-" {
		return nil
	}
	if typ == "quoted" {
		want = strings.Trim(want, `"`)
	}
	if !ok || v.Kind != record.Float && string(b.Bytes(v.Span)) != want {
		return fmt.Errorf("%s finds another part there", template)
	}
	return nil
}

// looksLike is the type of a part of a line.
func looksLike(text string) string {
	if _, ok := intValue([]byte(text)); ok && (text[0] != '0' || len(text) == 1) {
		return "int"
	}
	if n, ok := Recognise([]byte(text)); ok && n == len(text) {
		return "time"
	}
	if _, ok := floatValue([]byte(text)); ok && strings.Contains(text, ".") {
		return "float"
	}
	switch {
	case checkIP([]byte(text)):
		return "ip"
	case len(text) > 1 && text[0] == '"' && text[len(text)-1] == '"':
		return "quoted"
	case !strings.ContainsAny(text, " \t"):
		return "token"
	}
	return "text"
}
