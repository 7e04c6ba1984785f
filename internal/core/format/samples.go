package format

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"synaxis/internal/core/record"
)

// CheckSamples runs the samples of a spec and returns what each failing one says.
func CheckSamples(spec Spec, t Time, other Other) (failures []SampleFailure, err error) {
	p, err := Compile(spec, t, other)
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
			return fmt.Sprintf(
				"field %s is %s (%s), expected %s (%s)",
				name,
				got,
				kindName(v.Kind),
				want.Text,
				kindName(want.Kind),
			)
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
