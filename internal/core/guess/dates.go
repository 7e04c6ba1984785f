package guess

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

var manyWays = regexp.MustCompile(`^\d{1,2}([/-])\d{1,2}[/-](\d{4}|\d{2})([ T])\d{1,2}:\d\d:\d\d(?:([.,])\d+)?$`)

// clockBefore is the same with the clock first; its groups have the same meanings in another order of the text.
var clockBefore = swapped{
	regexp.MustCompile(`^\d{1,2}:\d\d:\d\d(?:([.,])\d+)?( )\d{1,2}([/-])\d{1,2}[/-](\d{4}|\d{2})$`),
}

var twoWays = regexp.MustCompile(`^\d\d([./])\d\d([ T-])\d\d:\d\d:\d\d(?:([.,])\d+)?$`)

// ways are the layouts by which a date of digits could be meant that is written in one of several orders, such as
// 04/02/31: what fits all lines, and lies nearest, is taken.
func ways(spec format.Spec, records []pipeline.Tried) []string {
	if spec.Time.Field == "" || spec.Time.Layout != "" {
		return nil
	}
	var out []string
	for i, r := range records {
		if !r.Read {
			continue
		}
		k := slices.IndexFunc(r.Fields, func(f pipeline.TriedField) bool { return f.Name == spec.Time.Field })
		if k < 0 {
			return nil
		}
		text := fmt.Sprint(r.Fields[k].Value)
		m := manyWays.FindStringSubmatch(text)
		short := m == nil
		if short {
			m = twoWays.FindStringSubmatch(text)
		}
		last := m == nil
		if last {
			m = clockBefore.FindStringSubmatch(text)
		}
		if m == nil {
			return nil
		}
		if out != nil || i > 1000 {
			continue
		}
		if short && !last {
			clock := m[2] + "%H:%M:%S"
			if m[3] != "" {
				clock += m[3] + "%f"
			}
			out = append(out, "%d"+m[1]+"%m"+clock, "%m"+m[1]+"%d"+clock)
			continue
		}
		sep, clock := m[1], "%H:%M:%S"
		if m[4] != "" {
			clock += m[4] + "%f"
		}
		if before := m[3] + clock; !last {
			clock = before
		}
		orders := []string{"%m", "%d", "%Y", "%d", "%m", "%Y"}
		if len(m[2]) == 2 {
			orders = []string{"%y", "%m", "%d", "%m", "%d", "%y", "%d", "%m", "%y"}
		}
		for o := range slices.Chunk(orders, 3) {
			if date := strings.Join(o, sep); last {
				out = append(out, clock+m[3]+date)
			} else {
				out = append(out, date+clock)
			}
		}
	}
	return out
}

// swapped is an expression for a clock before its date.
type swapped struct{ re *regexp.Regexp }

// FindStringSubmatch answers as manyWays does: separator, year, what stands between, mark of the fraction.
func (s swapped) FindStringSubmatch(text string) []string {
	m := s.re.FindStringSubmatch(text)
	if m == nil {
		return nil
	}
	return []string{m[0], m[3], m[4], m[2], m[1]}
}

// asUTC puts the times as they are written in place of the time of reading, with the note that they have no zone.
func asUTC(
	records []pipeline.Tried,
	spec format.Spec,
	parts []format.Spec,
	begin string,
	data []byte,
	observed time.Time,
) {
	t, err := pipeline.Compile(pipeline.Source{Begin: begin, Time: format.Time{Zone: "UTC"}}, spec, named(parts))
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
