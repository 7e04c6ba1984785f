package pipeline

import (
	"bytes"
	"math"
	"strconv"
	"time"

	"synaxis/internal/core/record"
)

// Tried is one record that a treatment made of a log: where it stood, and what was read.
type Tried struct {
	Line, Lines int // its first line, from 1, and how many there are
	Read        bool
	Time        time.Time
	TimeNote    record.TimeNote
	Level       string
	Body        string
	Original    string
	Fields      []TriedField
	Truncated   bool
}

// TriedField is a field with its value: a string, int64, float64 or bool, or JSON for lists and objects.
type TriedField struct {
	Name, Type string
	Value      any
}

// JSON is a value that is JSON already.
type JSON []byte

// MarshalJSON gives the value as it is.
func (j JSON) MarshalJSON() ([]byte, error) { return j, nil }

// Try treats a whole log as the host would and tells what became of it, record by record. observed stands in for times that
// cannot be read.
func (t *Treatment) Try(data []byte, observed time.Time) ([]Tried, Counts) {
	var out []Tried
	var all Counts
	b := &record.Batch{}
	line, done, window := 1, 0, tryWindow
	for done < len(data) {
		b.Reset()
		end := min(done+window, len(data))
		b.Arena = append(b.Arena[:0], data[done:end]...)
		used, c := t.Run(b, int64(done), observed.UnixNano(), tryBatch, end == len(data))
		if used == 0 {
			if end == len(data) {
				break
			}
			window *= 2 // a record larger than that
			continue
		}
		window = tryWindow
		all.Add(c)
		from := done
		for i := range b.Records {
			r := &b.Records[i]
			text := data[from:r.End]
			for !t.raw { // lines without content that were skipped before it
				nl := bytes.IndexByte(text, '\n')
				if nl < 0 || nl+1 == len(text) || !blank(text[:nl]) {
					break
				}
				text = text[nl+1:]
				line++
			}
			n := bytes.Count(text, []byte{'\n'})
			lines := n
			if len(text) > 0 && text[len(text)-1] != '\n' {
				lines++
			}
			out = append(out, tried(b, r, line, lines, bytes.TrimRight(text, "\r\n")))
			line += n
			from = int(r.End)
		}
		line += bytes.Count(data[from:done+used], []byte{'\n'})
		done += used
	}
	return out, all
}

// tryBatch is how many records are made at a time.
const tryBatch = 1000

// tryWindow is how many bytes are copied for them, so that what a long log takes grows with its length and no faster.
const tryWindow = 1 << 20

func tried(b *record.Batch, r *record.Record, line, lines int, original []byte) Tried {
	x := Tried{Line: line, Lines: max(lines, 1), Read: r.Flags&record.Unparsed == 0, Time: time.Unix(0, r.Time).UTC(), TimeNote: r.TimeNote, Level: record.LevelName(r.Level),
		Body: string(b.Bytes(r.Body)), Original: string(original), Truncated: r.Flags&record.Truncated != 0}
	for _, v := range b.Fields(r) {
		f := TriedField{Name: b.Schema.Name(v.Slot)}
		switch v.Kind {
		case record.Int:
			f.Type, f.Value = "int", int64(v.Num)
		case record.Float:
			f.Type, f.Value = "float", math.Float64frombits(v.Num)
			if x := math.Float64frombits(v.Num); math.IsInf(x, 0) || math.IsNaN(x) { // JSON has no word for it
				f.Value = strconv.FormatFloat(x, 'g', -1, 64)
			}
		case record.Bool:
			f.Type, f.Value = "bool", v.Num != 0
		case record.JSON:
			f.Type, f.Value = "json", JSON(bytes.Clone(b.Bytes(v.Span)))
		default:
			f.Type, f.Value = "text", string(b.Bytes(v.Span))
		}
		x.Fields = append(x.Fields, f)
	}
	return x
}
