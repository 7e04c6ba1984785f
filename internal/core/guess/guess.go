// Package guess finds out how a log is written: it tries the formats that exist, proposes a template where none fits,
// and tells how sure it is. What it proposes is run by the very code that hosts run.
package guess

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/format"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// MaxLines bounds the lines that are looked at.
const MaxLines = 10_000

// Candidate is one way to read a log.
type Candidate struct {
	Spec     format.Spec
	Begin    string  // how records of several lines begin; "" when each line is one
	Encoding string  // how the bytes are characters; "" for utf-8
	Share    float64 // of the records that are read, 0 to 1
	Score    float64 // by which candidates are ranked
	Fields   []Field
	From, To time.Time // of the times that were read; zero when there are none
	NoZone   bool      // times have no zone: one must be chosen; until then they are read as UTC
	Levels   bool      // levels were read
	Warnings []string
	Records  []pipeline.Tried
	Parts    []format.Spec // of a first-of, which it names
	private  func(line []byte) []string
	heads    int    // lines that name columns, or begin with #, and are not read
	dated    int    // records whose time has a day
	clocks   int    // records that have but a time of day
	leaves   string // an example of what is in no field
	errors   bool   // the records that are not read are mostly errors
}

// Sure tells how sure the candidate is, 0 to 1.
func (c *Candidate) Sure() float64 { return min(1, c.Score) }

// tells whether a candidate says at least as much of a log as another.
func (c *Candidate) tells(x *Candidate) bool {
	return c.Share >= x.Share && (c.Levels || !x.Levels) &&
		(!c.From.IsZero() || c.NoZone || x.From.IsZero() && !x.NoZone)
}

// Options of a guess.
type Options struct {
	Zone     string // of times that have none
	Observed time.Time
	Name     string                     // of the definition that is proposed
	Private  func(line []byte) []string // what private data a line holds, beside what the detectors find; nil for none
}

// prior is how much a format is worth that reads all lines: what says more of them is worth more.
var prior = map[format.Kind]float64{
	"json":         1,
	"web-combined": 1,
	"syslog":       0.97,
	"web-common":   0.95,
	"cef":          0.99,
	"keyvalue":     0.9,
	"csv":          0.93,
	"template":     0.85,
	"regex":        0.9,
	"first-of":     0.82,
	"raw":          0.2,
}

// Guess ranks the ways to read a log, the best first. There is always one: raw. What is no text has no other.
func Guess(data []byte, o Options) []Candidate {
	encoding := lines.Detect(data)
	out := guess(head(lines.Text(data, encoding)), o)
	if !lines.IsText(data, encoding) {
		out = slices.DeleteFunc(out, func(c Candidate) bool { return c.Spec.Kind != "raw" || c.Begin != "" })
		out[0].Warnings = append([]string{lines.NotText}, out[0].Warnings...)
	}
	for i := range out {
		out[i].Encoding = encoding
	}
	return out
}

// guess is Guess for characters.
func guess(data []byte, o Options) []Candidate {
	if o.Name == "" {
		o.Name = "guessed"
	}
	lines := bytes.Split(bytes.TrimRight(data, "\r\n"), []byte{'\n'})
	begin := beginning(lines)
	var out []Candidate
	try := func(spec format.Spec, begin string, parts ...format.Spec) {
		if c, ok := candidate(spec, parts, begin, data, o); ok {
			out = append(out, c)
		}
	}
	for _, kind := range []string{"json", "web-combined", "web-common", "cef", "syslog", "keyvalue", "raw"} {
		spec, _ := format.BuiltIn(kind)
		try(spec, "")
		if begin != "" && (kind == "syslog" || kind == "raw" || kind == "json") {
			try(spec, begin)
		}
	}
	if whole(lines) {
		spec, _ := format.BuiltIn("json")
		try(spec, `^\{`)
	}
	for _, spec := range tables(lines) {
		try(spec, "")
	}
	objects, others := objectLines(lines)
	for _, b := range slices.Compact([]string{"", begin}) {
		specs := append(glued(others), proposals(others, b)...)
		for _, spec := range specs {
			try(spec, b)
		}
		if objects > 0 && b == "" {
			spec, _ := format.BuiltIn("json")
			specs = append(specs, spec)
		}
		if len(specs) > 1 {
			whole := format.Spec{Kind: "first-of"}
			for i := range specs {
				specs[i].Name = fmt.Sprintf("%s-%d", o.Name, i+1)
				whole.FirstOf = append(whole.FirstOf, specs[i].Name)
			}
			try(whole, b, specs...)
		}
	}
	for _, b := range slices.Compact([]string{"", begin}) {
		for _, spec := range barred(lines, b) { // which says less of the parts than what was found step by step
			c, ok := candidate(spec, nil, b, data, o)
			if ok &&
				!slices.ContainsFunc(out, func(x Candidate) bool { return x.Spec.Kind == "template" && x.tells(&c) }) {
				out = append(out, c)
			}
		}
	}
	if !slices.ContainsFunc(
		out,
		func(c Candidate) bool { return c.Share >= agree && (!c.From.IsZero() || c.NoZone) },
	) {
		for _, spec := range numbers(lines) {
			try(spec, "")
		}
	}
	rank(out)
	if !out[0].hasDates() {
		if parts := stamped(lines); len(parts) == 1 {
			try(parts[0], "")
		} else if len(parts) > 1 {
			whole := format.Spec{Kind: "first-of"}
			for i := range parts {
				parts[i].Name = fmt.Sprintf("%s-%d", o.Name, i+1)
				whole.FirstOf = append(whole.FirstOf, parts[i].Name)
			}
			try(whole, "", parts...)
		}
		rank(out)
	}
	if whole, b, parts, ok := out[0].withStrays(lines, o.Name); ok {
		if c, ok := candidate(whole, parts, b, data, o); ok && c.dated > out[0].dated {
			c.Score = max(c.Score, out[0].Score) // it reads what that reads, and more
			out = append(out, c)
			rank(out)
		}
	}
	if len(out) > 0 && out[0].Share >= agree &&
		out[0].Spec.Kind != "raw" { // what reads half is then no way to read it
		out = slices.DeleteFunc(out, func(c Candidate) bool { return c.Share < 0.6 })
	}
	return out
}

// rank puts the best first: what says when, then what says more, then what reads more records with a date.
func rank(out []Candidate) {
	slices.SortStableFunc(out, func(a, b Candidate) int {
		return cmp.Or(
			-compareBool(a.hasDates(), b.hasDates()),
			cmp.Compare(b.Score, a.Score),
			cmp.Compare(b.dated, a.dated),
		)
	})
}

// observedNever is a time of reading that no record has.
var observedNever = time.Unix(1, 1)

// hasDates tells whether most of the records have a date: an answer with none is of less use, however well it reads.
func (c *Candidate) hasDates() bool { return c.dated*2 > len(c.Records)-c.heads }

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// objectLines parts lines that are objects of JSON from the others, where both are there more than once and often
// enough.
func objectLines(lines [][]byte) (objects int, others [][]byte) {
	for _, l := range lines {
		if isObject(l) {
			objects++
		} else {
			others = append(others, l)
		}
	}
	if objects < 2 || objects*20 < len(lines) || len(others)*20 < len(lines) {
		return 0, lines
	}
	return objects, others
}

func isObject(line []byte) bool {
	line = bytes.TrimSpace(line)
	return len(line) > 2 && line[0] == '{' && line[len(line)-1] == '}' && json.Valid(line)
}

// whole tells whether objects of JSON stand on lines of their own, opened and closed at the margin.
func whole(lines [][]byte) bool {
	open, shut := 0, 0
	for _, l := range lines {
		switch l = bytes.TrimRight(l, " \r"); {
		case len(l) == 0, l[0] == ' ', l[0] == '\t':
		case len(l) == 1 && l[0] == '{':
			open++
		case len(l) == 1 && l[0] == '}':
			shut++
		default:
			return false
		}
	}
	return open > 1 && open-shut <= 1 && shut <= open
}

// head cuts a log after MaxLines.
func head(data []byte) []byte {
	n := 0
	for i, c := range data {
		if c == '\n' {
			if n++; n == MaxLines {
				return data[:i+1]
			}
		}
	}
	return data
}

// named finds the parts of a first-of.
func named(parts []format.Spec) pipeline.Parts {
	return pipeline.Parts{Formats: func(name string) (format.Spec, bool) {
		i := slices.IndexFunc(parts, func(p format.Spec) bool { return p.Name == name })
		if i < 0 {
			return format.BuiltIn(name)
		}
		return parts[i], true
	}}
}

func candidate(spec format.Spec, parts []format.Spec, begin string, data []byte, o Options) (Candidate, bool) {
	spec.Name = o.Name
	run := func() (records []pipeline.Tried, counts pipeline.Counts, ok bool) {
		t, err := pipeline.Compile(pipeline.Source{Begin: begin, Time: format.Time{Zone: o.Zone}}, spec, named(parts))
		if err != nil {
			return nil, counts, false
		}
		records, counts = t.Try(data, o.Observed)
		return records, counts, true
	}
	records, counts, ok := run()
	if !ok {
		return Candidate{}, false
	}
	if counts.Read == 0 {
		return Candidate{}, spec.Kind == "raw"
	}
	if (spec.Kind == "json" || spec.Kind == "keyvalue") && infer(&spec, records) {
		if records, counts, ok = run(); !ok {
			return Candidate{}, false
		}
	}
	if layouts := ways(spec, records); len(layouts) > 0 {
		best, most, nearest := "", -1, time.Duration(0)
		for _, l := range layouts {
			spec.Time.Layout = l
			again, _, ok := run()
			n, last := 0, time.Time{}
			for _, r := range again {
				if r.Read && r.TimeNote != record.TimeUnreadable {
					n, last = n+1, r.Time
				}
			}
			if gap := o.Observed.Sub(last).Abs(); ok && (n > most || n == most && gap < nearest) {
				best, most, nearest = l, n, gap
			}
		}
		spec.Time.Layout = best
		if records, counts, ok = run(); !ok {
			return Candidate{}, false
		}
	}
	if layout := zoned(spec, records, o.Observed); layout != "" {
		with := spec
		with.Time.Layout = layout
		was := spec
		spec = with
		if again, n, ok := run(); ok && n.Unparsed <= counts.Unparsed && sameTimes(again, records) {
			records, counts = again, n
		} else {
			spec = was
		}
	}
	if o.Zone == "" &&
		slices.ContainsFunc(records, func(r pipeline.Tried) bool { return r.TimeNote == record.TimeNoZone }) {
		asUTC(records, spec, parts, begin, data, o.Observed)
	}
	heads := 0
	for _, r := range records {
		if !r.Read && (strings.HasPrefix(r.Original, "#") && spec.Kind != "raw" || spec.Kind == "csv" && r.Line == 1) {
			heads++ // names of columns and the like: no format of records takes them
		}
	}
	if heads*2 > len(records) && spec.Kind != "csv" {
		heads = 0
	}
	c := Candidate{
		Spec:    spec,
		Parts:   parts,
		private: o.Private,
		Begin:   begin,
		Records: records,
		Share:   float64(counts.Read-counts.Unparsed) / float64(counts.Read),
		heads:   heads,
	}
	c.look(o.Observed)
	if spec.Kind == "syslog" && c.notSyslog() || spec.Kind == "csv" && len(spec.Columns) == 0 && c.Share < 0.9 {
		return Candidate{}, false
	}
	// A plain answer that reads all lines is worth more than a rich one that reads half.
	of := float64(counts.Read-counts.Unparsed) / float64(counts.Read-int64(heads))
	c.Score = of * of * of * prior[spec.Kind]
	if begin != "" {
		c.Score *= 1.1
	}
	if spec.Kind == "csv" && c.From.IsZero() && !c.NoZone { // columns by chance
		c.Score *= 0.8
	}
	if !c.From.IsZero() {
		c.Score *= 1.05
	}
	if c.Levels {
		c.Score *= 1.02
	}
	if c.leaves = leavesOut(spec.Kind, records); c.leaves != "" {
		c.Score *= 0.9
	}
	if c.errors = onlyErrors(records) && spec.Kind != "raw"; c.errors {
		c.Score *= 0.8
	}
	c.warn()
	return c, c.Share > 0
}

// look sums up what was read.
func (c *Candidate) look(observed time.Time) {
	at := map[string]int{}
	read, seen := 0, map[string]int{}
	for _, r := range c.Records {
		if !r.Read {
			continue
		}
		read++
		if timed(r, observed) {
			c.NoZone = c.NoZone || r.TimeNote == record.TimeNoZone
			if r.TimeNote == record.TimeGuessedDate {
				c.clocks++
			} else {
				c.dated++
				if c.From.IsZero() || r.Time.Before(c.From) {
					c.From = r.Time
				}
				if r.Time.After(c.To) {
					c.To = r.Time
				}
			}
		}
		c.Levels = c.Levels || r.Level != ""
		for _, f := range r.Fields {
			i, ok := at[f.Name]
			if !ok {
				i = len(c.Fields)
				at[f.Name] = i
				c.Fields = append(c.Fields, Field{Name: f.Name, Type: f.Type})
			}
			seen[f.Name]++
			if c.Fields[i].Type != f.Type {
				c.Fields[i].Type = "text"
			}
			if text := fmt.Sprint(f.Value); len(c.Fields[i].Examples) < 3 &&
				!slices.Contains(c.Fields[i].Examples, text) {
				c.Fields[i].Examples = append(c.Fields[i].Examples, text)
			}
		}
	}
	for i := range c.Fields {
		c.Fields[i].Share = float64(seen[c.Fields[i].Name]) / float64(max(read, 1))
	}
}

// timed tells whether the time of a record was read and is not that of the reading.
func timed(r pipeline.Tried, observed time.Time) bool {
	return r.Read && r.TimeNote != record.TimeUnreadable && (r.TimeNote != record.TimeGood || !r.Time.Equal(observed))
}

// levelWord tells whether a program writes this for a level; no host is called so.
func levelWord(w string) bool {
	return len(w) > 2 && record.ParseLevel(w) != 0 || strings.EqualFold(w, "fine") || strings.EqualFold(w, "log")
}

// notSyslog tells whether lines without a priority only look like syslog, since their hosts are levels, or many.
func (c *Candidate) notSyslog() bool {
	hosts := map[string]bool{}
	bare, tagged, odd := 0, 0, 0
	for _, r := range c.Records {
		if !r.Read {
			continue
		}
		priority := false
		for _, f := range r.Fields {
			text, _ := f.Value.(string)
			switch f.Name {
			case "syslog.facility":
				priority = true
			case "syslog.hostname":
				if levelWord(text) || strings.Contains(text, "%") {
					return true
				}
				hosts[text] = true
			case "syslog.appname":
				if levelWord(text) {
					return true
				}
				tagged++
			}
		}
		if !priority {
			bare++
			if !syslogStart.MatchString(r.Original) {
				odd++
			}
		}
	}
	return bare > 0 &&
		(odd*2 > bare || len(hosts) > 3+bare/20 || tagged*2 < bare && (!hostLike(hosts) || !strings.ContainsAny(
			c.Records[0].Original[:min(1, len(c.Records[0].Original))], "ABCDEFGHIJKLMNOPQRSTUVWXYZ<")))
}

// hostLike tells whether there is one host, and its name is of the kind that hosts have.
func hostLike(hosts map[string]bool) bool {
	for h := range hosts {
		if len(hosts) == 1 && strings.ContainsAny(h, "-.0123456789") && strings.Trim(h, "0123456789") != "" {
			return true
		}
	}
	return false
}

// syslogStart is how lines begin that syslog daemons write to files: by RFC 3164, or with a time of RFC 3339.
var syslogStart = regexp.MustCompile(`^(?:[A-Z][a-z]{2} +\d{1,2} \d\d:|\d{4}-\d{2}-\d{2}T)`)

func (c *Candidate) warn() {
	if c.NoZone {
		c.Warnings = append(c.Warnings, "the times have no zone: choose one")
	}
	if c.Share < 1 {
		warning := fmt.Sprintf("%.0f%% of the records are not read", 100*(1-c.Share))
		if missed := int(math.Round((1 - c.Share) * float64(len(c.Records)))); c.Share > 0.99 {
			warning = fmt.Sprintf("%d of %d records are not read", missed, len(c.Records))
			if missed == 1 {
				warning = fmt.Sprintf("1 of %d records is not read", len(c.Records))
			}
		}
		if c.heads > 0 {
			warning += map[bool]string{true: " (one is a head)", false: fmt.Sprintf(" (%d are heads)",
				c.heads)}[c.heads == 1]
		}
		c.Warnings = append(c.Warnings, warning)
	}
	if c.errors {
		c.Warnings = append(c.Warnings, "the records that are not read are mostly those of errors")
	}
	if c.leaves != "" {
		c.Warnings = append(
			c.Warnings,
			fmt.Sprintf("a part of the records is in no field, such as %q; a template can hold it", shorten(c.leaves)),
		)
	}
	field := c.Spec.Time.Field
	switch {
	case c.dated > 0:
	case c.clocks > 0:
		c.Warnings = append(c.Warnings, "the records have a time of day and no date; the day of reading stands in")
	case field != "" || strings.Contains(c.Spec.Template, ":time}"):
		c.Warnings = append(c.Warnings, "the times in the records could not be read; the time of reading stands in")
	default:
		c.Warnings = append(c.Warnings, "no time was found in the records; the time of reading stands in")
	}
}

// shorten cuts a text for a sentence.
func shorten(text string) string {
	if r := []rune(text); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return text
}

// glued proposes an expression for lines whose head has no separators between level, date and what else stands there.
func glued(lines [][]byte) []format.Spec {
	for _, g := range gluedHeads {
		n := 0
		for _, l := range lines {
			if g.start.Match(l) {
				n++
			}
		}
		if n < 2 || n*2 < len(lines) {
			continue
		}
		return []format.Spec{
			{
				Kind:   "regex",
				Regex:  g.expression,
				Fields: g.fields,
				Time:   format.Time{Field: "ts", Layout: g.layout},
				Level:  format.Level{Field: "level"},
				Body:   "message",
			},
		}
	}
	return nil
}

// gluedHeads are such heads: the letter of a level with a date right behind it; and a bracket of numbers, a date
// without separators, level and source.
var gluedHeads = []struct {
	start              *regexp.Regexp
	expression, layout string
	fields             map[string]string
}{
	{regexp.MustCompile(`^[A-Z]\d{4} \d\d:\d\d:\d\d(?:\.\d+)?\s+\d+\s+[^\]\s]+\]`),
		`(?s)^(?P<level>[A-Z])(?P<ts>\d{4} \d\d:\d\d:\d\d(?:\.\d+)?)\s+(?P<thread>\d+)\s+(?P<source>[^\]\s]+)\]\s?(?P<message>.*)$`, "", map[string]string{"thread": "int"}},
	{regexp.MustCompile(`^\[\d+:\d+:\d{4}/\d{6}\.\d+:[A-Z]+\d*:[^\]]+\]`),
		`(?s)^\[(?P<pid>\d+):(?P<thread>\d+):(?P<ts>\d{4}/\d{6}\.\d+):(?P<level>[A-Z]+)\d*:(?P<source>[^\]]+)\]\s?(?P<message>.*)$`, "%m%d/%H%M%S.%f", map[string]string{"pid": "int", "thread": "int"}},
}

// timedBy tells whether a record has a time of its own.
func timedBy(r pipeline.Tried) bool {
	return slices.ContainsFunc(r.Fields, func(f pipeline.TriedField) bool {
		return slices.Contains([]string{"time", "timestamp", "ts", "@timestamp", "datetime"}, f.Name) ||
			f.Name == "msg" && strings.HasPrefix(fmt.Sprint(f.Value), "audit(")
	})
}
