// Package mask says what a mask is: what private data looks like, where it is looked for, and what takes its place.
package mask

import (
	"bytes"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strings"
	"time"
	"unicode/utf8"

	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

// Spec is what a mask definition says.
type Spec struct {
	Name         string
	Find         string // RE2, or
	Detector     string // one of Detectors
	Near         []string
	Only, Except []string
	Sensitivity  string
	Regulation   []string
	Fill         Fill
	Mark         bool
	Hits, Misses []string
}

// Fill is what takes the place of private data; one of its fields is set.
type Fill struct {
	Character string // repeated, a fixed number of times
	Text      string
	KeepLast  int
	Hash      string // the secret that keys the hash
}

// Detectors are the built-in masks, each also a mask of the same name.
var Detectors = []string{
	"payment-card",
	"iban",
	"email",
	"ipv4",
	"ipv6",
	"phone",
	"jwt",
	"private-key",
	"token",
	"password",
	"mac",
}

// Keys are what a mask definition and the mask of a host config share, beside the name.
var Keys = []schema.Key{
	{
		Name:    "find",
		Value:   schema.Checked("schema", checkFind),
		Doc:     "An expression (RE2) that finds the private data.",
		Example: `find: '\b[A-Z]{2}\d{7}\b'`,
	},
	{
		Name:  "detector",
		Value: schema.Words(Detectors...),
		Doc:   "A built-in detector with its checksum, in place of find.",
	},
	{
		Name:    "near",
		Value:   schema.Texts,
		Doc:     "Only where one of these stands within 40 characters in the record's text, or is the field's name.",
		Example: "near: [passport, doc]",
	},
	{
		Name:  "only",
		Value: schema.Texts,
		Doc: "Look only in these; default: body, original, every text and integer field. Through a guard it " +
			"does not apply.",
		Example: "only: [body, doc]",
	},
	{Name: "except", Value: schema.Texts, Doc: "Do not look in these. Through a guard it does not apply."},
	{
		Name:  "sensitivity",
		Desk:  true,
		Value: schema.Words("low", "medium", "high"),
		Doc:   "How sensitive the data is, for reports.",
	},
	{
		Name:    "regulation",
		Desk:    true,
		Value:   schema.Texts,
		Doc:     "The rules that ask for it, for reports.",
		Example: "regulation: [gdpr]",
	},
	{Name: "fill", Value: schema.Either(schema.Checked("schema", checkCharacter), schema.OneOf(
		"fill",
		schema.Key{Name: "text", Value: schema.Plain, Doc: "A text in its place.", Example: "text: '[passport]'"},
		schema.Key{
			Name:  "keep-last",
			Value: schema.Whole(1),
			Doc:   "Keep the last characters, so that people can tell two apart.",
		},
		schema.Key{
			Name:    "hash",
			Value:   &schema.Value{Type: schema.Text, Refs: true, Secrets: true},
			Doc:     "A keyed hash, always the same for the same value, so that records can still be joined.",
			Example: `hash: "${secret.mask_key}"`,
		},
	)), Default: "'*'", Doc: "What takes the place of the data: a character, repeated a fixed number of times, or " +
		"one of text, keep-last, hash."},
	{Name: "mark", Value: schema.Flag, Default: "false", Doc: "Note the mask's name on the record."},
	{Name: "samples", Desk: true, Value: schema.Obj("samples",
		schema.Key{Name: "hits", Value: schema.Texts, Doc: "Texts in which it must find something."},
		schema.Key{Name: "misses", Value: schema.Texts, Doc: "Texts in which it must find nothing."},
	), Doc: "Run at every check.", Example: "samples: {hits: ['doc=PA1234567'], misses: ['PA12']}"},
}

// Decode takes a mask out of a document that Keys found good.
func Decode(n *yamldoc.Node, name string) Spec {
	fill := n.Get("fill")
	s := Spec{
		Name:     name,
		Find:     n.Get("find").Text(),
		Detector: n.Get("detector").Text(),
		Near:     n.Get("near").Texts(),
		Only:     n.Get("only").Texts(),
		Except:   n.Get("except").Texts(),
		Sensitivity: n.Get("sensitivity").
			Text(),
		Regulation: n.Get("regulation").Texts(),
		Mark:       n.Get("mark").Bool(false),
		Fill: Fill{
			Character: fill.Text(),
			Text:      fill.Get("text").Text(),
			KeepLast:  int(fill.Get("keep-last").Int(0)),
			Hash:      fill.Get("hash").Text(),
		},
		Hits:   n.Get("samples").Get("hits").Texts(),
		Misses: n.Get("samples").Get("misses").Texts(),
	}
	if fill == nil {
		s.Fill.Character = "*"
	}
	return s
}

func checkFind(s string) error {
	re, err := regexp.Compile(s)
	if err != nil {
		return fmt.Errorf("%w; expressions are RE2", err)
	}
	if re.MatchString("") {
		return fmt.Errorf("the expression finds an empty text, which is everywhere")
	}
	return nil
}

func checkCharacter(s string) error {
	if utf8.RuneCountInString(s) != 1 {
		return fmt.Errorf("%q is not one character", s)
	}
	return nil
}

// Failure is a sample that does not come out as it says.
type Failure struct {
	Miss bool
	Text string
}

// CheckSamples runs the samples of a mask. near is not looked at: a sample is a piece of a record.
func (s Spec) CheckSamples() []Failure {
	s.Near = nil
	f, err := s.Finder()
	if err != nil {
		return nil // reported where it is decoded
	}
	var out []Failure
	for _, t := range s.Hits {
		if len(f.Find([]byte(t), "")) == 0 {
			out = append(out, Failure{false, t})
		}
	}
	for _, t := range s.Misses {
		if len(f.Find([]byte(t), "")) > 0 {
			out = append(out, Failure{true, t})
		}
	}
	return out
}

// Needs tells what a line must hold for the expression to find anything: a literal, or a class of characters so small
// that lines can be skipped by it quickly. It answers "" when there is no such thing, so that each line is searched in
// full.
func (s Spec) Needs() string {
	if s.Find == "" {
		return "detector"
	}
	tree, err := syntax.Parse(s.Find, syntax.Perl)
	if err != nil {
		return ""
	}
	return needs(tree.Simplify())
}

func needs(t *syntax.Regexp) string {
	switch t.Op {
	case syntax.OpLiteral:
		if t.Flags&syntax.FoldCase != 0 && len(t.Rune) == 1 {
			return ""
		}
		return string(t.Rune)
	case syntax.OpCharClass:
		size := 0
		for i := 0; i+1 < len(t.Rune); i += 2 {
			size += int(t.Rune[i+1]-t.Rune[i]) + 1
		}
		if size <= 32 {
			return t.String()
		}
	case syntax.OpCapture, syntax.OpPlus:
		return needs(t.Sub[0])
	case syntax.OpRepeat:
		if t.Min > 0 {
			return needs(t.Sub[0])
		}
	case syntax.OpConcat:
		best := ""
		for _, sub := range t.Sub {
			if n := needs(sub); len(n) > len(best) && !strings.HasPrefix(n, "[") || best == "" {
				best = n
			}
		}
		return best
	case syntax.OpAlternate:
		all := make([]string, 0, len(t.Sub))
		for _, sub := range t.Sub {
			n := needs(sub)
			if n == "" {
				return ""
			}
			all = append(all, n)
		}
		return strings.Join(all, "|")
	}
	return ""
}

// Trial is a text of the usual kind for measuring what an expression costs: a thousand lines without private data.
var Trial = strings.Repeat(
	"2031-04-02 06:15:09 lane=4 result=OK operator=kelp load=17.25 note=the tide is out and the ramp is steep\n",
	1000,
)

var trial = []byte(Trial)

// Measure tells what it takes to search Trial once for a mask, as the best of three, by the clock that it is given.
func Measure(s Spec, now func() time.Time) time.Duration {
	best := time.Duration(0)
	f, err := s.Finder()
	if err != nil {
		return 0
	}
	for range 3 {
		began := now()
		for line := range bytes.Lines(trial) {
			f.Find(line, "")
		}
		if took := now().Sub(began); best == 0 || took < best {
			best = took
		}
	}
	return best
}

// BuiltIn is the mask that a detector is by its own name.
func BuiltIn(detector string) Spec {
	return Spec{Name: detector, Detector: detector, Fill: Fill{Character: "*"}}
}
