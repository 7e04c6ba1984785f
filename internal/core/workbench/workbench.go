// Package workbench tries formats, sources and masks on lines, before they matter: it runs the very code of hosts over
// a log and tells of every record what came in, what each step did, what was masked, and where it would go.
package workbench

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/guess"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/yamldoc"
)

// MaxLog bounds a log that is tried over the API, in bytes.
const MaxLog = 4 << 20

// Record is one record of a log as it was read, and as it would leave.
type Record struct {
	Line      int            `json:"line"`  // its first, from 1
	Lines     int            `json:"lines"` // how many
	Read      bool           `json:"read"`
	Time      string         `json:"time,omitempty"`     // RFC 3339, UTC; none of a record that was not read
	TimeNote  string         `json:"timeNote,omitempty"` // what was odd about the time
	Level     string         `json:"level,omitempty"`
	Body      string         `json:"body"`
	Fields    map[string]any `json:"fields"`
	Truncated bool           `json:"truncated,omitempty"`
	*Course
}

// Course is what became of a record on its way through a source.
type Course struct {
	Original string   `json:"original"` // as it came in
	Private  []Mark   `json:"private"`  // in the original: what masks took
	Marks    []Mark   `json:"marks"`    // in the body and the fields: what masks put in
	Effects  []Effect `json:"effects"`  // of the steps and the guards, in order
	Dropped  string   `json:"dropped,omitempty"`
	To       []string `json:"to"` // destinations
	Weight   float64  `json:"weight,omitempty"`
	Masked   []string `json:"masked"` // masks that note their names
}

// Mark is a masked part of a text, in bytes. In is body, original, or the name of a field.
type Mark struct {
	In    string `json:"in"`
	Start int    `json:"start"`
	End   int    `json:"end"`
	Mask  string `json:"mask"`
}

// Effect is what a step did; step 0 are the guards.
type Effect struct {
	Step    int      `json:"step"`
	Kind    string   `json:"kind"`
	Failed  int      `json:"failed,omitempty"`
	Drops   bool     `json:"drops,omitempty"`
	Changes []Change `json:"changes"`
}

// Change is one thing of a record that a step changed: a field, level or body. Without before it is new, without after
// it is gone.
type Change struct {
	Name   string  `json:"name"`
	Before *string `json:"before,omitempty"`
	After  *string `json:"after,omitempty"`
}

// Column is a field over all records.
type Column struct {
	Name  string  `json:"name"`
	Type  string  `json:"type"`
	Share float64 `json:"share"` // of the records that were read and have it
}

// Result is what a try gives.
type Result struct {
	Records      []Record         `json:"records"`
	Columns      []Column         `json:"columns"`
	Read         int64            `json:"read"` // records that the format reads
	Unread       int64            `json:"unread"`
	Blank        int64            `json:"blank"`
	Dropped      int64            `json:"dropped"`
	DropReasons  map[string]int64 `json:"dropReasons"`
	Failed       int64            `json:"failed"`
	Masked       int64            `json:"masked"`
	Destinations map[string]int64 `json:"destinations"`   // records by destination
	NoZone       int              `json:"noZone"`         // records whose times have no zone
	Host         string           `json:"host,omitempty"` // whose settings and labels counted
	// the encoding that the bytes look like, where they were read in another
	Looks    string    `json:"looks,omitempty"`
	Problems []Problem `json:"problems"` // why nothing could be tried
}

// Problem is something that is wrong with a definition.
type Problem struct {
	Kind   string `json:"kind,omitempty"`
	Name   string `json:"name,omitempty"`
	Line   int    `json:"line"` // of the definitions as they were given; 0 for none
	Column int    `json:"column"`
	Reason string `json:"reason"`
	Fix    string `json:"fix,omitempty"`
}

// Over lays definitions over a catalogue, as if they were in it. The problems are about the text.
func Over(cat *catalogue.Catalogue, text string) (*catalogue.Catalogue, []*catalogue.Definition, []Problem) {
	if strings.TrimSpace(text) == "" {
		return cat, nil, nil
	}
	defs, found := catalogue.Parse("definitions", []byte(text))
	var problems []Problem
	for _, p := range found {
		problems = append(problems, problem(p))
	}
	var all []*catalogue.Definition
	if cat != nil {
		for _, d := range cat.All() {
			if !slices.ContainsFunc(defs, func(x *catalogue.Definition) bool { return x.ID == d.ID }) {
				all = append(all, d)
			}
		}
	}
	over, dup := catalogue.New(append(all, defs...))
	for _, p := range dup {
		problems = append(problems, problem(p))
	}
	return over, defs, problems
}

func problem(p yamldoc.Problem) Problem {
	return Problem{Kind: p.Kind, Name: p.Name, Line: p.Line, Column: p.Column, Reason: p.Reason, Fix: p.Fix}
}

// Options of a try.
type Options struct {
	Zone     string // of times that have none; over what the definitions say
	Begin    string // how records of several lines begin; likewise
	Encoding string // how the bytes are characters; likewise. utf-8 for a log that is characters already
	Observed time.Time
	Unread   bool            // only the records that were not read
	Most     int             // records that are told of; 0 for all
	Host     *inventory.Host // whose settings and labels count; nil for none
}

// Source tries a whole source of a catalogue on a log.
func Source(cat *catalogue.Catalogue, name string, log []byte, o Options) Result {
	d := cat.Get("source", name)
	if d == nil {
		return failed(Problem{Kind: "source", Name: name, Reason: "there is no source " + name})
	}
	src := d.Source.Source
	guards, _ := cat.GuardMasks(d.Source)
	src.Guards = guards
	f, ok := cat.Format(src.Format)
	if !ok {
		return failed(Problem{Kind: "source", Name: name, Line: d.Line, Reason: "there is no format " + src.Format})
	}
	return run(cat, d, src, f, log, o, true)
}

// Format tries a format on a log, and nothing else of a source.
func Format(cat *catalogue.Catalogue, name string, log []byte, o Options) Result {
	f, ok := cat.Format(name)
	if !ok {
		return failed(Problem{Kind: "format", Name: name, Reason: "there is no format " + name})
	}
	return run(cat, cat.Get("format", name), pipeline.Source{Name: name}, f, log, o, false)
}

func run(
	cat *catalogue.Catalogue,
	d *catalogue.Definition,
	src pipeline.Source,
	f format.Spec,
	log []byte,
	o Options,
	whole bool,
) Result {
	if o.Zone != "" {
		if err := format.CheckZone(o.Zone); err != nil {
			return failed(Problem{Reason: err.Error()})
		}
		src.Time.Zone = o.Zone
	}
	if o.Begin != "" {
		src.Begin = o.Begin
	}
	if o.Encoding != "" {
		src.Encoding = o.Encoding
	}
	resolve(cat, &src, &f, o.Host)
	t, err := pipeline.Compile(src, f, pipeline.Parts{Formats: cat.Format, Masks: cat.Mask})
	if err != nil {
		p := Problem{Reason: err.Error()}
		if d != nil {
			p.Kind, p.Name, p.Line = d.Kind, d.Name, d.Line
		}
		return failed(p)
	}
	records, counts := t.Try(log, o.Observed)
	r := result(records, counts, o, whole)
	if o.Encoding == "" {
		r.Looks = lines.Looks(log, src.Encoding)
	}
	if o.Host != nil {
		r.Host = o.Host.Name
	}
	return r
}

// resolve puts the values of a host in the places of references. Without a host a zone that is a setting is one that
// is not known.
func resolve(cat *catalogue.Catalogue, src *pipeline.Source, f *format.Spec, h *inventory.Host) {
	expand := func(text string) string {
		if !strings.Contains(text, "${") {
			return text
		}
		if h == nil {
			return ""
		}
		settings, _ := cat.Layers(h, nil)
		out, missing, err := catalogue.Expand(text, catalogue.Lookup(h, settings, nil))
		if len(missing) > 0 || err != nil {
			return ""
		}
		return out
	}
	src.Time.Zone, f.Time.Zone = expand(src.Time.Zone), expand(f.Time.Zone)
	if h == nil {
		return
	}
	labels := maps.Clone(h.Labels)
	if labels == nil {
		labels = map[string]string{}
	}
	maps.Copy(labels, src.Labels)
	src.Labels = labels
}

func failed(p Problem) Result {
	r := empty()
	r.Problems = append(r.Problems, p)
	return r
}

func empty() Result {
	return Result{
		Records:      []Record{},
		Columns:      []Column{},
		DropReasons:  map[string]int64{},
		Destinations: map[string]int64{},
		Problems:     []Problem{},
	}
}

func result(records []pipeline.Tried, c pipeline.Counts, o Options, whole bool) Result {
	r := empty()
	all := c.All()
	r.Read, r.Unread, r.Blank, r.Dropped, r.Failed, r.Masked = c.Read-c.Unparsed, c.Unparsed, c.Blank, all.Dropped,
		c.Failed, c.Masked
	if by := all.Drops; by != nil {
		r.DropReasons = by
	}
	at, read := map[string]int{}, 0
	for i := range records {
		t := &records[i]
		if t.TimeNote == record.TimeNoZone {
			r.NoZone++
		}
		for _, to := range t.To {
			r.Destinations[to]++
		}
		if t.Read {
			read++
		}
		for _, f := range t.Fields {
			k, ok := at[f.Name]
			if !ok {
				k = len(r.Columns)
				at[f.Name] = k
				r.Columns = append(r.Columns, Column{Name: f.Name, Type: f.Type})
			}
			if r.Columns[k].Type != f.Type {
				r.Columns[k].Type = "text"
			}
			r.Columns[k].Share++
		}
	}
	chosen := make([]int, 0, len(records)) // those that were not read come first, and so are never cut off
	for _, read := range []bool{false, true} {
		for i := range records {
			if records[i].Read == read && !(o.Unread && read) && (o.Most <= 0 || len(chosen) < o.Most) {
				chosen = append(chosen, i)
			}
		}
	}
	slices.Sort(chosen)
	for _, i := range chosen {
		r.Records = append(r.Records, Show(&records[i], whole))
	}
	for i := range r.Columns {
		r.Columns[i].Share = min(1, r.Columns[i].Share/float64(max(read, 1)))
	}
	return r
}

// Show puts a record into the form of JSON. whole tells its course too.
func Show(t *pipeline.Tried, whole bool) Record {
	x := Record{
		Line:      t.Line,
		Lines:     t.Lines,
		Read:      t.Read,
		Level:     t.Level,
		Body:      t.Body,
		Fields:    map[string]any{},
		Truncated: t.Truncated,
	}
	if t.Read {
		x.Time = t.Time.Format(time.RFC3339Nano)
	}
	if t.TimeNote != record.TimeGood {
		x.TimeNote = t.TimeNote.String()
	}
	for _, f := range t.Fields {
		x.Fields[f.Name] = f.Value
	}
	if !whole {
		return x
	}
	c := &Course{
		Original: t.Original,
		Private:  marks(t.Private),
		Marks:    marks(t.Marks),
		Effects:  []Effect{},
		Dropped:  t.Dropped,
		To:       append([]string{}, t.To...),
		Weight:   t.Weight,
		Masked:   append([]string{}, t.Masked...),
	}
	for _, e := range t.Effects {
		if len(e.Changes) == 0 && e.Failed == 0 && !e.Drops {
			continue
		}
		y := Effect{Step: e.Step, Kind: e.Kind, Failed: e.Failed, Drops: e.Drops, Changes: []Change{}}
		for _, ch := range e.Changes {
			z := Change{Name: ch.Name}
			if !ch.Added {
				z.Before = &ch.Before
			}
			if !ch.Removed {
				z.After = &ch.After
			}
			y.Changes = append(y.Changes, z)
		}
		c.Effects = append(c.Effects, y)
	}
	x.Course = c
	return x
}

func marks(list []pipeline.Mark) []Mark {
	out := make([]Mark, 0, len(list))
	for _, m := range list {
		out = append(out, Mark{m.In, m.Start, m.End, m.Mask})
	}
	return out
}

// Candidate is one way to read a log.
type Candidate struct {
	Kind       string   `json:"kind"`
	Share      float64  `json:"share"`              // of the records that it reads
	Sure       float64  `json:"sure"`               // how sure it is, 0 to 1
	Begin      string   `json:"begin,omitempty"`    // how records of several lines begin
	Encoding   string   `json:"encoding,omitempty"` // how the bytes are characters; none for utf-8
	From       string   `json:"from,omitempty"`     // of the times that were read, RFC 3339
	To         string   `json:"to,omitempty"`
	NoZone     bool     `json:"noZone"` // the times have no zone: one must be chosen
	Levels     bool     `json:"levels"`
	Warnings   []string `json:"warnings"`
	Fields     []Field  `json:"fields"`
	Definition string   `json:"definition"` // YAML
}

// Field is what a field looks like over all records.
type Field struct {
	Name     string   `json:"name"`
	Type     string   `json:"type"`
	Share    float64  `json:"share"`
	Examples []string `json:"examples"`
}

// Guess ranks the ways to read a log, the best first.
// own are masks beside the detectors, whose data no sample should hold.
func Guess(
	log []byte,
	name, zone string,
	observed time.Time,
	own []*mask.Finder,
) (all []guess.Candidate, shown []Candidate) {
	all = guess.Guess(
		log,
		guess.Options{Zone: zone, Observed: observed, Name: name, Private: func(line []byte) []string {
			var out []string
			for _, f := range own {
				if len(f.Find(line, "")) > 0 {
					out = append(out, f.Name())
				}
			}
			return out
		}},
	)
	for _, c := range all {
		x := Candidate{
			Kind:       string(c.Spec.Kind),
			Share:      c.Share,
			Sure:       c.Sure(),
			Begin:      c.Begin,
			Encoding:   c.Encoding,
			NoZone:     c.NoZone,
			Levels:     c.Levels,
			Warnings:   append([]string{}, c.Warnings...),
			Fields:     []Field{},
			Definition: c.Definition(name, zone),
		}
		if !c.From.IsZero() {
			x.From, x.To = c.From.Format(time.RFC3339Nano), c.To.Format(time.RFC3339Nano)
		}
		for _, f := range c.Fields {
			x.Fields = append(x.Fields, Field{f.Name, f.Type, f.Share, append([]string{}, f.Examples...)})
		}
		shown = append(shown, x)
	}
	return all, shown
}

// Hit is private data of a log; never the data itself.
type Hit struct {
	Line     int      `json:"line"`  // from 1
	Start    int      `json:"start"` // in bytes from the line's start
	End      int      `json:"end"`   // likewise; beyond the line for a block of several lines
	Lines    int      `json:"lines"`
	Detector string   `json:"detector"` // or the mask of one's own
	Masks    []string `json:"masks"`    // that would take it
}

// Coverage is a source against every guard.
type Coverage struct {
	Source  string          `json:"source"`
	Guards  map[string]bool `json:"guards"` // each guard, and whether it covers the source
	Masks   []string        `json:"masks"`  // of those guards
	Own     []string        `json:"own"`    // of the source's own steps
	To      []string        `json:"to"`
	Covered bool            `json:"covered"`
	// it needs no mask: nothing masks it, and its label data says none
	None bool `json:"none"`
}

// Covered holds every source against every guard: those first that nothing masks and that do not say that they need
// none.
func Covered(cat *catalogue.Catalogue) (list []Coverage, guards []string) {
	guards = append([]string{}, cat.Names("guard")...)
	list = []Coverage{}
	for _, c := range cat.Coverage() {
		x := Coverage{
			Source:  c.Source.Name,
			Guards:  map[string]bool{},
			Masks:   append([]string{}, c.Masks...),
			Own:     append([]string{}, c.Own...),
			To:      append([]string{}, c.To...),
			Covered: len(c.Masks)+len(c.Own) > 0,
		}
		x.None = !x.Covered && c.Source.Source.Labels["data"] == "none"
		for _, g := range guards {
			x.Guards[g] = slices.ContainsFunc(c.Guards, func(d *catalogue.Definition) bool { return d.Name == g })
		}
		list = append(list, x)
	}
	rank := func(c Coverage) int {
		switch {
		case c.Covered:
			return 2
		case c.None:
			return 1
		}
		return 0
	}
	slices.SortStableFunc(list, func(a, b Coverage) int {
		return cmp.Or(rank(a)-rank(b), strings.Compare(a.Source, b.Source))
	})
	return list, guards
}

// Finders makes the masks of a catalogue ready.
func Finders(cat *catalogue.Catalogue) ([]*mask.Finder, error) {
	var out []*mask.Finder
	for _, name := range cat.Names("mask") {
		spec, _ := cat.Mask(name)
		f, err := spec.Finder()
		if err != nil {
			return nil, fmt.Errorf("mask %s: %w", name, err)
		}
		out = append(out, f)
	}
	return out, nil
}
