package api

import (
	"context"
	"slices"

	"synaxis/internal/contract"
	"synaxis/internal/core/health"
	"synaxis/internal/core/rollout"
	"synaxis/internal/version"
)

// maxAttention bounds the list of what is wrong.
const maxAttention = 50

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
		Attention:        []contract.Attention{},
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
	var wrong []contract.Attention
	for _, v := range a.Hosts.All() {
		kept := a.Hosts.Health(v.Name)
		count(&out.Hosts, kept.Worst.State, 1)
		for state, n := range kept.Sources {
			count(&out.Sources, state, n)
		}
		if v.Pending != "" {
			out.PendingInventory = append(out.PendingInventory, v.Name)
		}
		if v.Assigned.Revision < out.Published {
			out.Behind++
		}
		if health.Rank(kept.Worst.State) < health.Rank(health.Degraded) {
			continue // nothing of it is wrong
		}
		if h := v.Verdict(now); h.State == health.Failing || h.State == health.Degraded || h.State == health.Offline {
			wrong = append(wrong, contract.Attention{Host: v.Name, Verdict: verdict(h)})
		}
		for _, name := range v.Sources() {
			if s := v.SourceVerdict(name, now); s.State == health.Failing || s.State == health.Degraded {
				wrong = append(wrong, contract.Attention{Host: v.Name, Source: &name, Verdict: verdict(s)})
			}
		}
	}
	slices.SortStableFunc(wrong, func(x, y contract.Attention) int {
		switch {
		case health.Worse(health.State(x.Verdict.State), health.State(y.Verdict.State)):
			return -1
		case health.Worse(health.State(y.Verdict.State), health.State(x.Verdict.State)):
			return 1
		}
		return 0
	})
	if len(wrong) > maxAttention {
		out.AttentionMore = len(wrong) - maxAttention
		wrong = wrong[:maxAttention]
	}
	out.Attention = append(out.Attention, wrong...)
	return out, nil
}
