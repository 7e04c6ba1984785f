package api

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/series"
	past "synaxis/internal/service/numbers"
)

// wholes are the numbers that are told as a share, and of what.
var wholes = map[string]string{series.Unparsed: series.Read, series.Dropped: series.Read, series.Masked: series.Read,
	series.NoZone: series.Read}

// How long before a shift something may have come that brought it, and how long after it by the length of steps.
const (
	cameBefore = 15 * time.Minute
	cameAfter  = 2 // steps
)

// ExplainNumbers tells where a number changes.
func (a *API) ExplainNumbers(
	ctx context.Context, r contract.ExplainNumbersRequestObject,
) (contract.ExplainNumbersResponseObject, error) {
	p := r.Params
	q, err := a.question(contract.GetNumbersParams{Number: &[]string{p.Number}, Source: p.Source,
		Destination: p.Destination, Hosts: p.Hosts, Since: p.Since, From: p.From, To: p.To})
	if err != nil {
		return nil, err
	}
	whole := wholes[strings.SplitN(p.Number, ":", 2)[0]]
	if whole != "" {
		q.Numbers = append(q.Numbers, whole)
	}
	all, err := a.Numbers.Ask(ctx, q)
	if err != nil {
		return nil, err
	}
	out := contract.ExplainNumbers200JSONResponse{Number: p.Number, Share: whole != "", Hosts: []string{},
		Common: []contract.CommonLabel{}, Marks: []contract.NumberMark{}}
	line, known := heights(all, "", p.Number, whole)
	shift, ok := series.FindShift(line, known)
	if !ok {
		out.Words = fmt.Sprintf("%s goes as it went", p.Number)
		return out, nil
	}
	at := all.Start.Add(time.Duration(shift.At) * all.Step)
	out.Changes, out.At, out.Before, out.After = true, &at, shift.Before, shift.After
	q.By = "host"
	each, err := a.Numbers.Ask(ctx, q)
	if err != nil {
		return nil, err
	}
	labels, changed := map[string]map[string]string{}, map[string]bool{}
	for _, l := range each.Lines {
		if l.Number != p.Number || labels[l.Group] != nil {
			continue
		}
		row, _ := a.Inventory.Get(l.Group)
		labels[l.Group] = row.Labels
		if labels[l.Group] == nil {
			labels[l.Group] = map[string]string{}
		}
		line, known := heights(each, l.Group, p.Number, whole)
		before, after, ok := series.Around(line, known, shift.At)
		if ok && alike(before, after, shift) {
			changed[l.Group] = true
			out.Hosts = append(out.Hosts, l.Group)
		}
	}
	out.Of = len(labels)
	slices.Sort(out.Hosts)
	for _, c := range series.FindCommon(labels, changed) {
		out.Common = append(out.Common, contract.CommonLabel{Label: c.Label, Value: c.Value, Changed: c.Changed,
			All: c.All})
	}
	if out.Marks, err = a.before(ctx, at, all.Step, changed); err != nil {
		return nil, err
	}
	out.Words = explained(out)
	out.Hosts = out.Hosts[:min(len(out.Hosts), manyHosts)]
	return out, nil
}

// heights are a number of a group in each step: as a share of another, or as so many an hour.
func heights(a past.Answer, group, number, whole string) (line []float64, known []bool) {
	find := func(number string) *past.Line {
		for i, l := range a.Lines {
			if l.Group == group && l.Number == number {
				return &a.Lines[i]
			}
		}
		return nil
	}
	l, of := find(number), find(whole)
	line, known = make([]float64, a.Steps), make([]bool, a.Steps)
	if l == nil || whole != "" && of == nil {
		return line, known
	}
	last := a.Steps - 1 // the step that is under way says too little
	for i := range last {
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

// alike tells whether a host changed as all did: in the same direction, and by half as much for its own size at least.
func alike(before, after float64, all series.Shift) bool {
	up := all.After > all.Before
	if (after > before) != up || after == before {
		return false
	}
	relative := func(before, after float64) float64 {
		return math.Abs(after-before) / max(math.Abs(before), math.Abs(after))
	}
	return relative(before, after) >= relative(all.Before, all.After)/2
}

// before is what came shortly before a shift, the nearest first.
func (a *API) before(
	ctx context.Context, at time.Time, step time.Duration, changed map[string]bool,
) ([]contract.NumberMark, error) {
	q := past.Question{From: at.Add(-cameBefore), To: at.Add(cameAfter * step)}
	marks, err := a.marks(ctx, q)
	if err != nil {
		return nil, err
	}
	const few = 3
	for i, host := range slices.Sorted(maps.Keys(changed)) {
		if i == few {
			break
		}
		q.Hosts = map[string]bool{host: true}
		own, err := a.marks(ctx, q)
		if err != nil {
			return nil, err
		}
		for _, m := range own {
			m.Words = host + ": " + m.Words
			marks = append(marks, m)
		}
	}
	slices.SortStableFunc(marks, func(x, y contract.NumberMark) int {
		return cmp.Compare(x.At.Sub(at).Abs(), y.At.Sub(at).Abs())
	})
	return marks[:min(len(marks), 10)], nil
}

// explained tells it in words.
func explained(e contract.ExplainNumbers200JSONResponse) string {
	show := func(v float64) string {
		if e.Share {
			return fmt.Sprintf("%.1f %%", v*100)
		}
		return fmt.Sprintf("%.0f", v)
	}
	unit := " an hour"
	switch {
	case e.Share:
		unit = " of the records"
	case series.IsLevel(e.Number):
		unit = ""
	}
	words := fmt.Sprintf("%s went from %s to %s%s at %s, on %d of %d hosts", e.Number, show(e.Before), show(e.After),
		unit, e.At.UTC().Format("2006-01-02 15:04:05 UTC"), len(e.Hosts), e.Of)
	if len(e.Common) > 0 {
		words += fmt.Sprintf(", those with %s=%s", e.Common[0].Label, e.Common[0].Value)
	}
	return words
}
