package agents

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// Unreachable is a host that cannot be asked now.
type Unreachable struct{ Words string }

func (u Unreachable) Error() string { return u.Words }

// Refused is what an agent answers that will not, or cannot.
type Refused struct{ Words string }

func (r Refused) Error() string { return r.Words }

// ReadLines reads the last lines of a file of a host. It is in the audit before it is done.
func (a *Agents) ReadLines(ctx context.Context, who store.Person, host, path string, n int) (wire.Lines, error) {
	r, err := a.ask(ctx, who, host, wire.AskLines, "host read-lines", wire.Ask{Path: path, Lines: n})
	if err != nil {
		return wire.Lines{}, err
	}
	if r.Lines == nil {
		return wire.Lines{}, Refused{"the agent answered something else than lines"}
	}
	return *r.Lines, nil
}

// Uncollected lists the logs of a host that no source takes. folders are looked into beside those that the agent
// knows.
func (a *Agents) Uncollected(ctx context.Context, who store.Person, host string, folders []string) (wire.Logs, error) {
	r, err := a.ask(ctx, who, host, wire.AskLogs, "host list-logs", wire.Ask{Folders: folders})
	if err != nil {
		return wire.Logs{}, err
	}
	if r.Logs == nil {
		return wire.Logs{}, Refused{"the agent answered something else than logs"}
	}
	return *r.Logs, nil
}

// Rejects asks a host about what it keeps of what a destination refused, or lets it send or discard that.
func (a *Agents) Rejects(
	ctx context.Context, who store.Person, host, kind string, q wire.Ask,
) (wire.Rejects, error) {
	r, err := a.ask(ctx, who, host, kind, "host "+kind, q)
	if err != nil {
		return wire.Rejects{}, err
	}
	if r.Rejects == nil {
		return wire.Rejects{}, Refused{"the agent answered something else than rejects"}
	}
	return *r.Rejects, nil
}

// Preflight lets a host rehearse a config. It changes nothing there.
func (a *Agents) Preflight(
	ctx context.Context, who store.Person, host, config string, sendTest bool,
) ([]wire.Tried, error) {
	q := wire.Ask{Config: config, Desk: a.p.Now(), SendTest: sendTest}
	r, err := a.ask(ctx, who, host, wire.AskPreflight, "host preflight", q)
	if err != nil {
		return nil, err
	}
	if r.Preflight == nil {
		return nil, Refused{"the agent answered something else than a preflight"}
	}
	return r.Preflight[:min(len(r.Preflight), wire.MaxTried)], nil
}

// Trial starts a trial on a host, asks how it goes, or ends it. Its beginning is in the audit.
func (a *Agents) Trial(ctx context.Context, who store.Person, host string, q wire.Ask) (wire.Trial, error) {
	var r wire.Reply
	var err error
	if q.Trial.Start {
		r, err = a.ask(ctx, who, host, wire.AskTrial, "host trial", q)
	} else {
		r, err = a.again(ctx, host, wire.AskTrial, q)
	}
	if err != nil {
		return wire.Trial{}, err
	}
	if r.Trial == nil {
		return wire.Trial{}, Refused{"the agent answered something else than a trial"}
	}
	return *r.Trial, nil
}

// again asks about something that is in the audit already.
func (a *Agents) again(ctx context.Context, name, kind string, q wire.Ask) (wire.Reply, error) {
	h, ok := a.p.Inventory.Get(name)
	if !ok {
		return wire.Reply{}, store.Missingf("there is no host %s", name)
	}
	r, err := a.p.Links.Ask(ctx, h.UID, kind, q)
	switch {
	case err != nil && ctx.Err() != nil:
		return r, ctx.Err()
	case err != nil:
		return r, Unreachable{fmt.Sprintf("the agent of %s %v", name, err)}
	case r.Error != "":
		return r, Refused{name + ": " + r.Error}
	}
	return r, nil
}

// ask sends a question to an agent and waits for the answer.
func (a *Agents) ask(
	ctx context.Context,
	who store.Person,
	name, kind, action string,
	q wire.Ask,
) (wire.Reply, error) {
	h, ok := a.p.Inventory.Get(name)
	if !ok {
		return wire.Reply{}, store.Missingf("there is no host %s", name)
	}
	unreachable := func(err error) error {
		return Unreachable{fmt.Sprintf("the agent of %s %v", name, err)}
	}
	if err := a.p.Links.MayAsk(h.UID); err != nil {
		return wire.Reply{}, unreachable(err)
	}
	if err := a.p.Store.Update(ctx, func(t *store.Tx) error {
		what := map[string]any{"path": q.Path, "lines": q.Lines}
		if q.Config != "" {
			what = map[string]any{"sendTest": q.SendTest}
		}
		if q.Destination != "" {
			what = map[string]any{"destination": q.Destination, "cause": q.Cause, "source": q.Source}
		}
		return t.Audit(who, a.p.Now(), action, name, nil, what)
	}); err != nil {
		return wire.Reply{}, err
	}
	r, err := a.p.Links.Ask(ctx, h.UID, kind, q)
	switch {
	case err != nil && ctx.Err() != nil:
		return r, ctx.Err()
	case err != nil:
		return r, unreachable(err)
	case r.Error != "":
		return r, Refused{name + ": " + r.Error}
	}
	return r, nil
}

// LogFolders are the settings of a host that are paths: where its logs may be.
func LogFolders(settings map[string]string) []string {
	var out []string
	for _, v := range settings {
		if strings.HasPrefix(v, "/") && !strings.ContainsAny(v, "*?\n") {
			out = append(out, v)
		}
	}
	slices.Sort(out)
	return out
}

// Senders asks a host who sends to its listeners.
func (a *Agents) Senders(ctx context.Context, host, source string) ([]wire.Sender, error) {
	r, err := a.again(ctx, host, wire.AskSenders, wire.Ask{Source: source})
	return r.Senders[:min(len(r.Senders), wire.MaxSenders)], err
}

// Unclaimed asks a host for examples of what formats did not read and no route took.
func (a *Agents) Unclaimed(ctx context.Context, host, source string) ([]wire.Unclaimed, error) {
	r, err := a.again(ctx, host, wire.AskUnclaimed, wire.Ask{Source: source})
	return r.Unclaimed[:min(len(r.Unclaimed), wire.MaxUnclaimed)], err
}
