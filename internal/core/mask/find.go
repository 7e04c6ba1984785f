package mask

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// nearby is how far from private data a word of near may stand, in characters.
const nearby = 40

// Finder is a mask that is ready to look.
type Finder struct {
	name, detector string
	find           *regexp.Regexp
	near           []*regexp.Regexp
	names          []string
	fill           Fill
}

// Finder makes a mask ready. It fails for an expression that is not RE2, and for a detector that is not known.
func (s Spec) Finder() (*Finder, error) {
	f := &Finder{name: s.Name, detector: s.Detector, names: s.Near, fill: s.Fill}
	if s.Find != "" {
		re, err := regexp.Compile(s.Find)
		if err != nil {
			return nil, fmt.Errorf("mask %s: %w; expressions are RE2", s.Name, err)
		}
		f.find = re
	} else if !slices.Contains(Detectors, s.Detector) {
		return nil, fmt.Errorf("mask %s: %q is no detector (they are %s)", s.Name, s.Detector, strings.Join(Detectors, ", "))
	}
	for _, n := range s.Near {
		f.near = append(f.near, regexp.MustCompile("(?i)"+regexp.QuoteMeta(n)))
	}
	return f, nil
}

// Find answers the places that the mask takes in a text, in order. field is the name of the field that holds the text, "" for
// none. Words of near are found in small and large letters alike.
func (f *Finder) Find(text []byte, field string) []Hit {
	var hits []Hit
	if f.find != nil {
		for _, p := range f.find.FindAllIndex(text, -1) {
			if p[1] > p[0] {
				hits = append(hits, Hit{p[0], p[1], f.name})
			}
		}
	} else {
		hits = Detect(f.detector, text)
		for i := range hits {
			hits[i].Detector = f.name
		}
	}
	if len(f.near) == 0 || slices.ContainsFunc(f.names, func(n string) bool { return strings.EqualFold(n, field) }) {
		return hits
	}
	return slices.DeleteFunc(hits, func(h Hit) bool {
		before, after := back(text[:h.Start]), ahead(text[h.End:])
		return !slices.ContainsFunc(f.near, func(n *regexp.Regexp) bool { return n.Match(before) || n.Match(after) })
	})
}

// FindLines is Find over a text of many lines, which an expression sees one by one, as in records of one line. Detectors also find
// what goes over several.
func (f *Finder) FindLines(text []byte) []Hit {
	if f.find == nil {
		return f.Find(text, "")
	}
	var hits []Hit
	at := 0
	for line := range bytes.Lines(text) {
		for _, h := range f.Find(bytes.TrimRight(line, "\r\n"), "") {
			hits = append(hits, Hit{at + h.Start, at + h.End, h.Detector})
		}
		at += len(line)
	}
	return hits
}

// back and ahead are what stands within nearby characters before and after a place, in its line.
func back(p []byte) []byte {
	at := len(p)
	for n := 0; n < nearby && at > 0 && p[at-1] != '\n'; n++ {
		_, size := utf8.DecodeLastRune(p[:at])
		at -= size
	}
	return p[at:]
}

func ahead(p []byte) []byte {
	if line := bytes.IndexByte(p, '\n'); line >= 0 {
		p = p[:line]
	}
	at := 0
	for n := 0; n < nearby && at < len(p); n++ {
		_, size := utf8.DecodeRune(p[at:])
		at += size
	}
	return p[:at]
}
