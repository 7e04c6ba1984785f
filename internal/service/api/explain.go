package api

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/series"
	past "synaxis/internal/service/numbers"
)

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
	e, changes, err := a.Numbers.Explain(ctx, q, p.Number)
	if err != nil {
		return nil, err
	}
	out := contract.ExplainNumbers200JSONResponse{Number: p.Number, Share: e.Share, Changes: changes,
		Hosts: e.Hosts[:min(len(e.Hosts), manyHosts)], Of: e.Of, Common: []contract.CommonLabel{},
		Marks: []contract.NumberMark{}, Words: fmt.Sprintf("%s goes as it went", p.Number)}
	if out.Hosts == nil {
		out.Hosts = []string{}
	}
	if !changes {
		return out, nil
	}
	out.At, out.Before, out.After, out.Words = &e.Began, e.Before, e.After, explained(p.Number, e)
	for _, c := range e.Common {
		out.Common = append(out.Common, contract.CommonLabel{Label: c.Label, Value: c.Value, Changed: c.Changed,
			All: c.All})
	}
	out.Marks, err = a.before(ctx, e)
	return out, err
}

// mostBefore bounds what is told to have come before, and askedBefore the hosts whose own configs and states are.
const (
	mostBefore  = 10
	askedBefore = 3
)

// before is what came shortly before a shift, the nearest first.
func (a *API) before(ctx context.Context, e past.Explained) ([]contract.NumberMark, error) {
	q := past.Question{From: e.Began.Add(-cameBefore), To: e.Began.Add(cameAfter * e.Step)}
	marks, err := a.marks(ctx, q)
	if err != nil {
		return nil, err
	}
	for _, host := range e.Hosts[:min(len(e.Hosts), askedBefore)] {
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
		return cmp.Compare(x.At.Sub(e.Began).Abs(), y.At.Sub(e.Began).Abs())
	})
	return marks[:min(len(marks), mostBefore)], nil
}

// explained tells it in words.
func explained(number string, e past.Explained) string {
	show, unit := func(v float64) string { return fmt.Sprintf("%.0f", v) }, " an hour"
	switch {
	case e.Share:
		show, unit = func(v float64) string { return fmt.Sprintf("%.1f %%", v*100) }, " of the records"
	case series.IsLevel(number):
		unit = ""
	}
	words := fmt.Sprintf("%s went from %s to %s%s at %s, on %d of %d hosts", number, show(e.Before), show(e.After),
		unit,
		e.Began.UTC().Format("2006-01-02 15:04:05 UTC"), len(e.Hosts), e.Of)
	if len(e.Common) > 0 {
		words += fmt.Sprintf(", those with %s=%s", e.Common[0].Label, e.Common[0].Value)
	}
	return words
}
