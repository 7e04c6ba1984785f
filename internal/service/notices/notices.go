// Package notices tells people and programs of what is wrong, as notice definitions say it.
package notices

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"synaxis/internal/core/catalogue"
	"synaxis/internal/core/health"
	"synaxis/internal/core/inventory"
	"synaxis/internal/core/notice"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/revisions"
	"synaxis/internal/service/secrets"
	"synaxis/internal/service/store"
)

// Times of the service.
const (
	lookEvery = 2 * time.Second
	// settling is how long after its start the service waits for its agents before it says that something is over
	settling     = 2 * time.Minute
	keepMessages = 30 * 24 * time.Hour
)

// Notices looks and tells. It is safe for concurrent use.
type Notices struct {
	store     *store.Store
	hosts     *hosts.Hosts
	revisions *revisions.Revisions
	secrets   *secrets.Secrets
	log       *slog.Logger
	now       func() time.Time
	note      func(topic string)
	began     time.Time

	mu          sync.Mutex
	rules       map[string]*notice.Rule
	revision    int
	alerts      map[string]map[string]notice.Alert // by notice and cause
	spoken      map[string]time.Time
	maintenance []store.Maintenance
}

// New goes on with what was known.
func New(
	ctx context.Context, st *store.Store, h *hosts.Hosts, rev *revisions.Revisions, sec *secrets.Secrets,
	log *slog.Logger, now func() time.Time, note func(topic string),
) (*Notices, error) {
	n := &Notices{store: st, hosts: h, revisions: rev, secrets: sec, log: log, now: now, note: note, began: now(),
		revision: -1, rules: map[string]*notice.Rule{}, alerts: map[string]map[string]notice.Alert{},
		spoken: map[string]time.Time{}}
	states, err := st.NoticeStates(ctx)
	if err != nil {
		return nil, err
	}
	told := false
	for _, s := range states {
		var alerts map[string]notice.Alert
		if err := json.Unmarshal([]byte(s.Alerts), &alerts); err != nil {
			log.Warn("the alerts of a notice are damaged and begin anew", "notice", s.Name, "error", err)
		}
		n.alerts[s.Name], n.spoken[s.Name] = alerts, s.Spoken
		told = told || len(alerts) > 0
	}
	if !told { // nothing can be said to be over
		n.began = time.Time{}
	}
	n.maintenance, err = st.Maintenances(ctx, now())
	return n, err
}

// Run looks and sends until ctx ends.
func (n *Notices) Run(ctx context.Context) {
	var running sync.WaitGroup
	running.Go(func() { n.send(ctx) })
	defer running.Wait()
	t := time.NewTicker(lookEvery)
	defer t.Stop()
	var pruned time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if err := n.Look(ctx); err != nil && ctx.Err() == nil {
			n.log.Error("notices cannot be decided", "error", err)
		}
		if now := n.now(); now.Sub(pruned) > time.Hour {
			pruned = now
			if err := n.store.PruneMessages(ctx, now.Add(-keepMessages)); err != nil {
				n.log.Error("old messages cannot be removed", "error", err)
			}
			if err := n.hosts.PruneTurns(ctx); err != nil {
				n.log.Error("old state changes cannot be removed", "error", err)
			}
		}
	}
}

// read reads the rules when others are published. n is locked.
func (n *Notices) read(ctx context.Context) error {
	st, err := n.revisions.Head(ctx)
	if err != nil {
		return err
	}
	if st.Revision.Number != n.revision {
		n.revision, n.rules = st.Revision.Number, Rules(st.Catalogue)
	}
	return nil
}

// Rules are the notices of a catalogue, by name.
func Rules(c *catalogue.Catalogue) map[string]*notice.Rule {
	out := map[string]*notice.Rule{}
	for _, d := range c.All() {
		if d.Notice != nil {
			out[d.Name] = d.Notice
		}
	}
	return out
}

// Look decides what is to be told now, and writes it down.
func (n *Notices) Look(ctx context.Context) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if err := n.read(ctx); err != nil {
		return err
	}
	now := n.now()
	if len(n.rules) == 0 && len(n.alerts) == 0 || now.Sub(n.began) < settling && n.hosts.ComingBack() {
		return nil
	}
	troubles := n.outOfMaintenance(n.hosts.Troubles(), now)
	for _, name := range slices.Sorted(maps.Keys(n.alerts)) {
		if n.rules[name] == nil { // it is defined no more
			if err := n.store.SaveNotice(ctx, store.NoticeState{Name: name, Alerts: "{}"}, nil); err != nil {
				return err
			}
			delete(n.alerts, name)
			delete(n.spoken, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(n.rules)) {
		rule := n.rules[name]
		next, m := rule.Decide(n.alerts[name], rule.Matching(troubles, n.labels, now), n.spoken[name], now)
		if m == nil && same(n.alerts[name], next) {
			n.alerts[name] = next
			continue
		}
		spoken := n.spoken[name]
		var out []store.Message
		if m != nil {
			spoken = now
			text, err := json.Marshal(m)
			if err != nil {
				return err
			}
			for i, way := range rule.To {
				out = append(out, store.Message{Notice: name, Way: i, ToWhom: way.String(), Message: string(text),
					Made: now})
			}
		}
		text, err := json.Marshal(next)
		if err != nil {
			return err
		}
		if err := n.store.SaveNotice(ctx, store.NoticeState{Name: name, Spoken: spoken, Alerts: string(text)},
			out); err != nil {
			return err
		}
		n.alerts[name], n.spoken[name] = next, spoken
		n.note("notices")
	}
	return nil
}

// same tells whether alerts differ in no more than in words, which change by themselves.
func same(a, b map[string]notice.Alert) bool {
	return maps.EqualFunc(a, b, func(x, y notice.Alert) bool {
		return x.Since.Equal(y.Since) && x.Gone.Equal(y.Gone) && x.Told.Equal(y.Told)
	})
}

func (n *Notices) labels(host string) map[string]string {
	v, _ := n.hosts.Get(host)
	return v.Labels
}

// outOfMaintenance are the troubles of hosts of which something may be told. n is locked.
func (n *Notices) outOfMaintenance(list []health.Trouble, now time.Time) []health.Trouble {
	n.maintenance = slices.DeleteFunc(n.maintenance, func(m store.Maintenance) bool { return !m.Until.After(now) })
	var chosen []inventory.Selector
	for _, m := range n.maintenance {
		if s, err := inventory.ParseSelector(m.Hosts); err == nil {
			chosen = append(chosen, s)
		}
	}
	if len(chosen) == 0 {
		return list
	}
	return slices.DeleteFunc(list, func(t health.Trouble) bool {
		v, ok := n.hosts.Get(t.Host)
		if !ok {
			return false
		}
		h := v.Inventory()
		return slices.ContainsFunc(chosen, func(s inventory.Selector) bool { return s.Match(&h) })
	})
}

// State is a notice with what it knows.
type State struct {
	Rule   *notice.Rule
	Spoken time.Time
	Alerts map[string]notice.Alert
}

// All are the notices that are published, by name.
func (n *Notices) All(ctx context.Context) (map[string]State, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if err := n.read(ctx); err != nil {
		return nil, err
	}
	out := map[string]State{}
	for name, r := range n.rules {
		out[name] = State{r, n.spoken[name], maps.Clone(n.alerts[name])}
	}
	return out, nil
}

// Acknowledge notes that somebody looks after a cause: it is not told again until it is over.
func (n *Notices) Acknowledge(ctx context.Context, who store.Person, name, cause, word string) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	var id string
	for c := range n.alerts[name] {
		if strings.HasPrefix(c, cause) {
			if id != "" {
				return store.Missingf("several causes of notice %s begin with %s; write more of it", name, cause)
			}
			id = c
		}
	}
	if id == "" || cause == "" {
		return store.Missingf("notice %s has no cause %s now", name, cause)
	}
	next := maps.Clone(n.alerts[name])
	a := next[id]
	a.Acknowledged = &notice.Acknowledgement{By: who.Name, Word: word, At: n.now().UTC()}
	next[id] = a
	text, err := json.Marshal(next)
	if err != nil {
		return err
	}
	if err := n.store.SaveNotice(ctx, store.NoticeState{Name: name, Spoken: n.spoken[name], Alerts: string(text)},
		nil); err != nil {
		return err
	}
	n.alerts[name] = next
	n.note("notices")
	return n.store.Update(ctx, func(t *store.Tx) error {
		return t.Audit(who, n.now(), "notice acknowledge", name, nil, map[string]any{"cause": a.Item.Words,
			"word": word})
	})
}

// StartMaintenance lets nothing be told of hosts until a time.
func (n *Notices) StartMaintenance(ctx context.Context, who store.Person, m store.Maintenance) (int, error) {
	if _, err := inventory.ParseSelector(m.Hosts); err != nil {
		return 0, err
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	m.Who, m.Began = who.Name, n.now()
	id, err := n.store.AddMaintenance(ctx, m)
	if err != nil {
		return 0, err
	}
	m.ID = id
	n.maintenance = append(n.maintenance, m)
	n.note("notices")
	return id, n.store.Update(ctx, func(t *store.Tx) error {
		return t.Audit(who, n.now(), "maintenance start", fmt.Sprint(id), nil, map[string]any{"hosts": m.Hosts,
			"until": m.Until.UTC(), "word": m.Word})
	})
}

// EndMaintenance ends one before its time.
func (n *Notices) EndMaintenance(ctx context.Context, who store.Person, id int) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if err := n.store.EndMaintenance(ctx, id, n.now()); err != nil {
		return err
	}
	n.maintenance = slices.DeleteFunc(n.maintenance, func(m store.Maintenance) bool { return m.ID == id })
	n.note("notices")
	return n.store.Update(ctx, func(t *store.Tx) error {
		return t.Audit(who, n.now(), "maintenance end", fmt.Sprint(id), nil, nil)
	})
}

// Try tells what a rule would have told in a span, from the state changes that are kept.
func (n *Notices) Try(ctx context.Context, r *notice.Rule, from, to time.Time) ([]notice.Message, error) {
	turns, err := n.hosts.Turns(ctx, "", from.Add(-before), to, mostTurns)
	if err != nil {
		return nil, err
	}
	changes := make([]notice.Change, 0, len(turns))
	for _, x := range turns {
		t := health.Trouble{Host: x.Host, Site: n.labels(x.Host)["site"], Source: x.Source,
			Verdict: health.Verdict{State: x.To, Code: x.Code, Reason: x.Reason, Since: x.At}}
		t.Destination = t.Verdict.About()
		changes = append(changes, notice.Change{At: x.At, Trouble: t})
	}
	return r.Replay(changes, n.labels, from, to), nil
}

// mostTurns bounds the state changes that a rule is tried on, and before is how long before the span they may be.
const (
	mostTurns = 100_000
	before    = 31 * 24 * time.Hour
)
