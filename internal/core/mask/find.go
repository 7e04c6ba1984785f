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

// Finder is a mask that is ready to look. It belongs to one goroutine.
type Finder struct {
	name, detector string
	find           *regexp.Regexp
	must           *sequence // that every match of find holds
	detect         func(text []byte, add func(start, end int))
	gate           func(text []byte) bool
	near           []*regexp.Regexp
	names          []string
	telling        map[string]bool // fields whose names say what they hold, as far as it was asked
	fill           Fill

	hits    []Hit
	collect func(start, end int)
	pair    []byte
}

// Finder makes a mask ready. It fails for an expression that is not RE2, and for a detector that is not known.
func (s Spec) Finder() (*Finder, error) {
	f := &Finder{name: s.Name, detector: s.Detector, names: s.Near, fill: s.Fill, telling: map[string]bool{}}
	if s.Find != "" {
		re, err := regexp.Compile(s.Find)
		if err != nil {
			return nil, fmt.Errorf("mask %s: %w; expressions are RE2", s.Name, err)
		}
		f.find, f.must = re, required(s.Find)
	} else if f.gate, f.detect = gates[s.Detector], detectors[s.Detector]; f.detect == nil {
		return nil, fmt.Errorf("mask %s: %q is no detector (they are %s)", s.Name, s.Detector, strings.Join(Detectors,
			", "))
	}
	f.collect = func(start, end int) { f.hits = append(f.hits, Hit{start, end, f.name}) }
	for _, n := range s.Near {
		f.near = append(f.near, regexp.MustCompile("(?i)"+regexp.QuoteMeta(n)))
	}
	return f, nil
}

// Name is the name of the mask.
func (f *Finder) Name() string { return f.name }

// Find answers the places that the mask takes in a text, in order; they are good until the next call. field is the
// name of the field that holds the text, "" for none: the value of one that is called password is one. Words of near
// are found in small and large letters alike.
func (f *Finder) Find(text []byte, field string) []Hit {
	f.hits = f.hits[:0]
	switch {
	case f.find == nil:
		if passes(f.gate, text) {
			f.detect(text, f.collect)
		}
		if len(f.hits) == 0 && field != "" && f.tells(field) {
			f.named(text, field)
		}
	case f.must != nil && f.must.whole:
		for at := f.must.next(text, 0); at >= 0; {
			start := at - f.must.length
			if f.must.holds(text, start, at) {
				f.collect(start, at)
				at = f.must.next(text, at)
			} else {
				at = f.must.next(text, start+1)
			}
		}
	case f.must == nil || f.must.next(text, 0) >= 0:
		for _, p := range f.find.FindAllIndex(text, -1) {
			if p[1] > p[0] {
				f.collect(p[0], p[1])
			}
		}
	}
	if len(f.hits) == 0 || len(f.near) == 0 ||
		slices.ContainsFunc(f.names, func(n string) bool { return strings.EqualFold(n, field) }) {
		return f.hits
	}
	f.hits = slices.DeleteFunc(f.hits, func(h Hit) bool {
		before, after := back(text[:h.Start]), ahead(text[h.End:])
		return !slices.ContainsFunc(f.near, func(n *regexp.Regexp) bool { return n.Match(before) || n.Match(after) })
	})
	return f.hits
}

// May tells quickly whether a text, or any part of it, could hold something for the mask.
func (f *Finder) May(text []byte) bool {
	if f.find == nil {
		return passes(f.gate, text)
	}
	return f.must == nil || f.must.next(text, 0) >= 0
}

// Telling tells whether there are fields that are looked at for their names alone.
func (f *Finder) Telling() bool { return f.detector == "password" || f.detector == "token" }

// Tells tells whether a field is looked at for its name alone.
func (f *Finder) Tells(field string) bool { return f.find == nil && f.tells(field) }

// tells tells whether the name of a field is a key by which the detector knows private data.
func (f *Finder) tells(field string) bool {
	if f.detector != "password" && f.detector != "token" {
		return false
	}
	told, asked := f.telling[field]
	if !asked {
		keys := passwordKeys
		if f.detector == "token" {
			keys = tokenKeys
		}
		name := bytes.ToLower([]byte(field[strings.LastIndexByte(field, '.')+1:]))
		told = slices.ContainsFunc(keys, func(k []byte) bool { return bytes.HasSuffix(name, k) })
		if len(f.telling) < maxTelling {
			f.telling[field] = told
		}
	}
	return told
}

// maxTelling bounds the names that are remembered.
const maxTelling = 10_000

// named looks at the value of a field as if it stood behind its key.
func (f *Finder) named(text []byte, field string) {
	if bytes.IndexByte(text, '"') >= 0 {
		return // it is looked at as it is, and in the line
	}
	key := field[strings.LastIndexByte(field, '.')+1:]
	f.pair = append(append(append(append(f.pair[:0], key...), `="`...), text...), '"')
	f.detect(f.pair, f.collect)
	before := len(key) + 2
	f.hits = slices.DeleteFunc(f.hits, func(h Hit) bool { return h.Start < before })
	for i := range f.hits {
		f.hits[i].Start, f.hits[i].End = f.hits[i].Start-before, min(f.hits[i].End-before, len(text))
	}
}

// FindLines is Find over a text of many lines, which an expression sees one by one, as in records of one line.
// Detectors also find what goes over several.
func (f *Finder) FindLines(text []byte) []Hit {
	if f.find == nil {
		return slices.Clone(f.Find(text, ""))
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
