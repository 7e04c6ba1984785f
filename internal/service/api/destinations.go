package api

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/store"
)

// deliveries are what became of records at a destination.
func deliveries(name string, d wire.DeliveryCounts) contract.DestinationNumbers {
	out := contract.DestinationNumbers{Destination: name, Read: d.Read, Dropped: d.Dropped, Elsewhere: d.Elsewhere,
		Acknowledged: d.Acknowledged, Sent: d.Sent, Refused: d.Refused, Discarded: d.Discarded, OnDisk: d.OnDisk,
		InMemory:  d.InMemory,
		DiskBytes: d.DiskBytes}
	if d.Oldest > 0 {
		t := time.Unix(0, d.Oldest).UTC()
		out.Oldest = &t
	}
	return out
}

// addDeliveries adds what became of records on one host to a sum.
func addDeliveries(to *wire.DeliveryCounts, d wire.DeliveryCounts) {
	for _, c := range wire.DeliveryCounters {
		if c.Unit != "ns" {
			*c.Of(to) += *c.Of(&d)
		}
	}
	if d.Oldest > 0 && (to.Oldest == 0 || d.Oldest < to.Oldest) {
		to.Oldest = d.Oldest
	}
}

// GetBooks tells what became of every record, by source and destination.
func (a *API) GetBooks(
	_ context.Context, r contract.GetBooksRequestObject,
) (contract.GetBooksResponseObject, error) {
	chosen, err := a.chosen(value(r.Params.Hosts))
	if err != nil {
		return nil, err
	}
	type key struct{ source, destination string }
	type line struct {
		counts wire.DeliveryCounts
		hosts  int
		off    []string
	}
	lines, drops := map[key]*line{}, map[string]map[string]int64{}
	out := contract.GetBooks200JSONResponse{Items: []contract.BookLine{}}
	for _, v := range a.Hosts.All() {
		if !chosen(v.Name) || len(v.Books) == 0 {
			continue
		}
		out.Hosts++
		for source, to := range v.Books {
			for name, d := range to {
				k := key{source, name}
				l := lines[k]
				if l == nil {
					l = &line{}
					lines[k] = l
				}
				addDeliveries(&l.counts, d)
				l.hosts++
				if diff := d.Difference(); diff != 0 {
					l.off = append(l.off, v.Name)
					out.Off += max(diff, -diff)
				}
			}
			for reason, n := range v.Numbers[source].Drops {
				if drops[source] == nil {
					drops[source] = map[string]int64{}
				}
				drops[source][reason] += n
			}
		}
	}
	for k, l := range lines {
		reasons := drops[k.source]
		if reasons == nil {
			reasons = map[string]int64{}
		}
		out.Items = append(out.Items, contract.BookLine{Source: k.source, Hosts: l.hosts,
			Difference: l.counts.Difference(), Unbalanced: append([]string{}, l.off...), DropReasons: reasons,
			Numbers: deliveries(k.destination, l.counts)})
	}
	slices.SortFunc(out.Items, func(a, b contract.BookLine) int {
		return cmp.Or(strings.Compare(a.Source, b.Source), strings.Compare(a.Numbers.Destination,
			b.Numbers.Destination))
	})
	return out, nil
}

// ofDestination is a destination on one host; ok is false when the host has nothing to do with it.
func (a *API) ofDestination(v *hosts.View, name string) (h contract.DestinationHost, d wire.DeliveryCounts, ok bool) {
	h = contract.DestinationHost{Host: v.Name, Connected: v.Connected, Answers: map[string]int64{},
		Sources: []string{}}
	for source, to := range v.Books {
		if c, has := to[name]; has && (c.Read > 0 || c.Waiting() > 0) {
			addDeliveries(&d, c)
			h.Sources = append(h.Sources, source)
			ok = true
		}
	}
	slices.Sort(h.Sources)
	c, said := v.Components["destination/"+name]
	if said {
		ok = true
		if c.Code != "" {
			h.Code, h.Reason, h.Since = optional(string(c.Code)), optional(c.Reason), optional(c.Since.UTC())
			h.Todo = optional(health.Todo(c.Code))
		}
	}
	if x, has := v.Destinations[name]; has {
		ok = true
		h.Rejects, h.RejectBytes = x.Rejects, x.RejectBytes
		h.Room, h.FullIn = optional(x.Room), optional(x.FullIn)
		if x.Answers != nil {
			h.Answers = x.Answers
		}
	}
	h.Numbers = deliveries(name, d)
	return h, d, ok
}

// destinations sums up every destination of the fleet, or the one of a name, whose hosts it answers too.
func (a *API) destinations(ctx context.Context, only string) (map[string]*contract.DestinationState,
	[]contract.DestinationHost, error) {
	st, err := a.Changes.Head(ctx)
	if err != nil {
		return nil, nil, err
	}
	out := map[string]*contract.DestinationState{}
	counts := map[string]*wire.DeliveryCounts{}
	get := func(name string) *contract.DestinationState {
		if out[name] == nil {
			out[name] = &contract.DestinationState{Name: name, Sources: []string{}, Answers: map[string]int64{},
				States: []contract.DestinationTrouble{}}
			counts[name] = &wire.DeliveryCounts{}
		}
		return out[name]
	}
	for _, d := range st.Catalogue.All() {
		if d.Destination == nil || only != "" && d.Name != only {
			continue
		}
		s := get(d.Name)
		s.Kind, s.Address = string(d.Destination.Kind), optional(d.Destination.Where())
		if d.Destination.Kind == delivery.Discard {
			s.Address = nil
		}
	}
	var rows []contract.DestinationHost
	for _, v := range a.Hosts.All() {
		for name := range namesOf(&v, only) {
			h, c, ok := a.ofDestination(&v, name)
			if !ok {
				continue
			}
			s := get(name)
			s.Hosts++
			s.Rejects += h.Rejects
			s.RejectBytes += h.RejectBytes
			s.Rate += v.Rates[name]
			addDeliveries(counts[name], c)
			s.Room = optional(value(s.Room) + value(h.Room))
			if f := value(h.FullIn); f > 0 && (s.FullIn == nil || f < *s.FullIn) {
				s.FullIn = &f
			}
			for kind, n := range h.Answers {
				s.Answers[kind] += n
			}
			for _, source := range h.Sources {
				if !slices.Contains(s.Sources, source) {
					s.Sources = append(s.Sources, source)
				}
			}
			if h.Code != nil {
				s.Troubled++
				s.States = addTrouble(s.States, h)
			}
			if only != "" {
				rows = append(rows, h)
			}
		}
	}
	for name, s := range out {
		s.Numbers = deliveries(name, *counts[name])
		slices.Sort(s.Sources)
		slices.SortFunc(s.States, func(a, b contract.DestinationTrouble) int {
			return cmp.Or(cmp.Compare(b.Hosts, a.Hosts), strings.Compare(a.Code, b.Code))
		})
	}
	return out, rows, nil
}

// namesOf are the destinations that a host has to do with.
func namesOf(v *hosts.View, only string) map[string]bool {
	if only != "" {
		return map[string]bool{only: true}
	}
	out := map[string]bool{}
	for _, to := range v.Books {
		for name := range to {
			out[name] = true
		}
	}
	for name := range v.Destinations {
		out[name] = true
	}
	for c := range v.Components {
		if name, ok := strings.CutPrefix(c, "destination/"); ok {
			out[name] = true
		}
	}
	return out
}

// someHosts is how many hosts are named as examples.
const someHosts = 5

// addTrouble counts what is wrong on a host to what is wrong elsewhere in the same way.
func addTrouble(list []contract.DestinationTrouble, h contract.DestinationHost) []contract.DestinationTrouble {
	i := slices.IndexFunc(list, func(t contract.DestinationTrouble) bool { return t.Code == *h.Code })
	if i < 0 {
		return append(list, contract.DestinationTrouble{Code: *h.Code, Reason: value(h.Reason), Todo: h.Todo,
			Since: h.Since, Hosts: 1, Examples: []string{h.Host}})
	}
	t := &list[i]
	t.Hosts++
	if h.Since != nil && (t.Since == nil || h.Since.Before(*t.Since)) {
		t.Since = h.Since
	}
	if len(t.Examples) < someHosts {
		t.Examples = append(t.Examples, h.Host)
	}
	return list
}

// ListDestinations lists every destination of the fleet.
func (a *API) ListDestinations(
	ctx context.Context, _ contract.ListDestinationsRequestObject,
) (contract.ListDestinationsResponseObject, error) {
	all, _, err := a.destinations(ctx, "")
	if err != nil {
		return nil, err
	}
	out := contract.ListDestinations200JSONResponse{Items: []contract.DestinationState{}}
	for _, s := range all {
		out.Items = append(out.Items, *s)
	}
	slices.SortFunc(out.Items, func(a, b contract.DestinationState) int {
		return cmp.Or(cmp.Compare(b.Troubled, a.Troubled), strings.Compare(a.Name, b.Name))
	})
	return out, nil
}

// GetDestination tells how a destination is on all hosts that feed it.
func (a *API) GetDestination(
	ctx context.Context, r contract.GetDestinationRequestObject,
) (contract.GetDestinationResponseObject, error) {
	s, rows, err := a.destination(ctx, r.Destination)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(rows, func(a, b contract.DestinationHost) int {
		trouble := func(h contract.DestinationHost) int {
			if h.Code != nil {
				return 0
			}
			return 1
		}
		return cmp.Or(cmp.Compare(trouble(a), trouble(b)),
			cmp.Compare(b.Numbers.OnDisk+b.Numbers.InMemory, a.Numbers.OnDisk+a.Numbers.InMemory),
			strings.Compare(a.Host, b.Host))
	})
	return contract.GetDestination200JSONResponse{State: *s, Items: rows}, nil
}

func (a *API) destination(ctx context.Context, name string) (*contract.DestinationState, []contract.DestinationHost,
	error) {
	all, rows, err := a.destinations(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	if all[name] == nil {
		return nil, nil, store.Missingf("there is no destination %s, and no host delivers to it", name)
	}
	if rows == nil {
		rows = []contract.DestinationHost{}
	}
	return all[name], rows, nil
}
