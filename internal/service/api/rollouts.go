package api

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
	"synaxis/internal/core/rollout"
	"synaxis/internal/service/rollouts"
)

// counted are the numbers of hosts in each state, as the contract has them.
func counted(all map[rollout.HostState]int) (out map[string]int, hosts int) {
	out = map[string]int{}
	for state, n := range all {
		out[string(state)] = n
		hosts += n
	}
	return out, hosts
}

func rolloutSummary(r rollouts.Rollout) contract.RolloutSummary {
	counts, n := counted(r.Counts)
	return contract.RolloutSummary{
		Id:          r.ID,
		Revision:    r.Revision,
		State:       contract.RolloutSummaryState(r.Status),
		Phase:       contract.RolloutSummaryPhase(r.Phase),
		Plan:        r.Plan.Name,
		Author:      r.Author,
		Started:     r.Started,
		Ended:       optional(r.Ended),
		Until:       optional(r.Until),
		Asks:        optional(r.Asks),
		TakesBack:   optional(r.TakesBack),
		TakenBackBy: optional(r.TakenBackBy),
		Chosen:      optional(r.Chosen),
		Wave:        r.Wave + 1,
		Waves:       r.Waves,
		Hosts:       n,
		Counts:      counts,
	}
}

// trouble is the order in which hosts of a rollout are shown.
var trouble = []rollout.HostState{
	rollout.Refused,
	rollout.TimedOut,
	rollout.Waiting,
	rollout.Offered,
	rollout.Applying,
	rollout.Applied,
	rollout.Deferred,
	rollout.LeftOut,
	rollout.Confirmed,
}

// words are a duration without its zeros, such as 2m.
func words(d time.Duration) string {
	s := d.String()
	for _, zero := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(s, zero) {
			s = s[:len(s)-2]
		}
	}
	return s
}

func rolloutPlan(p rollout.Plan) contract.RolloutPlan {
	out := contract.RolloutPlan{Name: p.Name, Waves: []string{}, SpreadBy: optional(p.SpreadBy),
		AtOnce: optional(p.AtOnce),
		Soak:   words(p.Soak), StopWhen: optional(p.StopWhen), OnStop: cmp.Or(p.OnStop, rollout.Hold),
		Window: optional(p.Window), Absent: cmp.Or(p.Absent, rollout.CatchUp)}
	for _, w := range p.Waves {
		out.Waves = append(out.Waves, w.String())
	}
	if len(p.Approve) > 0 {
		out.Approve = &p.Approve
	}
	return out
}

func (a *API) rolloutFull(r rollouts.Rollout) contract.Rollout {
	counts, _ := counted(r.Counts)
	out := contract.Rollout{
		Id:          r.ID,
		Revision:    r.Revision,
		State:       contract.RolloutState(r.Status),
		Phase:       contract.RolloutPhase(r.Phase),
		Since:       cmp.Or(r.Since, r.Started),
		Until:       optional(r.Until),
		Asks:        optional(r.Asks),
		Plan:        rolloutPlan(r.Plan),
		Before:      optional(r.Before),
		TakesBack:   optional(r.TakesBack),
		TakenBackBy: optional(r.TakenBackBy),
		Chosen:      optional(r.Chosen),
		Author:      r.Author,
		Started:     r.Started,
		Ended:       optional(r.Ended),
		Waves:       r.Waves,
		Wave:        r.Wave + 1,
		WaveList:    []contract.RolloutWave{},
		Counts:      counts,
		Hosts:       []contract.RolloutHost{},
		Decisions:   []contract.Decision{},
	}
	for i, of := range r.WaveCounts {
		w := contract.RolloutWave{Wave: i + 1}
		if w.Counts, w.Hosts = counted(of); i < len(r.Plan.Waves) {
			w.Says = r.Plan.Waves[i].String()
		}
		out.WaveList = append(out.WaveList, w)
	}
	if e := r.Evidence; e.Numbers != nil && r.Status == rollout.Running {
		out.Gate = &contract.RolloutGate{Numbers: e.Numbers, Enough: e.Enough, Missing: optional(e.Missing)}
	}
	if hosts, away, ok := a.Rollouts.BackOf(r.ID); ok {
		out.Back = &contract.BackPreview{Revision: r.Before, Hosts: hosts, Away: away}
	}
	slices.SortStableFunc(r.Hosts, func(x, y rollout.Host) int {
		return cmp.Or(slices.Index(trouble, x.State)-slices.Index(trouble, y.State), x.Wave-y.Wave)
	})
	for _, h := range r.Hosts {
		if h.Same() {
			h.Wave = -1
		}
		out.Hosts = append(
			out.Hosts,
			contract.RolloutHost{
				Host:   h.Name,
				Wave:   h.Wave + 1,
				Told:   h.Told,
				State:  string(h.State),
				Reason: optional(h.Reason),
				Since:  h.Since,
				Until:  optional(h.Deadline),
			},
		)
	}
	for _, d := range r.Decisions {
		x := contract.Decision{At: d.At, What: d.What, Why: d.Why, Who: optional(d.Who)}
		if d.Numbers != nil {
			x.Numbers = &d.Numbers
		}
		out.Decisions = append(out.Decisions, x)
	}
	return out
}

// ListRollouts lists rollouts.
func (a *API) ListRollouts(
	context.Context,
	contract.ListRolloutsRequestObject,
) (contract.ListRolloutsResponseObject, error) {
	out := contract.ListRollouts200JSONResponse{Items: []contract.RolloutSummary{}}
	for _, r := range a.Rollouts.All() {
		out.Items = append(out.Items, rolloutSummary(r))
	}
	return out, nil
}

func request(b *contract.NewRollout) rollouts.Request {
	if b == nil {
		return rollouts.Request{}
	}
	return rollouts.Request{Revision: value(b.Revision), Plan: value(b.Plan), Hosts: value(b.Hosts),
		First: value(b.First),
		Only:  value(b.Only)}
}

// StartRollout starts a rollout.
func (a *API) StartRollout(
	ctx context.Context,
	r contract.StartRolloutRequestObject,
) (contract.StartRolloutResponseObject, error) {
	if r.Body.Draft != nil {
		return nil, usage{"draft: only a preview takes a draft; publish it, and start a rollout of its revision"}
	}
	id, err := a.Rollouts.Start(ctx, person(ctx), request(r.Body))
	if err != nil {
		return nil, err
	}
	full, err := a.Rollouts.Get(id)
	return contract.StartRollout201JSONResponse(a.rolloutFull(full)), err
}

// PreviewRollout tells what a rollout would do.
func (a *API) PreviewRollout(
	ctx context.Context,
	r contract.PreviewRolloutRequestObject,
) (contract.PreviewRolloutResponseObject, error) {
	asked := request(r.Body)
	if draft := value(r.Body.Draft); draft > 0 {
		if asked.Revision > 0 {
			return nil, usage{"a preview is of a draft or of a revision, not of both"}
		}
		after, err := a.Changes.After(ctx, draft)
		if err != nil {
			return nil, err
		}
		asked.Draft = after
	}
	p, problem, err := a.Rollouts.Preview(ctx, person(ctx), asked)
	if err != nil {
		return nil, err
	}
	out := contract.PreviewRollout200JSONResponse{Revision: p.Revision, Before: optional(p.Before),
		Plan: rolloutPlan(p.Plan),
		Why:  p.Why, Changes: p.Changes, Same: len(p.Targets) - p.Changes, Causes: p.Causes, Left: p.Left,
		Waves: []contract.WavePreview{}}
	if problem != nil {
		text := problem.Error()
		out.Problem = &text
	}
	for i, w := range p.Plan.Waves {
		x := contract.WavePreview{Wave: i + 1, Says: w.String(), Hosts: []string{}, Away: []string{},
			Approve: optional(slices.Contains(p.Plan.Approve, i+1))}
		for _, t := range p.Targets {
			if t.Wave != i || t.Running == t.Hash {
				continue
			}
			x.Hosts = append(x.Hosts, t.Host)
			if !t.Connected {
				x.Away = append(x.Away, t.Host)
			}
		}
		out.Waves = append(out.Waves, x)
	}
	return out, nil
}

// GetRollout shows a rollout.
func (a *API) GetRollout(
	_ context.Context,
	r contract.GetRolloutRequestObject,
) (contract.GetRolloutResponseObject, error) {
	full, err := a.Rollouts.Get(r.Rollout)
	if err != nil {
		return nil, err
	}
	return contract.GetRollout200JSONResponse(a.rolloutFull(full)), nil
}

// actions are what persons decide of rollouts.
var actions = map[contract.RolloutActionAction]rollout.EventKind{
	contract.Pause:    rollout.Pause,
	contract.Resume:   rollout.Resume,
	contract.Stop:     rollout.Stop,
	contract.Approve:  rollout.Approve,
	contract.SkipSoak: rollout.SkipSoak,
	contract.Retry:    rollout.Retry,
	contract.LeaveOut: rollout.Skip,
}

// ActOnRollout takes what a person decides of a rollout.
func (a *API) ActOnRollout(
	ctx context.Context,
	r contract.ActOnRolloutRequestObject,
) (contract.ActOnRolloutResponseObject, error) {
	kind, ok := actions[r.Body.Action]
	if !ok {
		return nil, usage{"action: expected pause, resume, stop, approve, skip-soak, retry or leave-out"}
	}
	host, reason := value(r.Body.Host), value(r.Body.Reason)
	if kind == rollout.Skip && host == "" {
		return nil, usage{"host: say which host to leave out"}
	}
	if err := oneLine("reason", reason, 300); reason != "" && err != nil {
		return nil, err
	}
	e := rollout.Event{Kind: kind, Reason: reason}
	if kind == rollout.Skip || kind == rollout.Retry {
		e.Host = host
	}
	if err := a.Rollouts.Act(ctx, person(ctx), r.Rollout, e, string(r.Body.Action)); err != nil {
		return nil, err
	}
	full, err := a.Rollouts.Get(r.Rollout)
	return contract.ActOnRollout200JSONResponse(a.rolloutFull(full)), err
}

// TakeBackRollout takes a rollout back.
func (a *API) TakeBackRollout(
	ctx context.Context,
	r contract.TakeBackRolloutRequestObject,
) (contract.TakeBackRolloutResponseObject, error) {
	reason := ""
	if r.Body != nil {
		reason = value(r.Body.Reason)
	}
	if err := oneLine("reason", reason, 300); reason != "" && err != nil {
		return nil, err
	}
	id, err := a.Rollouts.Back(ctx, person(ctx), r.Rollout, reason)
	if err != nil {
		return nil, err
	}
	full, err := a.Rollouts.Get(id)
	return contract.TakeBackRollout201JSONResponse(a.rolloutFull(full)), err
}

// LetHostGo lets a pinned host go.
func (a *API) LetHostGo(
	ctx context.Context,
	r contract.LetHostGoRequestObject,
) (contract.LetHostGoResponseObject, error) {
	return contract.LetHostGo204Response{}, a.Rollouts.LetGo(ctx, person(ctx), r.Host)
}

// GetHostHistory tells what a host was to run.
func (a *API) GetHostHistory(
	ctx context.Context,
	r contract.GetHostHistoryRequestObject,
) (contract.GetHostHistoryResponseObject, error) {
	var at time.Time
	if r.Params.At != nil {
		at = *r.Params.At
	}
	list, err := a.Desired.History(ctx, r.Host, at)
	if err != nil {
		return nil, err
	}
	out := contract.GetHostHistory200JSONResponse{Items: []contract.HostMoment{}}
	for _, m := range list {
		x := contract.HostMoment{At: m.AssignedAt, Revision: m.Revision, Rollout: optional(m.Rollout),
			Who:  optional(m.Who),
			Hash: m.Hash, Config: optional(m.Config), Note: optional(m.Note)}
		if len(m.Causes) > 0 {
			x.Causes = &m.Causes
		}
		if m.Seen != nil {
			x.Labels, x.Settings = &m.Seen.Labels, &m.Seen.Settings
		}
		out.Items = append(out.Items, x)
	}
	return out, nil
}
