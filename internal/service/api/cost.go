package api

import (
	"context"
	"maps"
	"slices"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/cost"
	"synaxis/internal/core/series"
	past "synaxis/internal/service/numbers"
)

// GetCost tells what sources cost destinations a day.
func (a *API) GetCost(ctx context.Context, r contract.GetCostRequestObject) (contract.GetCostResponseObject, error) {
	from, to, err := span(a.Now(), nil, nil, value(r.Params.Since), 24*time.Hour)
	if err != nil {
		return nil, err
	}
	head, err := a.Changes.Head(ctx)
	if err != nil {
		return nil, err
	}
	cat := head.Catalogue
	out := contract.GetCost200JSONResponse{From: from.UTC(), To: to.UTC()}
	var tried []cost.Tried
	if r.Params.Draft != nil {
		if cat, err = a.Changes.Catalogue(ctx, *r.Params.Draft); err != nil {
			return nil, err
		}
		t := a.lastTrial(*r.Params.Draft)
		if t == nil {
			return nil, usage{"draft: it has no trial from which a forecast could be made; start one"}
		}
		shown := t.shown()
		out.Trial, tried = &shown.Id, forecast(shown)
	}
	list, err := a.Numbers.Edges(ctx, from, to)
	if err != nil {
		return nil, err
	}
	heard, err := a.Numbers.Ask(ctx, past.Question{From: from, To: to, Numbers: []string{series.Read}})
	if err != nil {
		return nil, err
	}
	steps := 0
	for _, l := range heard.Lines {
		for _, h := range l.Heard {
			if h {
				steps++
			}
		}
	}
	out.Seconds = int64(time.Duration(steps) * heard.Step / time.Second)
	out.Seconds = min(out.Seconds, int64(to.Sub(from)/time.Second))
	measured := map[[2]string]*cost.Measured{}
	for _, e := range list {
		k := [2]string{e.Source, e.Destination}
		if measured[k] == nil {
			measured[k] = &cost.Measured{Source: e.Source, Destination: e.Destination}
		}
		m := measured[k]
		if e.Destination == "" {
			m.Records, m.Bytes = m.Records+e.Sums[series.Read], m.Bytes+e.Sums[series.Bytes]
		} else {
			m.Bytes += e.Sums[series.Sent]
		}
	}
	var all []cost.Measured
	for _, m := range measured {
		all = append(all, *m)
	}
	report := cost.Daily(all, time.Duration(out.Seconds)*time.Second, tried, costRules(cat))
	out.Sources, out.Destinations = costSources(report), costSums(report.Destinations)
	out.Labels = []contract.CostLabel{}
	for _, key := range slices.Sorted(maps.Keys(report.Labels)) {
		out.Labels = append(out.Labels, contract.CostLabel{Key: key, Values: costSums(report.Labels[key])})
	}
	return out, nil
}

// costRules are prices, budgets and labels as definitions have them.
func costRules(cat *catalogue.Catalogue) cost.Rules {
	r := cost.Rules{Prices: map[string]cost.Price{}, Budgets: map[string]float64{},
		Labels: map[string]map[string]string{},
		Limits: map[string]map[string]float64{}}
	for _, d := range cat.All() {
		switch {
		case d.Destination != nil:
			r.Prices[d.Name] = d.Destination.Price
			if d.Destination.BudgetPer > 0 {
				r.Budgets[d.Name] = d.Destination.Budget * 24 / d.Destination.BudgetPer.Hours()
			}
		case d.Source != nil:
			r.Labels[d.Name] = d.Source.Labels
		case d.LabelKey != nil && d.LabelKey.Budgets != nil:
			r.Limits[d.Name] = d.LabelKey.Budgets
		}
	}
	return r
}

func costSources(r cost.Report) []contract.CostSource {
	out := []contract.CostSource{}
	currency := map[string]string{}
	for _, d := range r.Destinations {
		currency[d.Name] = d.Currency
	}
	for _, l := range r.Lines {
		x := contract.CostSource{Source: l.Source, Records: l.Records, Read: l.Read, To: []contract.CostTo{}}
		for _, t := range l.To {
			y := contract.CostTo{Currency: optional(currency[t.Destination]), Destination: t.Destination,
				Money: t.Money,
				Sent:  t.Bytes}
			if t.Forecast {
				y.Then = &t.Then
			}
			x.To = append(x.To, y)
		}
		out = append(out, x)
	}
	return out
}

func costSums(list []cost.Sum) []contract.CostSum {
	out := []contract.CostSum{}
	for _, s := range list {
		x := contract.CostSum{Name: s.Name, Sent: s.Bytes, Budget: optional(s.Budget), Money: s.Money,
			Currency: optional(s.Currency), Exceeds: s.Exceeds}
		if s.Forecast {
			x.Then = &s.Then
		}
		out = append(out, x)
	}
	return out
}

// lastTrial is the newest trial of a draft, or nil.
func (a *API) lastTrial(draft int) *trial {
	a.trials.mu.Lock()
	defer a.trials.mu.Unlock()
	for _, t := range slices.Backward(a.trials.all) {
		if t.draft == draft {
			return t
		}
	}
	return nil
}

// forecast is what a trial found of the bytes to each destination.
func forecast(t contract.Trial) (out []cost.Tried) {
	for _, s := range t.Sources {
		all := map[string]*cost.Tried{}
		at := func(name string) *cost.Tried {
			if all[name] == nil {
				all[name] = &cost.Tried{Source: s.Name, Destination: name}
			}
			return all[name]
		}
		if s.Now != nil {
			for name, d := range s.Now.Destinations {
				x := at(name)
				x.Now, x.NowRead = d.Bytes, s.Now.Read
			}
		}
		if s.Then != nil {
			for name, d := range s.Then.Destinations {
				x := at(name)
				x.Then, x.ThenRead = d.Bytes, s.Then.Read
			}
		}
		for _, x := range all {
			out = append(out, *x)
		}
	}
	return out
}
