// Package pipeline is one source's whole treatment: cut, parse, route. The agent and the workbench run this code.
package pipeline

import (
	"fmt"
	"slices"
	"unicode/utf8"

	"synaxis/internal/core/format"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/record"
	"synaxis/internal/core/yamldoc"
)

// Source is what a host must know to collect one source. In the catalogue its texts may hold references; in a host
// config they are resolved.
type Source struct {
	Name, Was    string
	Labels       map[string]string
	Files        []string
	Except       []string
	FirstRead    string // now, start
	Listen       *Listener
	Begin        string
	Format       string
	Time         format.Time
	KeepOriginal bool
	Unparsed     string // keep, drop, or the name of a destination
	Steps        []Step
	Guards       []string // masks that guards put on it; in a host config only
	Send         []Entry
}

// Listeners are the kinds of sources that listen.
var Listeners = []string{"syslog", "socket", "http", "otlp"}

// Listener is where a source listens. Port is a text, since it may be a reference in the catalogue.
type Listener struct {
	Kind, Address, Port, Transport string
	Token                          string
}

// Step is one thing done to a record.
type Step struct {
	Kind  string // keep, drop, parse, set, mask, rename, remove, sample, limit
	Value *yamldoc.Node
}

// Entry is one way that records go. An entry without a condition takes every record; Otherwise takes what no other took.
type Entry struct {
	To, When  string
	Otherwise bool
}

// Counts are what became of the records of one run.
type Counts struct {
	Read     int64 // records
	Bytes    int64 // of the input
	Unparsed int64 // could not be read by the format
	Dropped  int64 // of those, dropped because the source says so
	Blank    int64 // lines without content, skipped
}

// Add sums up.
func (c *Counts) Add(o Counts) {
	c.Read += o.Read
	c.Bytes += o.Bytes
	c.Unparsed += o.Unparsed
	c.Dropped += o.Dropped
	c.Blank += o.Blank
}

// Treatment is a compiled source. It belongs to one goroutine.
type Treatment struct {
	src    Source
	cutter *lines.Cutter
	parser *format.Parser
	raw    bool
}

// Compile prepares the treatment of a source with its format; other finds the formats that a first-of names.
func Compile(src Source, f format.Spec, other format.Other) (*Treatment, error) {
	cutter, err := lines.Compile(lines.Spec{Begin: src.Begin})
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", src.Name, err)
	}
	parser, err := format.Compile(f, src.Time, other)
	if err != nil {
		return nil, fmt.Errorf("source %s: %w", src.Name, err)
	}
	return &Treatment{src: src, cutter: cutter, parser: parser, raw: f.Kind == "raw"}, nil
}

// Schema returns the field names of this source.
func (t *Treatment) Schema() *record.Schema { return t.parser.Schema() }

// Run treats the bytes that fill b.Arena: it cuts, reads and appends the records that are complete, until the batch
// holds limit records. offset is the place of the first byte in its file, observed the time in Unix nanoseconds.
// With flush what is left at the end counts as complete. It returns how many bytes were used; the rest must be
// given again, with more behind it.
func (t *Treatment) Run(b *record.Batch, offset, observed int64, limit int, flush bool) (used int, c Counts) {
	b.Schema = t.parser.Schema()
	total := len(b.Arena)
	for used < total && len(b.Records) < limit {
		p, ok := t.cutter.Next(b.Arena[used:total], flush)
		if !ok {
			break
		}
		span := record.Span{Off: uint32(used), Len: uint32(p.Body)}
		used += p.Size
		body := b.Bytes(span)
		if !t.raw && blank(body) {
			c.Blank++
			continue
		}
		c.Read++
		if !utf8.Valid(body) {
			span = putValid(b, body)
		}
		r := record.Record{Observed: observed, Time: observed, End: offset + int64(used), Body: span}
		if p.Truncated {
			r.Flags |= record.Truncated
		}
		if !t.parser.Read(b, &r) {
			c.Unparsed++
			if t.src.Unparsed == "drop" {
				c.Dropped++
				continue
			}
		}
		if t.src.KeepOriginal {
			r.Original, r.Flags = span, r.Flags|record.HasOriginal
		}
		b.Records = append(b.Records, r)
	}
	c.Bytes = int64(used)
	return used, c
}

func blank(p []byte) bool {
	return !slices.ContainsFunc(p, func(c byte) bool { return c != ' ' && c != '\t' && c != '\r' && c != '\n' })
}

// putValid copies a line with each broken byte replaced by U+FFFD, since neither JSON nor OTLP may carry it.
func putValid(b *record.Batch, line []byte) record.Span {
	start := len(b.Arena)
	for len(line) > 0 {
		r, n := utf8.DecodeRune(line)
		b.Arena = utf8.AppendRune(b.Arena, r)
		line = line[n:]
	}
	return record.Span{Off: uint32(start), Len: uint32(len(b.Arena) - start)}
}
