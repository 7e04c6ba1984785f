package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/notice"
	"synaxis/internal/core/yamldoc"
	"synaxis/internal/service/notices"
	"synaxis/internal/service/store"
)

// shownMessages bounds the messages that are shown of a notice.
const shownMessages = 20

// ListNotices tells what notices know and told.
func (a *API) ListNotices(
	ctx context.Context, _ contract.ListNoticesRequestObject,
) (contract.ListNoticesResponseObject, error) {
	all, err := a.Notices.All(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListNotices200JSONResponse{Items: []contract.Notice{}}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		s := all[name]
		n := contract.Notice{Name: name, When: s.Rule.When.Text, To: []string{}, Alerts: []contract.Alert{},
			Messages: []contract.SentMessage{}}
		for _, w := range s.Rule.To {
			n.To = append(n.To, w.String())
		}
		for _, x := range s.Alerts {
			if !x.Gone.IsZero() {
				continue
			}
			i := x.Item
			alert := contract.Alert{Cause: i.Cause, State: contract.State(i.State), Code: i.Code, Words: i.Words,
				Where: i.Where, Todo: i.Todo, Hosts: i.Hosts, Since: x.Since.UTC(), Told: optional(x.Told.UTC())}
			if k := x.Acknowledged; k != nil {
				alert.AcknowledgedBy, alert.Word = &k.By, optional(k.Word)
			}
			n.Alerts = append(n.Alerts, alert)
		}
		slices.SortFunc(n.Alerts, func(x, y contract.Alert) int {
			return cmp.Or(x.Since.Compare(y.Since), cmp.Compare(x.Cause, y.Cause))
		})
		sent, err := a.Store.Messages(ctx, name, shownMessages)
		if err != nil {
			return nil, err
		}
		for _, m := range sent {
			var msg notice.Message
			_ = json.Unmarshal([]byte(m.Message), &msg)
			x := contract.SentMessage{Id: m.ID, To: m.ToWhom, Subject: msg.Subject(), At: m.Made, Tries: m.Tries,
				Done: optional(m.Done), Error: optional(m.Error)}
			if m.Done.IsZero() {
				x.Next = optional(m.Next)
			}
			n.Messages = append(n.Messages, x)
		}
		out.Items = append(out.Items, n)
	}
	return out, nil
}

// AcknowledgeNotice notes that somebody looks after a cause.
func (a *API) AcknowledgeNotice(
	ctx context.Context, r contract.AcknowledgeNoticeRequestObject,
) (contract.AcknowledgeNoticeResponseObject, error) {
	word := value(r.Body.Word)
	if err := oneLine("word", word, 300); word != "" && err != nil {
		return nil, err
	}
	err := a.Notices.Acknowledge(ctx, person(ctx), r.Notice, r.Body.Cause, word)
	return contract.AcknowledgeNotice204Response{}, err
}

// TryNotice tells what a notice would have told.
func (a *API) TryNotice(
	ctx context.Context, r contract.TryNoticeRequestObject,
) (contract.TryNoticeResponseObject, error) {
	from, to, err := span(a.Now(), nil, nil, value(r.Body.Since), 7*24*time.Hour)
	if err != nil {
		return nil, err
	}
	if to.Sub(from) > 31*24*time.Hour {
		return nil, usage{"since: a month at most"}
	}
	st, err := a.Changes.Head(ctx)
	if draft := value(r.Body.Draft); draft > 0 {
		st, err = a.Changes.After(ctx, draft)
	}
	if err != nil {
		return nil, err
	}
	rule := notices.Rules(st.Catalogue)[r.Notice]
	if rule == nil {
		return nil, store.Missingf("there is no notice %s", r.Notice)
	}
	list, err := a.Notices.Try(ctx, rule, from, to)
	if err != nil {
		return nil, err
	}
	out := contract.TryNotice200JSONResponse{Items: []contract.NoticeMessage{}}
	for _, m := range list {
		out.Items = append(out.Items, contract.NoticeMessage{At: m.At, Subject: m.Subject(), Text: m.Text()})
	}
	return out, nil
}

func maintenance(m store.Maintenance) contract.Maintenance {
	return contract.Maintenance{Id: m.ID, Hosts: m.Hosts, Began: m.Began.UTC(), Until: m.Until.UTC(), Who: m.Who,
		Word: optional(m.Word)}
}

// maintenances are all that have not ended.
func (a *API) maintenances(ctx context.Context) ([]contract.Maintenance, error) {
	list, err := a.Store.Maintenances(ctx, a.Now())
	out := []contract.Maintenance{}
	for _, m := range list {
		out = append(out, maintenance(m))
	}
	return out, err
}

// ListMaintenance tells of which hosts nothing is told.
func (a *API) ListMaintenance(
	ctx context.Context, _ contract.ListMaintenanceRequestObject,
) (contract.ListMaintenanceResponseObject, error) {
	list, err := a.maintenances(ctx)
	return contract.ListMaintenance200JSONResponse{Items: list}, err
}

// StartMaintenance lets nothing be told of hosts.
func (a *API) StartMaintenance(
	ctx context.Context, r contract.StartMaintenanceRequestObject,
) (contract.StartMaintenanceResponseObject, error) {
	long, err := yamldoc.ParseDuration(r.Body.For)
	if err != nil || long < time.Minute || long > 30*24*time.Hour {
		return nil, usage{fmt.Sprintf("for: %q is no time from a minute to 30 days, such as 2h", r.Body.For)}
	}
	word := value(r.Body.Word)
	if err := oneLine("word", word, 300); word != "" && err != nil {
		return nil, err
	}
	if _, _, err := a.choose(r.Body.Hosts, false); err != nil {
		return nil, err
	}
	m := store.Maintenance{Hosts: r.Body.Hosts, Until: a.Now().Add(long), Word: word}
	if m.ID, err = a.Notices.StartMaintenance(ctx, person(ctx), m); err != nil {
		return nil, err
	}
	m.Began, m.Who = a.Now(), person(ctx).Name
	return contract.StartMaintenance201JSONResponse(maintenance(m)), nil
}

// EndMaintenance ends one.
func (a *API) EndMaintenance(
	ctx context.Context, r contract.EndMaintenanceRequestObject,
) (contract.EndMaintenanceResponseObject, error) {
	return contract.EndMaintenance204Response{}, a.Notices.EndMaintenance(ctx, person(ctx), r.Id)
}
