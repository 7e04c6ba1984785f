package api

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/health"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/store"
	"synaxis/internal/version"
)

// mostCauses bounds what is told to be wrong, fewHosts and manyHosts the hosts that are named with it.
const (
	mostCauses = 12
	fewHosts   = 5
	manyHosts  = 1000
)

// GetStatus tells what is in force, what waits and what is wrong.
func (a *API) GetStatus(
	ctx context.Context,
	_ contract.GetStatusRequestObject,
) (contract.GetStatusResponseObject, error) {
	now := a.Now()
	head, err := a.Changes.Head(ctx)
	if err != nil {
		return nil, err
	}
	drafts, err := a.Store.Drafts(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.GetStatus200JSONResponse{
		Version:   version.String(),
		Published: head.Revision.Number,
		InForce:   a.Rollouts.InForce(),
		Newcomers: len(
			a.Membership.Newcomers(),
		),
		Drafts:           []contract.DraftSummary{},
		PendingInventory: []string{},
		Causes:           []contract.Cause{},
	}
	for _, d := range drafts {
		sum, err := a.draftSummary(ctx, d)
		if err != nil {
			return nil, err
		}
		out.Drafts = append(out.Drafts, sum)
	}
	if all := a.Rollouts.All(); len(all) > 0 {
		s := rolloutSummary(all[0])
		out.Rollout = &s
		for _, r := range all {
			out.RolledOut = out.RolledOut || r.Revision == out.Published && r.Status == rollout.Done && r.Chosen == ""
		}
	}
	if t := a.Store.Trouble(); t.Reason != "" {
		out.Trouble = &contract.ServiceTrouble{
			Reason: "the service cannot keep its records: " + t.Reason,
			Todo: "make room on its disk, or let it write there; agents collect meanwhile, and what is not " +
				"written is tried again",
			Since: t.Since.UTC(),
		}
	}
	sites := map[string]*contract.SiteState{}
	a.Hosts.Each(func(v store.Host, kept hosts.Judgement, revision int, pending string) {
		site := sites[v.Labels["site"]]
		if site == nil {
			site = &contract.SiteState{Site: v.Labels["site"]}
			sites[site.Site] = site
		}
		count(&out.Hosts, kept.Worst.State, 1)
		count(&site.Hosts, kept.Worst.State, 1)
		for state, n := range kept.Sources {
			count(&out.Sources, state, n)
			count(&site.Sources, state, n)
		}
		if pending != "" {
			out.PendingInventory = append(out.PendingInventory, v.Name)
		}
		if revision < out.Published {
			out.Behind++
		}
	})
	out.Sites = siteList(sites)
	causes := health.Group(a.Hosts.Troubles())
	out.MoreCauses = max(0, len(causes)-mostCauses)
	for _, c := range causes[:min(mostCauses, len(causes))] {
		out.Causes = append(out.Causes, cause(c, now, fewHosts))
	}
	if err := a.lately(ctx, (*contract.Status)(&out)); err != nil {
		return nil, err
	}
	maintenance, err := a.maintenances(ctx)
	if err != nil {
		return nil, err
	}
	out.Maintenance = maintenance
	if err := a.expiring(ctx, (*contract.Status)(&out)); err != nil {
		return nil, err
	}
	day, usual, err := a.Numbers.Volume(ctx)
	if day+usual > 0 {
		out.Volume = &contract.Volume{Day: day, Usual: usual}
	}
	return out, err
}

// siteList are the sites, those with trouble first; none where hosts have no such label.
func siteList(by map[string]*contract.SiteState) []contract.SiteState {
	out := []contract.SiteState{}
	if len(by) == 1 && by[""] != nil {
		return out
	}
	for _, s := range by {
		out = append(out, *s)
	}
	trouble := func(c contract.Counts) int { return 1000*c.Failing + 100*c.Offline + c.Degraded }
	slices.SortFunc(out, func(x, y contract.SiteState) int {
		return cmp.Or(cmp.Compare(trouble(y.Hosts), trouble(x.Hosts)), strings.Compare(x.Site, y.Site))
	})
	return out
}

// cause is a cause as the contract has it, with so many names of hosts at most.
func cause(c health.Cause, now time.Time, most int) contract.Cause {
	out := contract.Cause{Id: c.ID, State: contract.State(c.State), Code: string(c.Code),
		Kind: contract.CauseKind(c.Kind), Name: c.Name, Words: c.Words(now), Where: c.Where(), Todo: c.Todo,
		Since: optional(c.Since.UTC()), Oldest: optional(c.Oldest.UTC()),
		FullIn: optional(int64(c.FullIn / time.Second)),
		Hosts:  len(c.Hosts), Some: c.Hosts[:min(most, len(c.Hosts))], Sources: c.Sources, Sites: c.Sites}
	for _, list := range []*[]string{&out.Some, &out.Sources, &out.Sites} {
		if *list == nil {
			*list = []string{}
		}
	}
	return out
}

// ListCauses tells what is wrong, by cause.
func (a *API) ListCauses(
	_ context.Context, r contract.ListCausesRequestObject,
) (contract.ListCausesResponseObject, error) {
	out := contract.ListCauses200JSONResponse{Items: []contract.Cause{}}
	host, source, destination := value(r.Params.Host), value(r.Params.Source), value(r.Params.Destination)
	for _, c := range health.Group(a.Hosts.Troubles()) {
		if host != "" && !slices.Contains(c.Hosts, host) || source != "" && !slices.Contains(c.Sources, source) ||
			destination != "" && (c.Kind != "destination" || c.Name != destination) {
			continue
		}
		out.Items = append(out.Items, cause(c, a.Now(), manyHosts))
	}
	return out, nil
}
