package api

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"synaxis/internal/contract"
	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/format"
	"synaxis/internal/core/guess"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/wire"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/changes"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/store"
)

// Bounds of what is told of senders.
const (
	sendersHosts = 60 // that are asked
	sendersShown = 5000
)

// listens tells whether a host runs a source that listens.
func listens(v hosts.View, source string, head *catalogue.Catalogue) bool {
	for _, name := range v.Sources() {
		if source != "" && name != source {
			continue
		}
		if d := head.Get("source", name); d != nil && d.Source.Listen != nil {
			return true
		}
	}
	return false
}

// ListSenders lists who sends to listeners.
func (a *API) ListSenders(
	ctx context.Context, r contract.ListSendersRequestObject,
) (contract.ListSendersResponseObject, error) {
	out := contract.ListSenders200JSONResponse{Items: []contract.Sender{}, Silent: []contract.SilentHost{}}
	q, err := a.question(contract.GetNumbersParams{Source: r.Params.Source, Hosts: r.Params.Hosts})
	if err != nil {
		return nil, err
	}
	head, err := a.Changes.Head(ctx)
	if err != nil {
		return nil, err
	}
	if q.Source != "" && head.Catalogue.Get("source", q.Source) == nil {
		return nil, store.Missingf("there is no source %s", q.Source)
	}
	var names []string
	for _, v := range a.Hosts.All() {
		switch {
		case q.Hosts != nil && !q.Hosts[v.Name], !listens(v, q.Source, head.Catalogue):
		case v.Connected:
			names = append(names, v.Name)
		default:
			out.Silent = append(out.Silent, contract.SilentHost{Host: v.Name, Reason: "its agent is not connected"})
		}
	}
	if n := len(names); n > sendersHosts {
		names, out.More = names[:sendersHosts], optional(n-sendersHosts)
	}
	eachHost(names, func(name string) ([]wire.Sender, error) { return a.Agents.Senders(ctx, name, q.Source) },
		func(name string, list []wire.Sender, err error) {
			if err != nil {
				out.Silent = append(out.Silent, contract.SilentHost{Host: name, Reason: err.Error()})
				return
			}
			for _, s := range list {
				if len(out.Items) == sendersShown || value(r.Params.Unknown) && s.Name != "" {
					continue
				}
				x := contract.Sender{Source: s.Source, Host: name, Name: optional(s.Name), Address: s.Address,
					Messages: s.Messages, Minute: s.Minute, Bytes: s.Bytes, Unparsed: s.Unparsed, Missed: s.Missed,
					Examples: []string{}, Format: optional(s.Format), Share: optional(s.Share)}
				if !s.First.IsZero() {
					x.First, x.Last = optional(s.First.UTC()), optional(s.Last.UTC())
				}
				for _, e := range s.Examples {
					x.Examples = append(x.Examples, strings.ToValidUTF8(e[:min(len(e), unclaimedLong)], ""))
				}
				out.Items = append(out.Items, x)
			}
		})
	slices.SortFunc(out.Items, func(x, y contract.Sender) int {
		return cmp.Or(cmp.Compare(min(1, len(value(x.Name))), min(1, len(value(y.Name)))),
			strings.Compare(value(x.Name), value(y.Name)), cmp.Compare(y.Messages, x.Messages),
			strings.Compare(x.Address, y.Address), strings.Compare(x.Host, y.Host))
	})
	slices.SortFunc(out.Silent, func(x, y contract.SilentHost) int { return strings.Compare(x.Host, y.Host) })
	a.guessSenders(out.Items, head.Catalogue)
	return out, ctx.Err()
}

// guessed bounds for how many senders it is guessed what their lines look like.
const guessed = 100

// guessSenders guesses the formats of senders whose lines are taken as they are, or are not read by their format, from
// their examples.
func (a *API) guessSenders(items []contract.Sender, cat *catalogue.Catalogue) {
	n := 0
	for i := range items {
		x := &items[i]
		if x.Format != nil || len(x.Examples) == 0 || n == guessed {
			continue
		}
		if d := cat.Get("source", x.Source); d != nil && d.Source.Format != string(format.Raw) &&
			2*x.Unparsed < x.Messages {
			continue
		}
		n++
		list := guess.Guess([]byte(strings.Join(x.Examples, "\n")+"\n"), guess.Options{Observed: a.Now()})
		if len(list) > 0 {
			name := string(list[0].Spec.Kind)
			x.Format, x.Share = &name, optional(list[0].Share)
		}
	}
}

// DefineSenders writes senders into the definition of their source.
func (a *API) DefineSenders(
	ctx context.Context, r contract.DefineSendersRequestObject,
) (contract.DefineSendersResponseObject, error) {
	who, draft := person(ctx), value(r.Body.Draft)
	cat, err := a.Changes.Catalogue(ctx, draft)
	if err != nil {
		return nil, err
	}
	d := cat.Get("source", r.Body.Source)
	if d == nil {
		return nil, store.Missingf("there is no source %s", r.Body.Source)
	}
	if d.Source.Listen == nil {
		return nil, usage{fmt.Sprintf("source %s does not listen, so nobody sends to it", d.Name)}
	}
	out := contract.DefineSenders201JSONResponse{Source: d.Name}
	text, have := d.Text, slices.Clone(d.Source.Listen.Senders)
	edits, err := senderEdits(r.Body.Senders, have, (*contract.DefinedSenders)(&out))
	if err != nil {
		return nil, err
	}
	if len(have) == 0 && d.Body().Get("read").Get("senders") == nil {
		var all []any
		for _, e := range edits {
			all = append(all, e.Value)
		}
		edits = []yamldoc.Edit{{Path: []string{"read", "senders"}, Value: all}}
	}
	for _, e := range edits {
		if text, err = yamldoc.Splice(text, e); err != nil {
			return nil, usage{fmt.Sprintf("source %s: %v", d.Name, err)}
		}
	}
	if draft == 0 {
		title := fmt.Sprintf("Know %s of %s", r.Body.Senders[0].Name, d.Name)
		if n := len(r.Body.Senders); n > 1 {
			title = fmt.Sprintf("Know %d senders of %s", n, d.Name)
		}
		begun, _, err := a.Changes.Load(ctx, who, title, false, nil)
		if err != nil {
			return nil, err
		}
		draft = begun.ID
	}
	out.Draft = draft
	was := changes.Drafted{Text: strings.TrimLeft(d.Text, "\n")}
	_, err = a.Changes.Put(ctx, who, draft, "source", d.Name, text, was.ETag())
	return out, err
}

// senderEdits are the changes of a list of senders: one of the same name or address is written anew, others are added.
func senderEdits(
	list []contract.NewSender, have []pipeline.Sender, out *contract.DefinedSenders,
) (edits []yamldoc.Edit, err error) {
	for i, s := range list {
		from, err := pipeline.Network(s.From)
		if err != nil {
			return nil, usage{fmt.Sprintf("sender %d: %q is neither an address nor a network such as 198.51.100.0/24", i+1, s.From)}
		}
		if why := catalogue.CheckName(s.Name); why != "" {
			return nil, usage{fmt.Sprintf("sender %d: %s", i+1, why)}
		}
		item := []yamldoc.Pair{{Key: "name", Value: s.Name}, {Key: "from", Value: network(from)}}
		if labels := value(s.Labels); len(labels) > 0 {
			var pairs []yamldoc.Pair
			for _, k := range slices.Sorted(maps.Keys(labels)) {
				pairs = append(pairs, yamldoc.Pair{Key: k, Value: labels[k]})
			}
			item = append(item, yamldoc.Pair{Key: "labels", Value: pairs})
		}
		if f := value(s.Format); f != "" {
			item = append(item, yamldoc.Pair{Key: "format", Value: f})
		}
		if z := value(s.Zone); z != "" {
			item = append(item, yamldoc.Pair{Key: "time", Value: []yamldoc.Pair{{Key: "zone", Value: z}}})
		}
		if e := value(s.Every); e != "" {
			item = append(item, yamldoc.Pair{Key: "expect", Value: []yamldoc.Pair{{Key: "every", Value: e}}})
		}
		at := slices.IndexFunc(have, func(h pipeline.Sender) bool {
			n, err := pipeline.Network(h.From)
			return h.Name == s.Name || err == nil && n == from
		})
		place := "#+"
		if at >= 0 {
			place = fmt.Sprintf("#%d", at)
			out.Changed++
		} else {
			have = append(have, pipeline.Sender{Name: s.Name, From: s.From})
			out.Added++
		}
		edits = append(edits, yamldoc.Edit{Path: []string{"read", "senders", place}, Value: item})
	}
	return edits, nil
}

// network is an address alone, or a network.
func network(p netip.Prefix) string {
	if p.IsSingleIP() {
		return p.Addr().String()
	}
	return p.String()
}

// GetSenderAuthority gives the certificate that senders must trust.
func (a *API) GetSenderAuthority(
	context.Context, contract.GetSenderAuthorityRequestObject,
) (contract.GetSenderAuthorityResponseObject, error) {
	c, text, err := a.Authority.Certificate()
	if err != nil {
		return nil, err
	}
	return contract.GetSenderAuthority200JSONResponse{Certificate: string(text), Until: c.NotAfter.UTC()}, nil
}
