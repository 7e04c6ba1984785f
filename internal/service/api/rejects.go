package api

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

// feeding are the chosen hosts that feed a destination and are needed.
func (a *API) feeding(
	ctx context.Context, destination, choice string, needed func(h contract.DestinationHost) bool,
) ([]contract.DestinationHost, error) {
	_, rows, err := a.destination(ctx, destination)
	if err != nil {
		return nil, err
	}
	chosen, err := a.chosen(choice)
	return slices.DeleteFunc(rows, func(h contract.DestinationHost) bool {
		return err != nil || !chosen(h.Host) || !needed(h)
	}), err
}

// eachRejecting asks the chosen hosts that feed a destination, and gives what each answers, or why it does not.
func (a *API) eachRejecting(
	ctx context.Context, destination, choice string, needed func(h contract.DestinationHost) bool, kind string,
	q wire.Ask,
	take func(host string, r wire.Rejects, err error),
) error {
	rows, err := a.feeding(ctx, destination, choice, needed)
	if err != nil {
		return err
	}
	q.Destination = destination
	who := person(ctx)
	var names []string
	for _, h := range rows {
		names = append(names, h.Host)
	}
	eachHost(names, func(host string) (wire.Rejects, error) { return a.Agents.Rejects(ctx, who, host, kind, q) }, take)
	return ctx.Err()
}

// rejecting tells whether a host has rejects, as far as it said.
func rejecting(h contract.DestinationHost) bool { return h.Rejects > 0 || h.Numbers.Refused > 0 }

// ListRejects lists what hosts keep of what a destination refused, by cause.
func (a *API) ListRejects(
	ctx context.Context, r contract.ListRejectsRequestObject,
) (contract.ListRejectsResponseObject, error) {
	type key struct{ cause, shape, source string }
	groups := map[key]*contract.RejectCause{}
	out := contract.ListRejects200JSONResponse{Items: []contract.RejectCause{}, Silent: []contract.SilentHost{}}
	err := a.eachRejecting(ctx, r.Destination, value(r.Params.Hosts), rejecting, wire.AskRejects, wire.Ask{},
		func(host string, answer wire.Rejects, err error) {
			if err != nil {
				out.Silent = append(out.Silent, contract.SilentHost{Host: host, Reason: err.Error()})
				return
			}
			for _, g := range answer.Groups {
				k := key{g.Cause, wire.Shape(g.Reason), g.Source}
				c := groups[k]
				if c == nil {
					c = &contract.RejectCause{Cause: g.Cause, Reason: g.Reason, Source: g.Source, First: g.First,
						Last: g.Last}
					groups[k] = c
				}
				c.Records += g.Records
				c.Bytes += g.Bytes
				c.Hosts = append(c.Hosts, host)
				if g.First.Before(c.First) {
					c.First = g.First
				}
				if g.Last.After(c.Last) {
					c.Last, c.Reason = g.Last, g.Reason
				}
			}
		})
	if err != nil {
		return nil, err
	}
	for _, c := range groups {
		slices.Sort(c.Hosts)
		out.Items = append(out.Items, *c)
	}
	slices.SortFunc(out.Items, func(a, b contract.RejectCause) int {
		return cmp.Or(cmp.Compare(b.Records, a.Records), strings.Compare(a.Reason, b.Reason),
			strings.Compare(a.Source, b.Source))
	})
	for i := range out.Items {
		if i == exampled {
			break
		}
		c := &out.Items[i]
		answer, err := a.Agents.Rejects(ctx, person(ctx), c.Hosts[0], wire.AskRejectRecords,
			wire.Ask{Destination: r.Destination, Cause: c.Cause, Source: c.Source, Lines: 1})
		if err == nil && len(answer.Records) > 0 {
			c.Example = optional(string(answer.Records[0].Record))
		}
	}
	return out, nil
}

// exampled is of how many causes an example is asked for.
const exampled = 10

// ListRejectRecords lists rejects of one host.
func (a *API) ListRejectRecords(
	ctx context.Context, r contract.ListRejectRecordsRequestObject,
) (contract.ListRejectRecordsResponseObject, error) {
	limit := 100
	if r.Params.Limit != nil {
		limit = min(max(*r.Params.Limit, 1), wire.MaxRejectRecords)
	}
	answer, err := a.Agents.Rejects(ctx, person(ctx), r.Params.Host, wire.AskRejectRecords, wire.Ask{
		Destination: r.Destination, Cause: value(r.Params.Cause), Source: value(r.Params.Source),
		After: value(r.Params.After), Lines: limit,
	})
	if err != nil {
		return nil, err
	}
	out := contract.ListRejectRecords200JSONResponse{Items: []contract.RejectRecord{}, More: answer.More}
	for _, x := range answer.Records {
		out.Items = append(out.Items, contract.RejectRecord{Number: x.Number, Rejected: x.Rejected, Cause: x.Cause,
			Reason: x.Reason, Source: x.Source, Record: string(x.Record)})
	}
	return out, nil
}

// ResendRejects lets hosts send rejects again.
func (a *API) ResendRejects(
	ctx context.Context, r contract.ResendRejectsRequestObject,
) (contract.ResendRejectsResponseObject, error) {
	out, err := a.changeRejects(ctx, r.Destination, *r.Body, wire.AskResend)
	return contract.ResendRejects200JSONResponse(out), err
}

// DiscardRejects lets hosts delete rejects.
func (a *API) DiscardRejects(
	ctx context.Context, r contract.DiscardRejectsRequestObject,
) (contract.DiscardRejectsResponseObject, error) {
	out, err := a.changeRejects(ctx, r.Destination, *r.Body, wire.AskDiscard)
	return contract.DiscardRejects200JSONResponse(out), err
}

func (a *API) changeRejects(
	ctx context.Context, destination string, c contract.RejectChoice, kind string,
) (contract.RejectOutcome, error) {
	out := contract.RejectOutcome{Items: []contract.RejectHost{}}
	ask := wire.Ask{Cause: value(c.Cause), Source: value(c.Source)}
	took := func(host string, answer wire.Rejects, err error) {
		h := contract.RejectHost{Host: host, Done: answer.Done, Left: answer.More, Answer: optional(answer.Answer)}
		if err != nil {
			h.Error = optional(err.Error())
		}
		out.Done += h.Done
		out.Items = append(out.Items, h)
	}
	err := error(nil)
	if kind == wire.AskResend && value(c.Most) > 0 {
		err = a.resendSome(ctx, destination, value(c.Hosts), ask, int64(value(c.Most)), took)
	} else {
		err = a.eachRejecting(ctx, destination, value(c.Hosts), rejecting, kind, ask, took)
	}
	slices.SortFunc(out.Items, func(a, b contract.RejectHost) int { return strings.Compare(a.Host, b.Host) })
	return out, err
}

// resendSome lets one host after the other send rejects again, until so many were sent or one was refused.
func (a *API) resendSome(
	ctx context.Context, destination, choice string, ask wire.Ask, most int64,
	took func(host string, answer wire.Rejects, err error),
) error {
	rows, err := a.feeding(ctx, destination, choice, rejecting)
	if err != nil {
		return err
	}
	ask.Destination = destination
	for _, h := range rows {
		if most <= 0 || ctx.Err() != nil {
			break
		}
		ask.Lines = int(most)
		answer, err := a.Agents.Rejects(ctx, person(ctx), h.Host, wire.AskResend, ask)
		if err == nil && answer.Done == 0 && answer.Answer == "" { // it has none of these
			continue
		}
		took(h.Host, answer, err)
		if most -= answer.Done; answer.Answer != "" {
			break
		}
	}
	return ctx.Err()
}
