// Package check finds what is wrong with a catalogue before it leaves the desk.
//
// A check has a code; Codes says for each what it finds, why it matters, and what to do. Some need only the catalogue,
// others the hosts and what their agents have reported.
package check

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/render"
	"synaxis/internal/core/yamldoc"
)

// Severity is how much a finding weighs.
type Severity string

// The severities.
const (
	Error   Severity = "error"   // a draft that has one is not published
	Warning Severity = "warning" // something is probably not as its writer believes
	Note    Severity = "note"    // worth knowing
)

// Finding is one result of a check.
type Finding struct {
	Code         string
	Severity     Severity
	Kind, Name   string
	File         string
	Line, Column int
	Hosts        []string
	Reason, Fix  string
}

// FromProblems turns what reading found into findings.
func FromProblems(problems []yamldoc.Problem) []Finding {
	var out []Finding
	for _, p := range problems {
		out = append(
			out,
			Finding{
				Code:     p.Code,
				Severity: Error,
				Kind:     p.Kind,
				Name:     p.Name,
				File:     p.File,
				Line:     p.Line,
				Column:   p.Column,
				Reason:   p.Reason,
				Fix:      p.Fix,
			},
		)
	}
	return out
}

// World is what a catalogue is checked against beyond itself. Whatever of it is nil leaves the checks that need it
// out.
type World struct {
	Fleet   *render.Fleet                   // of this catalogue
	Before  *catalogue.Catalogue            // the newest revision
	Volumes []Volume                        // what sources really read
	Cost    func(m mask.Spec) time.Duration // measures one search of mask.Trial
}

// Volume is what a source has read on one host, as bytes in a day.
type Volume struct {
	Host, Source string
	Bytes        float64
}

type checker struct {
	cat      *catalogue.Catalogue
	world    World
	findings []Finding
}

// Run makes all checks. Findings are ordered by severity, then place.
func Run(cat *catalogue.Catalogue, world World) []Finding {
	c := &checker{cat: cat, world: world}
	for _, d := range cat.All() {
		c.definition(d)
	}
	c.renames()
	if world.Fleet != nil {
		c.fleet()
	}
	Sort(c.findings)
	return c.findings
}

// Sort orders findings: errors first, then by file and line.
func Sort(f []Finding) {
	rank := map[Severity]int{Error: 0, Warning: 1, Note: 2}
	slices.SortStableFunc(f, func(a, b Finding) int {
		return cmp.Or(
			cmp.Compare(rank[a.Severity], rank[b.Severity]),
			cmp.Compare(a.File, b.File),
			cmp.Compare(a.Line, b.Line),
			cmp.Compare(a.Code, b.Code),
		)
	})
}

// HasErrors tells whether anything stops a publication.
func HasErrors(f []Finding) bool {
	return slices.ContainsFunc(f, func(x Finding) bool { return x.Severity == Error })
}

// add notes a finding; its severity is that of its code.
func (c *checker) add(d *catalogue.Definition, path []string, code, reason, fix string, hosts ...string) {
	line, column := d.At(path...)
	c.findings = append(
		c.findings,
		Finding{Code: code, Severity: severities[code], Kind: d.Kind, Name: d.Name, File: d.File,
			Line: line, Column: column, Hosts: hosts, Reason: reason, Fix: fix},
	)
}

// definition makes the checks that need nothing but the catalogue.
func (c *checker) definition(d *catalogue.Definition) {
	_, broken := d.Refs()
	for _, b := range broken {
		fix := ""
		if b.Code == "reference-misplaced" {
			fix = "write the value out"
		}
		c.add(d, b.Path, b.Code, b.Reason, fix)
	}
	c.secretsInClear(d)
	switch {
	case d.Source != nil:
		c.source(d)
		c.conditions(d)
		c.routes(d)
		c.listenerWithoutTLS(d)
	case d.Format != nil:
		for i, name := range d.Format.FirstOf {
			if f, ok := c.cat.Format(name); !ok {
				c.dangling(
					d,
					[]string{"first-of", at(i)},
					"format",
					name,
					append(c.cat.Names("format"), format.Kinds...),
				)
			} else if f.Kind == "first-of" {
				c.add(d, []string{"first-of", at(i)}, "format-invalid", fmt.Sprintf("%s is a first-of itself", name),
					"name its formats here")
			}
		}
		c.samples(d)
	case d.Mask != nil:
		c.mask(d)
	case d.Guard != nil:
		c.guard(d)
	case d.Destination != nil:
		if len(c.cat.UsedBy(d.ID)) == 0 {
			c.add(
				d,
				nil,
				"destination-unused",
				"no source sends to this destination",
				"send something to it, or remove it",
			)
		}
		c.withoutTLS(d)
	}
}

func at(i int) string { return fmt.Sprintf("#%d", i) }

func (c *checker) source(d *catalogue.Definition) {
	s := d.Source
	spec, ok := c.cat.Format(s.Format)
	if !ok {
		c.dangling(d, []string{"format"}, "format", s.Format, append(c.cat.Names("format"), format.Kinds...))
	}
	for i, e := range s.Send {
		if c.cat.Get("destination", e.To) == nil {
			key := "to"
			if e.Otherwise {
				key = "otherwise"
			}
			c.dangling(d, []string{"send", at(i), key}, "destination", e.To, c.cat.Names("destination"))
		}
	}
	if s.Unparsed != "keep" && s.Unparsed != "drop" && c.cat.Get("destination", s.Unparsed) == nil {
		c.dangling(
			d,
			[]string{"unparsed"},
			"destination",
			s.Unparsed,
			append(c.cat.Names("destination"), "keep", "drop"),
		)
	}
	for i, st := range s.Steps {
		if st.Kind == pipeline.Mask {
			for k, name := range st.Value.Texts() {
				if _, known := c.cat.Mask(name); !known {
					c.dangling(d, []string{"steps", at(i), "mask", at(k)}, "mask", name, c.cat.MaskNames())
				}
			}
		}
		if st.Kind == pipeline.Parse {
			if name := st.Value.Get("format").Text(); name != "" {
				if _, known := c.cat.Format(name); !known {
					c.dangling(
						d,
						[]string{"steps", at(i), "parse", "format"},
						"format",
						name,
						append(c.cat.Names("format"), format.Kinds...),
					)
				}
			}
		}
	}
	for i, pattern := range s.Files {
		if tooWide(pattern) {
			c.add(
				d,
				[]string{"read", "files", at(i)},
				"pattern-too-wide",
				fmt.Sprintf("%q takes in everything on the host", pattern),
				"name the folder that the logs are in",
			)
		} else if !strings.HasPrefix(pattern, "/") && !strings.HasPrefix(pattern, "${") {
			c.add(d, []string{"read", "files", at(i)}, "path-relative", fmt.Sprintf("%q is not an absolute path",
				pattern), "begin it with / or a setting")
		}
	}
	if !ok {
		return
	}
	if spec.Kind == format.Recognised && s.Listen == nil {
		c.add(d, []string{"format"}, "recognise-without-senders",
			"format: recognise learns how each sender writes, and this source has none",
			"name a format; synaxis format guess proposes one")
	}
	c.senders(d)
	if l := s.Listen; l != nil && l.Transport == "tls" && (l.Certificate == "" || l.Certificate != pipeline.Issued &&
		l.Key == "") {
		c.add(d, []string{"read", l.Kind, "listen"}, "certificate-missing", "the listener has no certificate with its key",
			"let the service sign one with certificate: issued, or name secrets in certificate and key")
	}
	spec.Time = spec.Time.Merge(s.Time)
	if spec.NeedsZone(c.cat.Format) {
		c.add(
			d,
			[]string{"format"},
			"zone-missing",
			fmt.Sprintf("format %s reads a time without a zone, and neither it nor this source names one", s.Format),
			"add time: {zone: Europe/Lisbon}, or whatever zone the hosts write in",
		)
	}
	if spec.Kind != "first-of" { // what is wrong with those that it names is told at them
		if _, err := format.Compile(spec, format.Time{Zone: "UTC"}, c.cat.Format); err != nil {
			c.add(d, []string{"time"}, "format-invalid", err.Error(), "")
		}
	}
}

// senders checks the formats and zones of senders.
func (c *checker) senders(d *catalogue.Definition) {
	if d.Source.Listen == nil {
		return
	}
	for i, sender := range d.Source.Listen.Senders {
		path := []string{"read", "senders", at(i)}
		own := d.Source.For(sender)
		spec, ok := c.cat.Format(own.Format)
		if !ok && sender.Format != "" {
			c.dangling(d, append(path, "format"), "format", sender.Format, append(c.cat.Names("format"),
				format.Kinds...))
		}
		spec.Time = spec.Time.Merge(own.Time)
		if ok && sender.Apart() && spec.NeedsZone(c.cat.Format) {
			c.add(d, path, "zone-missing", fmt.Sprintf("format %s of sender %s reads a time without a zone, and nobody names one",
				own.Format, sender.Name), "add time: {zone: Europe/Lisbon} to the sender or the source")
		}
	}
}

func (c *checker) dangling(d *catalogue.Definition, path []string, kind, name string, known []string) {
	fix := "define it, or name one that exists"
	if near := yamldoc.Nearest(name, known); near != "" {
		fix = fmt.Sprintf("did you mean %q?", near)
	} else if len(known) > 0 && len(known) < 12 {
		fix = "there are " + strings.Join(known, ", ")
	}
	c.add(d, path, "dangling-reference", fmt.Sprintf("there is no %s %q", kind, name), fix)
}

func (c *checker) samples(d *catalogue.Definition) {
	if d.Format.Kind == "first-of" && len(d.Format.Samples) == 0 {
		return
	}
	zone := format.Time{}
	if d.Format.Time.Zone == "" {
		zone.Zone = "UTC" // samples say nothing of time; a source will name the zone
	}
	failures, err := format.CheckSamples(*d.Format, zone, c.cat.Format)
	if err != nil {
		c.add(d, []string{string(d.Format.Kind)}, "format-invalid", err.Error(), "")
		return
	}
	for _, f := range failures {
		c.findings = append(
			c.findings,
			Finding{Code: "sample-failed", Severity: Error, Kind: d.Kind, Name: d.Name, File: d.File,
				Line: f.Sample.Line, Column: f.Sample.Column, Reason: f.Why, Fix: "mend the format or the sample"},
		)
	}
	for _, s := range d.Format.Samples {
		if kinds := private(s.Text); len(kinds) > 0 {
			c.findings = append(
				c.findings,
				Finding{
					Code:     "sample-private",
					Severity: Warning,
					Kind:     d.Kind,
					Name:     d.Name,
					File:     d.File,
					Line:     s.Line,
					Column:   s.Column,
					Reason: fmt.Sprintf(
						"the sample seems to hold private data (%s); definitions are kept for ever",
						strings.Join(kinds, ", "),
					),
					Fix: "make up other data of the same shape",
				},
			)
		}
	}
}

// private tells what private data a text seems to hold. What is made up for examples is none: addresses and names that
// are set aside for documentation (RFC 5737, RFC 3849, RFC 2606).
func private(text string) (kinds []string) {
	for _, h := range mask.Scan([]byte(text)) {
		if found := text[h.Start:h.End]; !setAside.MatchString(found) {
			kinds = append(kinds, h.Detector)
		}
	}
	slices.Sort(kinds)
	return slices.Compact(kinds)
}

var setAside = regexp.MustCompile(
	`^(?:192\.0\.2\.|198\.51\.100\.|203\.0\.113\.|127\.|0\.0\.0\.0|2001:db8:|::1$)|\.(?:example|test|invalid)(?:\W|$)|@example\.(?:com|net|org)$`,
)

// slowMask is the cost above which a mask is called slow: one search of mask.Trial, whose lines hold nothing to find.
const slowMask = 4 * time.Millisecond

func (c *checker) mask(d *catalogue.Definition) {
	for _, f := range d.Mask.CheckSamples() {
		list, i := "hits", slices.Index(d.Mask.Hits, f.Text)
		why := fmt.Sprintf("the mask finds nothing in %q, though the sample says it must", f.Text)
		if f.Miss {
			list, i = "misses", slices.Index(d.Mask.Misses, f.Text)
			why = fmt.Sprintf("the mask finds something in %q, though the sample says it must not", f.Text)
		}
		c.add(d, []string{"samples", list, at(i)}, "sample-failed", why, "mend the expression or the sample")
	}
	if c.world.Cost == nil || d.Mask.Find == "" {
		return
	}
	cost := c.world.Cost(*d.Mask)
	needs := d.Mask.Needs()
	if needs != "" && cost < slowMask {
		return
	}
	speed := fmt.Sprintf(
		"searching %d kB of lines that hold nothing took %s, about %.0f MB/s",
		len(mask.Trial)/1000,
		cost.Round(100*time.Microsecond),
		float64(len(mask.Trial))/max(cost.Seconds(), 1e-9)/1e6,
	)
	if needs == "" {
		c.add(
			d,
			[]string{"find"},
			"mask-slow",
			speed+": no literal and no small class of characters lets it skip a line",
			"put something fixed into the expression, such as the word before the data, or use near",
		)
	} else {
		c.add(d, []string{"find"}, "mask-slow", speed, "make the expression simpler, or its beginning fixed")
	}
}

func (c *checker) guard(d *catalogue.Definition) {
	for i, name := range d.Guard.Masks {
		if _, ok := c.cat.Mask(name); !ok {
			c.dangling(d, []string{"masks", at(i)}, "mask", name, c.cat.MaskNames())
		}
	}
	covers, near := 0, ""
	for _, o := range c.cat.All() {
		if o.Source == nil {
			continue
		}
		if d.Guard.Covers(o.Source) {
			covers++
			continue
		}
		for _, t := range d.Guard.Sources.Terms {
			if v, ok := o.Source.Labels[t.Key]; ok && yamldoc.Nearest(v, t.Values) != "" {
				near = fmt.Sprintf("source %s has %s=%s; did you mean that?", o.Name, t.Key, v)
			}
		}
	}
	if covers == 0 {
		if near == "" {
			near = "label the sources that it is for, or remove it"
		}
		c.add(
			d,
			[]string{"sources"},
			"guard-covers-nothing",
			fmt.Sprintf("no source has the labels %s, so this guard protects nothing", d.Guard.Sources),
			near,
		)
	}
}

// renames finds sources that were renamed without saying so: their positions would be lost, and all be read again.
func (c *checker) renames() {
	for _, d := range c.cat.All() {
		if d.Source == nil {
			continue
		}
		if was := d.Source.Was; was != "" && c.cat.Get("source", was) != nil {
			c.add(
				d,
				[]string{"was"},
				"was-in-use",
				fmt.Sprintf("source %s is still there, and keeps its own positions", was),
				"remove it, or leave was out",
			)
		}
		if c.world.Before == nil || d.Source.Was != "" || c.world.Before.Get("source", d.Name) != nil {
			continue
		}
		for _, old := range c.world.Before.All() {
			if old.Source == nil || c.cat.Get("source", old.Name) != nil || len(old.Source.Files) == 0 ||
				!slices.Equal(old.Source.Files, d.Source.Files) {
				continue
			}
			c.add(
				d,
				nil,
				"rename-without-was",
				fmt.Sprintf(
					"source %s goes and this one reads the same files: without was its positions are lost",
					old.Name,
				),
				"add was: "+old.Name,
			)
		}
	}
}
