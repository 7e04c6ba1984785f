package api

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"synaxis/internal/contract"
	"synaxis/internal/core/series"
	"synaxis/internal/core/wire"
	past "synaxis/internal/service/numbers"
)

// Bounds of what is told of the unclaimed.
const (
	unclaimedHosts = 60 // that are asked for examples, those with most
	unclaimedShown = 20 // of a source and a reason
	unclaimedLong  = 4 << 10
)

// unclaimedNumbers are the numbers that count them, by reason.
var unclaimedNumbers = map[string]contract.UnclaimedReason{
	series.Unparsed: contract.Unparsed, series.Dropped + ":no-route": contract.NoRoute,
}

// ListUnclaimed lists what no format read and what no route took.
func (a *API) ListUnclaimed(
	ctx context.Context, r contract.ListUnclaimedRequestObject,
) (contract.ListUnclaimedResponseObject, error) {
	out := contract.ListUnclaimed200JSONResponse{Items: []contract.Unclaimed{}, Silent: []contract.SilentHost{}}
	by, counts := "source", []string{series.Unparsed, series.Dropped + ":no-route", series.Read}
	q, err := a.question(contract.GetNumbersParams{Source: r.Params.Source, Hosts: r.Params.Hosts,
		Since: r.Params.Since,
		By:    &by, Number: &counts})
	if err != nil {
		return nil, err
	}
	counted, err := a.Numbers.Ask(ctx, q)
	if err != nil {
		return nil, err
	}
	read := map[string]int64{}
	for _, l := range counted.Lines {
		if l.Number == series.Read {
			read[l.Group] = l.Sum()
		}
	}
	for _, l := range counted.Lines {
		reason, ok := unclaimedNumbers[l.Number]
		if sum := l.Sum(); ok && sum > 0 {
			out.Items = append(out.Items, contract.Unclaimed{Source: l.Group, Reason: reason, Records: sum,
				Share: min(1, float64(sum)/float64(max(1, read[l.Group]))), Examples: []contract.UnclaimedExample{}})
		}
	}
	slices.SortFunc(out.Items, func(a, b contract.Unclaimed) int {
		return cmp.Or(cmp.Compare(b.Records, a.Records), strings.Compare(a.Source, b.Source))
	})
	if len(out.Items) == 0 {
		return out, nil
	}
	return out, a.unclaimedExamples(ctx, q, (*contract.UnclaimedList)(&out))
}

// unclaimedExamples asks the hosts with most of them for examples.
func (a *API) unclaimedExamples(ctx context.Context, q past.Question, out *contract.UnclaimedList) error {
	sums := map[string]int64{}
	var names []string
	for _, v := range a.Hosts.All() {
		if q.Hosts != nil && !q.Hosts[v.Name] {
			continue
		}
		for source, n := range v.Numbers {
			if q.Source == "" || q.Source == source {
				sums[v.Name] += n.Unparsed + n.Drops["no-route"]
			}
		}
		if sums[v.Name] > 0 {
			names = append(names, v.Name)
		}
	}
	slices.SortFunc(names, func(x, y string) int {
		return cmp.Or(cmp.Compare(sums[y], sums[x]), strings.Compare(x, y))
	})
	if n := len(names); n > unclaimedHosts {
		names, out.More = names[:unclaimedHosts], optional(n-unclaimedHosts)
	}
	type key struct{ source, reason, shape string }
	shapes := map[key]*contract.UnclaimedExample{}
	eachHost(names, func(name string) ([]wire.Unclaimed, error) { return a.Agents.Unclaimed(ctx, name, q.Source) },
		func(name string, list []wire.Unclaimed, err error) {
			if err != nil {
				out.Silent = append(out.Silent, contract.SilentHost{Host: name, Reason: err.Error()})
				return
			}
			for _, u := range list {
				for _, e := range u.Examples {
					k := key{u.Source, u.Reason, e.Shape}
					x := shapes[k]
					if x == nil {
						x = &contract.UnclaimedExample{}
						shapes[k] = x
					}
					if x.Hosts++; e.At.After(x.At) {
						x.At, x.Host, x.File = e.At.UTC(), name, optional(e.File)
						x.Text = strings.ToValidUTF8(e.Text[:min(len(e.Text), unclaimedLong)], "")
					}
				}
			}
		})
	for i := range out.Items {
		item := &out.Items[i]
		for k, x := range shapes {
			if k.source == item.Source && k.reason == string(item.Reason) {
				item.Examples = append(item.Examples, *x)
			}
		}
		slices.SortFunc(item.Examples, func(a, b contract.UnclaimedExample) int {
			return cmp.Or(b.At.Compare(a.At), strings.Compare(a.Text, b.Text))
		})
		item.Examples = item.Examples[:min(len(item.Examples), unclaimedShown)]
	}
	slices.SortFunc(out.Silent, func(a, b contract.SilentHost) int { return strings.Compare(a.Host, b.Host) })
	return ctx.Err()
}
