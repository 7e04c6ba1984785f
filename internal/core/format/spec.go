// Package format reads the fields, the time and the level of a record out of its bytes.
//
// A Spec says how; Compile turns it into a Parser, which works on the records of a batch without allocating in the
// steady state. The workbench, the checks and the agent all run this same code.
package format

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/record"
)

// Kind is how a format reads lines.
type Kind string

// The kinds. Those in Kinds are formats of the same name too, which exist without being defined.
const (
	Raw         Kind = "raw"          // the whole line
	JSON        Kind = "json"         // one object
	KeyValue    Kind = "keyvalue"     // key=value pairs
	CSV         Kind = "csv"          // values with a mark between them
	Syslog      Kind = "syslog"       // RFC 5424, RFC 3164, and what devices send
	WebCommon   Kind = "web-common"   // the common log format of web servers
	WebCombined Kind = "web-combined" // the same with two quoted texts more
	CEF         Kind = "cef"          // events of security devices
	Recognised  Kind = "recognise"    // guessed for each sender; until then the whole line
	Template    Kind = "template"     // literals and fields in turns
	Regex       Kind = "regex"        // an expression with named groups
	FirstOf     Kind = "first-of"     // other formats, tried in order
)

// Spec is what a format definition says.
type Spec struct {
	Name      string
	Kind      Kind
	Template  string // of kind template
	Regex     string // of kind regex: RE2 with named groups
	FirstOf   []string
	Columns   []string          // of kind csv
	Separator string            // of kind csv: one character; default a comma
	Fields    map[string]string // declared types; nil: any name
	Time      Time
	Level     Level
	Body      string // the field that becomes the body; default the whole line
	Samples   []Sample
}

// Kinds of formats that exist without being defined, in the order of the documentation.
var Kinds = []string{"raw", "json", "keyvalue", "csv", "syslog", "web-common", "web-combined", "cef", "recognise"}

// parts are what an agent must be able to run for kinds that not every agent can.
var parts = map[Kind]string{
	Regex:   "format-regex",
	CSV:     "format-csv",
	FirstOf: "format-first-of",
	Syslog:  "format-syslog",
	CEF:     "format-cef",

	Recognised: "recognise",
}

// BuiltIn returns the built-in format of a name.
func BuiltIn(name string) (Spec, bool) {
	return Spec{Name: name, Kind: Kind(name)}, slices.Contains(Kinds, name)
}

// Parts tells what an agent must be able to run for a format.
func (s Spec) Parts() []string {
	var out []string
	if p := parts[s.Kind]; p != "" {
		out = append(out, p)
	}
	if s.Fields != nil {
		out = append(out, "format-fields")
	}
	return out
}

// Time says which field holds the time and how it is written. A source's Time merges over its format's.
type Time struct{ Field, Layout, Zone string }

// Merge lays what over says over t, key by key.
func (t Time) Merge(over Time) Time {
	if over.Field != "" {
		t.Field = over.Field
	}
	if over.Layout != "" {
		t.Layout = over.Layout
	}
	if over.Zone != "" {
		t.Zone = over.Zone
	}
	return t
}

// Level says which field holds the level and what its values mean. Keys are in lower case; "*" is any other.
type Level struct {
	Field string
	Map   map[string]uint8
}

// Sample is one line with what it must give.
type Sample struct {
	Line, Column int // where it stands in the definition
	Text         string
	None         bool            // the format must not read it
	Gives        map[string]Want // a typed subset of its fields
	Exactly      bool            // Gives is all of its fields
	Level        string
}

// Want is an expected value: its kind and how it is written.
type Want struct {
	Kind record.Kind
	Text string
}

// CheckZone tells whether a zone can be used: a named one that knows its clock changes, or UTC.
func CheckZone(zone string) error {
	if zone == "UTC" || zone == "Etc/UTC" {
		return nil
	}
	if !strings.Contains(zone, "/") || strings.HasPrefix(zone, "Etc/") {
		return fmt.Errorf(
			"%q is not a named time zone such as Europe/Lisbon or UTC (fixed offsets go wrong at the clock change)",
			zone,
		)
	}
	if _, err := time.LoadLocation(zone); err != nil {
		return fmt.Errorf("%q is not a time zone that is known", zone)
	}
	return nil
}

// NeedsZone tells whether time stamps read by this spec lack a zone of their own, so that one must be named: neither
// the layout has one nor the stamps of all samples. other answers the formats that first-of names, which may be nil.
func (s Spec) NeedsZone(other Other) bool {
	if s.Time.Zone != "" {
		return false
	}
	t := s.Time
	switch s.Kind {
	case "template":
		if t.Field == "" {
			if t = s.impliedTime(); t.Field == "" {
				return false
			}
		}
	case "csv", "regex":
		if t.Field == "" && t.Layout == "" {
			return false
		}
	case "json", "keyvalue":
		if t.Layout == "" {
			return false // known only from the lines: without a zone the observed time stands in, marked
		}
	case "first-of":
		for _, name := range s.FirstOf {
			part, ok := BuiltIn(name)
			if other != nil {
				if p, known := other(name); known {
					part, ok = p, true
				}
			}
			if ok && part.Kind != "first-of" && part.NeedsZone(nil) && s.samplesNeedZone(other) {
				return true
			}
		}
		return false
	default:
		return false
	}
	if t.Layout != "" {
		l, err := compileLayout(t.Layout)
		return err == nil && !l.hasZone
	}
	return s.samplesNeedZone(other)
}

// samplesNeedZone tells whether there is no sample that is read with a time, or one whose time says no zone.
func (s Spec) samplesNeedZone(other Other) bool {
	p, err := Compile(s, Time{}, other)
	if err != nil {
		return true
	}
	zones := 0
	for _, sample := range s.Samples {
		b := &record.Batch{Arena: []byte(sample.Text), Schema: p.Schema()}
		r := record.Record{Body: record.Span{Len: uint32(len(sample.Text))}}
		if sample.None || !p.Read(b, &r) {
			continue
		}
		switch r.TimeNote {
		case record.TimeNoZone:
			return true
		case record.TimeUnreadable:
		default:
			zones++
		}
	}
	return zones == 0
}

// impliedTime is the time of a template that names none: its first field of type time.
func (s Spec) impliedTime() Time {
	parts, err := parseTemplate(s.Template)
	if err != nil {
		return s.Time
	}
	for _, p := range parts {
		if p.typ == "time" {
			return s.Time.Merge(Time{Field: p.name})
		}
	}
	return s.Time
}
