// Package guess finds out how a log is written: it tries the formats that exist, proposes a template where none fits, and
// tells how sure it is. What it proposes is run by the very code that hosts run.
package guess

import (
	"bytes"
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// MaxLines bounds the lines that are looked at.
const MaxLines = 10_000

// Field is what a field looks like over all records.
type Field struct {
	Name, Type string
	Examples   []string
	Share      float64 // of the records that have it
}

// Candidate is one way to read a log.
type Candidate struct {
	Spec     format.Spec
	Begin    string  // how records of several lines begin; "" when each line is one
	Share    float64 // of the records that are read, 0 to 1
	Score    float64 // by which candidates are ranked
	Fields   []Field
	From, To time.Time // of the times that were read; zero when there are none
	NoZone   bool      // times have no zone: one must be chosen; until then they are read as UTC
	Levels   bool      // levels were read
	Warnings []string
	Records  []pipeline.Tried
	heads    int // lines that begin with # and are not read
}

// Sure tells how sure the candidate is, 0 to 1.
func (c *Candidate) Sure() float64 { return min(1, c.Score) }

// Options of a guess.
type Options struct {
	Zone     string // of times that have none
	Observed time.Time
	Name     string // of the definition that is proposed
}

// prior is how much a format is worth that reads all lines: what says more of them is worth more.
var prior = map[string]float64{"json": 1, "web-combined": 1, "syslog": 0.97, "web-common": 0.95, "keyvalue": 0.9, "csv": 0.93, "template": 0.85, "raw": 0.2}

// Guess ranks the ways to read a log, the best first. There is always one: raw.
func Guess(data []byte, o Options) []Candidate {
	data = head(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")))
	if o.Name == "" {
		o.Name = "guessed"
	}
	lines := bytes.Split(bytes.TrimRight(data, "\r\n"), []byte{'\n'})
	begin := beginning(lines)
	var out []Candidate
	try := func(spec format.Spec, begin string) {
		if c, ok := candidate(spec, begin, data, o); ok {
			out = append(out, c)
		}
	}
	for _, kind := range []string{"json", "web-combined", "web-common", "syslog", "keyvalue", "raw"} {
		spec, _ := format.BuiltIn(kind)
		try(spec, "")
		if begin != "" && (kind == "syslog" || kind == "raw" || kind == "json") {
			try(spec, begin)
		}
	}
	for _, spec := range tables(lines) {
		try(spec, "")
	}
	for _, spec := range templates(lines, "") {
		try(spec, "")
	}
	if begin != "" {
		for _, spec := range templates(lines, begin) {
			try(spec, begin)
		}
	}
	slices.SortStableFunc(out, func(a, b Candidate) int { return cmp.Compare(b.Score, a.Score) })
	return out
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

func candidate(spec format.Spec, begin string, data []byte, o Options) (Candidate, bool) {
	spec.Name = o.Name
	t, err := pipeline.Compile(pipeline.Source{Begin: begin, Time: format.Time{Zone: o.Zone}}, spec, pipeline.Parts{})
	if err != nil {
		return Candidate{}, false
	}
	records, counts := t.Try(data, o.Observed)
	if counts.Read == 0 {
		return Candidate{}, spec.Kind == "raw"
	}
	if o.Zone == "" && slices.ContainsFunc(records, func(r pipeline.Tried) bool { return r.TimeNote == record.TimeNoZone }) {
		asUTC(records, spec, begin, data, o.Observed)
	}
	heads := 0
	for _, r := range records {
		if !r.Read && strings.HasPrefix(r.Original, "#") && spec.Kind != "raw" {
			heads++ // names of columns and the like: no format of records takes them
		}
	}
	if heads*2 > len(records) {
		heads = 0
	}
	c := Candidate{Spec: spec, Begin: begin, Records: records, Share: float64(counts.Read-counts.Unparsed) / float64(counts.Read), heads: heads}
	c.look()
	if spec.Kind == "syslog" && c.notSyslog() || spec.Kind == "csv" && len(spec.Columns) == 0 && c.Share < 0.9 {
		return Candidate{}, false
	}
	// A plain answer that reads all lines is worth more than a rich one that reads half.
	of := float64(counts.Read-counts.Unparsed) / float64(counts.Read-int64(heads))
	c.Score = of * of * of * prior[spec.Kind]
	if begin != "" {
		c.Score *= 1.1
	}
	if !c.From.IsZero() {
		c.Score *= 1.05
	}
	if c.Levels {
		c.Score *= 1.02
	}
	c.warn()
	return c, c.Share > 0
}

// asUTC puts the times as they are written in place of the time of reading, with the note that they have no zone.
func asUTC(records []pipeline.Tried, spec format.Spec, begin string, data []byte, observed time.Time) {
	t, err := pipeline.Compile(pipeline.Source{Begin: begin, Time: format.Time{Zone: "UTC"}}, spec, pipeline.Parts{})
	if err != nil {
		return
	}
	again, _ := t.Try(data, observed)
	for i := range records {
		if records[i].TimeNote == record.TimeNoZone && i < len(again) {
			records[i].Time = again[i].Time
		}
	}
}

// look sums up what was read.
func (c *Candidate) look() {
	at := map[string]int{}
	read, seen := 0, map[string]int{}
	for _, r := range c.Records {
		if !r.Read {
			continue
		}
		read++
		switch r.TimeNote {
		case record.TimeGood, record.TimeGuessedYear, record.TimeNoZone:
			c.NoZone = c.NoZone || r.TimeNote == record.TimeNoZone
			if timed(r, c.Spec) {
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
			if text := fmt.Sprint(f.Value); len(c.Fields[i].Examples) < 3 && !slices.Contains(c.Fields[i].Examples, text) {
				c.Fields[i].Examples = append(c.Fields[i].Examples, text)
			}
		}
	}
	for i := range c.Fields {
		c.Fields[i].Share = float64(seen[c.Fields[i].Name]) / float64(max(read, 1))
	}
}

// timed tells whether the time of a record was read and is not that of the reading.
func timed(r pipeline.Tried, spec format.Spec) bool {
	if spec.Kind == "raw" {
		return false
	}
	if spec.Kind == "json" || spec.Kind == "keyvalue" {
		return slices.ContainsFunc(r.Fields, func(f pipeline.TriedField) bool {
			return slices.Contains([]string{"time", "timestamp", "ts", "@timestamp", "datetime"}, f.Name)
		})
	}
	return spec.Kind != "template" && spec.Kind != "csv" || spec.Time.Field != "" || strings.Contains(spec.Template, ":time}")
}

// levelWord tells whether a program writes this for a level; no host is called so.
func levelWord(w string) bool {
	return record.ParseLevel(w) != 0 || strings.EqualFold(w, "fine") || strings.EqualFold(w, "log")
}

// notSyslog tells whether lines without a priority only look like syslog, since their hosts are levels, or many.
func (c *Candidate) notSyslog() bool {
	hosts := map[string]bool{}
	bare, tagged := 0, 0
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
		}
	}
	return bare > 0 && (len(hosts) > 3+bare/20 || tagged*2 < bare)
}

func (c *Candidate) warn() {
	if c.NoZone {
		c.Warnings = append(c.Warnings, "the times have no zone: choose one")
	}
	if c.Share < 1 {
		warning := fmt.Sprintf("%.0f%% of the records are not read", 100*(1-c.Share))
		if c.heads > 0 {
			warning += fmt.Sprintf(" (%d of them begin with #)", c.heads)
		}
		c.Warnings = append(c.Warnings, warning)
	}
	if c.From.IsZero() && !c.NoZone {
		c.Warnings = append(c.Warnings, "no time was found in the records; the time of reading stands in")
	}
}

// stampPrefix is what may stand before a time at the beginning of a line.
var stampPrefix = regexp.MustCompile(`^(?:[\[(<*#=|-]{1,3} ?|[A-Z]+ ?[\[:] ?|[A-Z]{4,8} {1,2})?`)

// stampAt finds a time at the beginning of a line: what stands before it, and its length.
func stampAt(line []byte) (before, n int, ok bool) {
	for _, p := range []int{0, len(stampPrefix.Find(line))} {
		if n, ok := format.Recognise(line[p:]); ok {
			return p, n, true
		}
	}
	return 0, 0, false
}

// beginning finds how records of several lines begin: with a time, where the lines between look like what goes on.
func beginning(lines [][]byte) string {
	if len(lines) < 3 {
		return ""
	}
	stamped, going, other := 0, 0, 0
	var first []byte
	for _, l := range lines {
		p, n, ok := stampAt(l)
		switch {
		case len(bytes.TrimSpace(l)) == 0: // belongs to anything
		case ok:
			if stamped++; first == nil {
				first = l[:p+min(n, 10)]
			}
		case l[0] == ' ' || l[0] == '\t' || goesOn.Match(l):
			going++
		default:
			other++
		}
	}
	if stamped < 2 || going+other == 0 || going*3 < other {
		return ""
	}
	var b strings.Builder
	b.WriteByte('^')
	for _, c := range string(first) {
		switch {
		case c >= '0' && c <= '9':
			b.WriteString(`\d`)
		case c >= 'A' && c <= 'Z':
			b.WriteString(`[A-Z]`)
		case c >= 'a' && c <= 'z':
			b.WriteString(`[a-z]`)
		default:
			b.WriteString(regexp.QuoteMeta(string(c)))
		}
	}
	return b.String()
}

// goesOn is how lines begin that belong to the record before.
var goesOn = regexp.MustCompile(`^(?:at |Caused by|\.\.\. \d+ more|Traceback |File "|goroutine \d|[a-zA-Z_.]+(?:Exception|Error)\b|[})\]]|--+|==+$|\|)`)
