package guess

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
)

// zoned is the layout of times that all say their zone and are written in one way, so that the definition itself shows
// that no zone need be named; "" where they are not.
func zoned(spec format.Spec, records []pipeline.Tried, observed time.Time) string {
	if spec.Time.Field == "" || spec.Time.Layout != "" ||
		!slices.Contains([]format.Kind{format.Template, format.CSV, format.Regex}, spec.Kind) {
		return ""
	}
	layout := ""
	for _, r := range records {
		if !timed(r, observed) {
			continue
		}
		k := slices.IndexFunc(r.Fields, func(f pipeline.TriedField) bool { return f.Name == spec.Time.Field })
		if k < 0 {
			return ""
		}
		one := layoutOf(fmt.Sprint(r.Fields[k].Value))
		if one == "" || layout != "" && one != layout {
			return ""
		}
		layout = one
	}
	return layout
}

// layoutOf writes a stamp that says its zone as a layout, where it is of a usual shape.
func layoutOf(stamp string) string {
	for _, s := range zonedStamps {
		m := s.re.FindStringSubmatch(stamp)
		if m == nil {
			continue
		}
		layout := s.layout
		for i, part := range m[1:] {
			spot := fmt.Sprintf("$%d", i+1)
			switch {
			case strings.Trim(part, "0123456789") == "" && part != "": // a fraction
				part = "%f"
			case len(part) > 1 && strings.IndexByte("+-", part[0]) >= 0 || part == "Z":
				part = "%z"
			case len(part) > 1:
				part = "%Z"
			}
			layout = strings.Replace(layout, spot, part, 1)
		}
		return layout
	}
	return ""
}

// zonedStamps are such shapes. A group is one mark, the digits of a fraction, or a zone.
var zonedStamps = []struct {
	re     *regexp.Regexp
	layout string
}{
	{
		regexp.MustCompile(`^\d{4}-\d\d-\d\d([T ])\d\d:\d\d:\d\d( ?)(Z|[+-]\d\d:?\d\d|[A-Z]{3,4})$`),
		"%Y-%m-%d$1%H:%M:%S$2$3",
	},
	{
		regexp.MustCompile(`^\d{4}-\d\d-\d\d([T ])\d\d:\d\d:\d\d([.,])(\d+)( ?)(Z|[+-]\d\d:?\d\d|[A-Z]{3,4})$`),
		"%Y-%m-%d$1%H:%M:%S$2$3$4$5",
	},
	{regexp.MustCompile(`^\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d ([+-]\d{4})$`), "%d/%b/%Y:%H:%M:%S $1"},
	{
		regexp.MustCompile(`^[A-Z][a-z]{2}, \d\d? [A-Z][a-z]{2} \d{4} \d\d:\d\d:\d\d ([+-]\d{4}|[A-Z]{3,4})$`),
		"%a, %d %b %Y %H:%M:%S $1",
	},
	{
		regexp.MustCompile(`^[A-Z][a-z]{2} [A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d ([A-Z]{3,4}) \d{4}$`),
		"%a %b %e %H:%M:%S $1 %Y",
	},
}

// sameTimes tells whether two readings of a log give the same times.
func sameTimes(a, b []pipeline.Tried) bool {
	return slices.EqualFunc(a, b, func(x, y pipeline.Tried) bool {
		return x.Read == y.Read && x.Time.Equal(y.Time) && x.TimeNote == y.TimeNote
	})
}
