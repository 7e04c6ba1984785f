package api

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/health"
	"synaxis/internal/core/series"
)

// GetFlow tells what went from sites through sources to destinations.
func (a *API) GetFlow(ctx context.Context, r contract.GetFlowRequestObject) (contract.GetFlowResponseObject, error) {
	from, to, err := span(a.Now(), nil, nil, value(r.Params.Since), time.Hour)
	if err != nil {
		return nil, err
	}
	list, err := a.Numbers.Edges(ctx, from, to)
	if err != nil {
		return nil, err
	}
	out := contract.GetFlow200JSONResponse{From: from.UTC(), To: to.UTC(), Edges: []contract.FlowEdge{},
		Nodes: a.flowNodes()}
	for _, e := range list {
		x := contract.FlowEdge{Site: e.Site, Source: e.Source, Destination: e.Destination,
			Records: e.Sums[series.Read],
			Bytes:   e.Sums[series.Bytes], Dropped: e.Sums[series.Dropped]}
		if e.Destination != "" {
			x.Records, x.Bytes = e.Sums[series.Acknowledged], e.Sums[series.Sent]
			x.Rejected = e.Sums[series.Rejected] + e.Sums[series.Discarded]
		}
		if x.Records+x.Bytes+x.Dropped+x.Rejected > 0 {
			out.Edges = append(out.Edges, x)
		}
	}
	return out, nil
}

// flowNodes are the sites, sources and destinations with how they are.
func (a *API) flowNodes() []contract.FlowNode {
	type node struct {
		kind contract.FlowNodeKind
		name string
	}
	counts := map[node]map[health.State]int{}
	add := func(kind contract.FlowNodeKind, name string, s health.State) {
		k := node{kind, name}
		if counts[k] == nil {
			counts[k] = map[health.State]int{}
		}
		counts[k][s]++
	}
	for _, v := range a.Hosts.All() {
		j := a.Hosts.Health(v.Name)
		add(contract.FlowNodeKindSite, v.Labels["site"], j.Worst.State)
		held := map[string]health.State{}
		for _, name := range v.Sources() {
			s := j.By[name]
			add(contract.FlowNodeKindSource, name, s.State)
			if to := s.Holder(); to != "" {
				held[to] = s.State
			}
		}
		for name := range v.Destinations {
			if !v.Connected { // how it is from there is not known
				continue
			}
			state := health.Healthy
			if s, is := held[name]; is {
				state = s
			}
			add(contract.FlowNodeKindDestination, name, state)
		}
	}
	out := []contract.FlowNode{}
	for k, of := range counts {
		n := contract.FlowNode{Kind: k.kind, Name: k.name, State: contract.State(health.RollUp(of))}
		for s, c := range of {
			if n.Hosts += c; s == health.Failing || s == health.Degraded || s == health.Offline {
				n.Wrong += c
			}
		}
		out = append(out, n)
	}
	slices.SortFunc(out, func(x, y contract.FlowNode) int {
		return cmp.Or(strings.Compare(string(x.Kind), string(y.Kind)), strings.Compare(x.Name, y.Name))
	})
	return out
}
