package numbers

import (
	"context"
	"slices"
	"strings"
	"time"

	"synaxis/internal/core/series"
)

// wholes are the numbers that are told as a share, and of what.
var wholes = map[string]string{series.Unparsed: series.Read, series.Dropped: series.Read, series.Masked: series.Read,
	series.NoZone: series.Read}

// Explained is where a number goes to another height.
type Explained struct {
	series.Shift
	Share  bool // heights are shares of the records, and not numbers an hour, or how much there is
	Began  time.Time
	Step   time.Duration
	Hosts  []string // on which it changed in the same way, by name
	Of     int      // how many hosts counted it
	Common []series.Common
}

// Explain finds where a number changes, and on which hosts; false where it goes as it went. The question's numbers and
// parting are its own.
func (n *Numbers) Explain(ctx context.Context, q Question, number string) (e Explained, ok bool, err error) {
	base, _, _ := strings.Cut(number, ":")
	whole := wholes[base]
	e.Share = whole != ""
	q.Numbers, q.By = []string{number}, ""
	if e.Share {
		q.Numbers = append(q.Numbers, whole)
	}
	all, err := n.Ask(ctx, q)
	if err != nil {
		return e, false, err
	}
	if e.Shift, ok = series.FindShift(heights(all, "", number, whole)); !ok {
		return e, false, nil
	}
	e.Began, e.Step = all.Start.Add(time.Duration(e.At)*all.Step), all.Step
	q.By = "host"
	each, err := n.Ask(ctx, q)
	if err != nil {
		return e, false, err
	}
	labels, changed := map[string]map[string]string{}, map[string]bool{}
	for _, l := range each.Lines {
		if l.Number != number {
			continue
		}
		labels[l.Group] = n.labels(l.Group)
		line, known := heights(each, l.Group, number, whole)
		if before, after, ok := series.Around(line, known, e.At); ok && e.Alike(before, after) {
			changed[l.Group] = true
			e.Hosts = append(e.Hosts, l.Group)
		}
	}
	slices.Sort(e.Hosts)
	e.Of, e.Common = len(labels), series.FindCommon(labels, changed)
	return e, true, nil
}

// heights are a number of a group in each step: as a share of another, or as so many an hour.
func heights(a Answer, group, number, whole string) (line []float64, known []bool) {
	find := func(number string) *Line {
		i := slices.IndexFunc(a.Lines, func(l Line) bool { return l.Group == group && l.Number == number })
		if i < 0 {
			return nil
		}
		return &a.Lines[i]
	}
	l, of := find(number), find(whole)
	line, known = make([]float64, a.Steps), make([]bool, a.Steps)
	if l == nil || whole != "" && of == nil {
		return line, known
	}
	for i := range a.Steps - 1 { // the step that is under way says too little
		switch known[i] = l.Heard[i]; {
		case whole != "":
			if known[i] = known[i] && of.Points[i] > 0; known[i] {
				line[i] = float64(l.Points[i]) / float64(of.Points[i])
			}
		case series.IsLevel(number):
			line[i] = float64(l.Points[i])
		default:
			line[i] = float64(l.Points[i]) * float64(time.Hour) / float64(a.Step)
		}
	}
	return line, known
}
