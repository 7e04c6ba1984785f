package api

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/rollout"
	"synaxis/internal/core/series"
	"synaxis/internal/core/yamldoc"
	past "synaxis/internal/service/numbers"
	"synaxis/internal/service/store"
)

// usualNumbers are told where none is named.
var (
	usualNumbers   = []string{series.Read, series.Unparsed, series.Dropped, series.Acknowledged, series.Rejected}
	usualOfSenders = []string{series.Read, series.Bytes, series.Unparsed, series.Dropped, series.Acknowledged,
		series.Rejected, series.Waiting, series.Lag}
)

// mostLines bounds the lines of an answer.
const mostLines = 1000

// span reads which time is asked for. Without from it is so long before to, which is now.
func span(now time.Time, from, to *time.Time, since string, usual time.Duration) (time.Time, time.Time, error) {
	end := now
	if to != nil {
		end = *to
	}
	if from != nil {
		if since != "" {
			return end, end, usage{"since: say since or from, not both"}
		}
		if !from.Before(end) {
			return end, end, usage{"from: it is not before to"}
		}
		return *from, end, nil
	}
	length := usual
	if since != "" {
		d, err := yamldoc.ParseDuration(since)
		if err != nil || d <= 0 {
			return end, end, usage{fmt.Sprintf("since: %q is no span; write 30m, 24h or 7d", since)}
		}
		length = d
	}
	return end.Add(-length), end, nil
}

// question reads what is asked of numbers over time.
func (a *API) question(p contract.GetNumbersParams) (q past.Question, err error) {
	if q.From, q.To, err = span(a.Now(), p.From, p.To, value(p.Since), 24*time.Hour); err != nil {
		return q, err
	}
	if q.To.Sub(q.From) > 400*24*time.Hour {
		return q, usage{"from: numbers are kept for 400 days"}
	}
	q.By = value(p.By)
	if q.Numbers = usualNumbers; q.By == past.BySender {
		q.Numbers = usualOfSenders
	}
	if p.Number != nil && len(*p.Number) > 0 {
		q.Numbers = *p.Number
	}
	for _, n := range q.Numbers {
		if !series.Known(n) {
			return q, usage{fmt.Sprintf("number: there is no %q; there are %s, dropped:REASON, masked:MASK, dropped:* for "+
				"each reason, masked:* for each mask, and of one sender read@SENDER and so on", n,
				strings.Join(series.Numbers, ", "))}
		}
		if q.By == past.BySender && !series.OfSenders(n) {
			return q, usage{fmt.Sprintf("number: of senders there are %s, and no %q", strings.Join(series.Senders, ", "), n)}
		}
	}
	if text := value(p.Step); text != "" {
		d, err := yamldoc.ParseDuration(text)
		if err != nil || d < 30*time.Second || d%(30*time.Second) != 0 || d > 5*time.Minute &&
			d%(5*time.Minute) != 0 ||
			d > time.Hour && d%time.Hour != 0 {
			return q, usage{"step: it must be a whole number of 30s, from five minutes on of 5m, from an hour on of 1h"}
		}
		if q.To.Sub(q.From)/d > past.MostPoints {
			return q, usage{fmt.Sprintf("step: %s would give more than %d points", text, past.MostPoints)}
		}
		q.Step = d
	}
	q.Source, q.Destination = value(p.Source), value(p.Destination)
	if text := value(p.Hosts); text != "" {
		chosen, hint, err := a.choose(text, false)
		if err != nil {
			return q, err
		}
		q.Hosts = map[string]bool{}
		for _, row := range a.Inventory.All(false) {
			if chosen(row.Name) {
				q.Hosts[row.Name] = true
			}
		}
		if len(q.Hosts) == 0 {
			return q, store.Missingf("no host is chosen by %s%s", text, strings.TrimSuffix("; "+hint, "; "))
		}
	}
	q.Label = func(host string) string {
		row, _ := a.Inventory.Get(host)
		return row.Labels[q.By]
	}
	return q, nil
}

// GetNumbers tells what was counted over time.
func (a *API) GetNumbers(
	ctx context.Context, r contract.GetNumbersRequestObject,
) (contract.GetNumbersResponseObject, error) {
	q, err := a.question(r.Params)
	if err != nil {
		return nil, err
	}
	got, err := a.Numbers.Ask(ctx, q)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(got.Lines, func(l past.Line) bool { return l.Sum() > 0 }) { // is it a name of something?
		if err := a.defined(ctx, q); err != nil {
			return nil, err
		}
	}
	out := contract.GetNumbers200JSONResponse{From: got.Start,
		To: got.Start.Add(time.Duration(got.Steps) * got.Step), Step: int64(got.Step / time.Second),
		Lines: []contract.NumberLine{}, Marks: []contract.NumberMark{}}
	for _, l := range got.Lines[:min(len(got.Lines), mostLines)] {
		x := contract.NumberLine{Group: l.Group, Number: l.Number, Level: series.IsLevel(l.Number), Sum: l.Sum(),
			Points: make([]*int64, len(l.Points))}
		for i := range l.Points {
			if l.Heard[i] {
				x.Points[i] = &l.Points[i]
			}
		}
		out.Lines = append(out.Lines, x)
	}
	out.Marks, err = a.marks(ctx, q)
	return out, err
}

// defined tells whether there are the source and the destination that a question names. What was removed has counted
// something.
func (a *API) defined(ctx context.Context, q past.Question) error {
	st, err := a.Changes.Head(ctx)
	if err != nil {
		return err
	}
	for kind, name := range map[string]string{"source": q.Source, "destination": q.Destination} {
		if name == "" || st.Catalogue.Get(kind, name) != nil {
			continue
		}
		hint := ""
		if near := yamldoc.Nearest(name, st.Catalogue.Names(kind)); near != "" {
			hint = fmt.Sprintf("; did you mean %s?", near)
		}
		return store.Missingf("there is no %s %s%s", kind, name, hint)
	}
	return nil
}

// mostMarks bounds what is told of what changed.
const mostMarks = 200

// marks tell what changed in a span: revisions and rollouts, and of a single host its configs.
func (a *API) marks(ctx context.Context, q past.Question) ([]contract.NumberMark, error) {
	out := []contract.NumberMark{}
	add := func(m contract.NumberMark) {
		if !m.At.Before(q.From) && m.At.Before(q.To) {
			m.At = m.At.UTC()
			out = append(out, m)
		}
	}
	if len(q.Hosts) == 1 {
		for host := range q.Hosts {
			turns, err := a.Hosts.Turns(ctx, host, q.From, q.To, mostMarks)
			if err != nil {
				return nil, err
			}
			for _, t := range turns {
				if q.Source != "" && t.Source != "" && t.Source != q.Source {
					continue
				}
				words := fmt.Sprintf("%s: %s", t.To, t.Reason)
				if t.Reason == "" {
					words = string(t.To)
				}
				if t.Source != "" {
					words = t.Source + " " + words
				}
				state := contract.State(t.To)
				add(contract.NumberMark{At: t.At, What: contract.NumberMarkWhatState, Words: words, Host: &host,
					State: &state})
			}
			moments, err := a.Desired.History(ctx, host, time.Time{})
			if err != nil {
				return nil, err
			}
			for _, m := range moments {
				words := fmt.Sprintf("it was assigned revision %d", m.Revision)
				if len(m.Causes) > 0 {
					words += " for " + strings.Join(m.Causes, ", ")
				}
				add(contract.NumberMark{At: m.AssignedAt, What: contract.NumberMarkWhatConfig, Words: words,
					Host:    &host,
					Rollout: optional(m.Rollout), Revision: optional(m.Revision)})
			}
		}
	} else {
		list, err := a.Store.Revisions(ctx)
		if err != nil {
			return nil, err
		}
		for _, r := range list {
			add(contract.NumberMark{At: r.CreatedAt, What: contract.NumberMarkWhatRevision,
				Revision: optional(r.Number),
				Words:    fmt.Sprintf("revision %d was published: %s", r.Number, r.Title)})
		}
		for _, r := range a.Rollouts.All() {
			add(contract.NumberMark{At: r.Started, What: contract.NumberMarkWhatRollout, Rollout: optional(r.ID),
				Revision: optional(r.Revision),
				Words:    fmt.Sprintf("rollout %d of revision %d began", r.ID, r.Revision)})
			if r.Status == rollout.Done || r.Status == rollout.Stopped {
				add(contract.NumberMark{At: r.Ended, What: contract.NumberMarkWhatRollout, Rollout: optional(r.ID),
					Revision: optional(r.Revision),
					Words:    fmt.Sprintf("rollout %d of revision %d is %s", r.ID, r.Revision, r.Status)})
			}
		}
	}
	slices.SortStableFunc(out, func(x, y contract.NumberMark) int {
		return cmp.Compare(x.At.UnixNano(),
			y.At.UnixNano())
	})
	if len(out) > mostMarks {
		out = out[len(out)-mostMarks:]
	}
	return out, nil
}
