package format

import (
	"fmt"
	"regexp"

	"synaxis/internal/core/record"
)

// regexKind reads lines by an expression.
type regexKind struct {
	expression *regexp.Regexp
	groups     []int // slot of each, -1 for one without a name
}

func newRegex(p *reading, spec Spec) (*regexKind, error) {
	re, err := regexp.Compile(spec.Regex)
	if err != nil {
		return nil, fmt.Errorf("format %s: %w", spec.Name, err)
	}
	k := &regexKind{expression: re}
	for _, name := range re.SubexpNames() {
		slot := -1
		if name != "" {
			s, _ := p.schema.Slot([]byte(name))
			slot = int(s)
		}
		k.groups = append(k.groups, slot)
	}
	for what, f := range map[string]string{"time.field": spec.Time.Field, "level.field": spec.Level.Field,
		"body": spec.Body} {
		if f != "" && re.SubexpIndex(f) < 0 {
			return nil, fmt.Errorf("%s: the expression has no group %q", what, f)
		}
	}
	return k, nil
}

// parse reads a line by an expression; groups that took no part give no field.
func (k *regexKind) parse(p *reading, b *record.Batch, span record.Span) bool {
	m := k.expression.FindSubmatchIndex(b.Bytes(span))
	if m == nil {
		return false
	}
	for i, slot := range k.groups {
		if slot >= 0 && m[2*i] >= 0 {
			p.append(b, uint16(slot), record.Value{Span: sub(span, m[2*i], m[2*i+1])})
		}
	}
	return true
}
