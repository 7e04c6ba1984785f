package api

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/service/secrets"
	"synaxis/internal/service/store"
)

// Bounds of what is told of the last day, and of the days to come.
const (
	lastDay      = 24 * time.Hour
	expiresSoon  = 30 * 24 * time.Hour
	dayShown     = 5
	dayLooked    = 500 // entries of the audit
	expiresShown = 12
)

// telling are the actions of the audit that change something for others.
var telling = []string{"draft publish", "rollout", "host retire", "host edit", "host labels", "host settings", "host import",
	"host let-go", "secret set", "secret remove", "join-token create", "maintenance start", "maintenance end"}

// lately tells what was done in the last day, by whom.
func (a *API) lately(ctx context.Context, out *contract.Status) error {
	now := a.Now()
	out.Rollouts, out.Changes = []contract.RolloutSummary{}, []contract.AuditEntry{}
	for _, r := range a.Rollouts.All() {
		if s := rolloutSummary(r); len(out.Rollouts) < dayShown &&
			(now.Sub(s.Started) < lastDay || s.Ended != nil && now.Sub(*s.Ended) < lastDay || s.Ended == nil) {
			out.Rollouts = append(out.Rollouts, s)
		}
	}
	list, err := a.Store.AuditEntries(ctx, store.AuditFilter{Since: now.Add(-lastDay), Limit: dayLooked})
	if err != nil {
		return err
	}
	for _, e := range list {
		if !slices.ContainsFunc(telling, func(t string) bool {
			return e.Action == t || len(e.Action) > len(t) && e.Action[:len(t)+1] == t+" "
		}) {
			continue
		}
		if len(out.Changes) == dayShown {
			out.MoreChanges++
			continue
		}
		out.Changes = append(out.Changes, contract.AuditEntry{Id: strconv.Itoa(e.ID), At: e.At, Who: e.Who,
			Origin: e.Origin,
			Action: e.Action, Object: e.Object})
	}
	return nil
}

// expiring tells what expires within 30 days, and what has expired: secrets, the certificates of destinations, and
// that of the service.
func (a *API) expiring(ctx context.Context, out *contract.Status) error {
	now := a.Now()
	out.Expires = []contract.Expiring{}
	add := func(kind contract.ExpiringKind, name, what string, at time.Time) {
		if at.IsZero() || at.Sub(now) > expiresSoon {
			return
		}
		words := fmt.Sprintf("%s expires on %s", what, at.UTC().Format(time.DateOnly))
		if at.Before(now) {
			words = fmt.Sprintf("%s expired on %s", what, at.UTC().Format(time.DateOnly))
		}
		out.Expires = append(out.Expires, contract.Expiring{Kind: kind, Name: name, At: at.UTC(), Words: words})
	}
	add(contract.ExpiringKindService, "service", "the certificate of the service", a.Until)
	all, _, err := a.Secrets.List(ctx)
	if err != nil {
		return err
	}
	for _, s := range all {
		add(contract.ExpiringKindSecret, s.Name, "secret "+s.Name, s.ExpiresAt)
	}
	head, err := a.Changes.Head(ctx)
	if err != nil {
		return err
	}
	for _, name := range head.Catalogue.Names("destination") {
		d := head.Catalogue.Get("destination", name).Destination
		for what, text := range map[string]string{"the authority": d.TLS.CA,
			"the client certificate": d.TLS.Certificate} {
			add(contract.ExpiringKindCertificate, name, what+" of destination "+name, secrets.Expiry(text))
		}
	}
	slices.SortFunc(out.Expires, func(x, y contract.Expiring) int { return x.At.Compare(y.At) })
	out.Expires = out.Expires[:min(len(out.Expires), expiresShown)]
	return nil
}
