package fleetsim

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"synaxis/internal/contract"
)

// Drafts of the rehearsal: scanners of another make, a format that reads nothing, and one that is right.
const (
	otherMake = `# Scanners of the new make call the result a verdict.
format: gate-scan
template: '{ts:time} lane={lane:int} ticket={ticket:token} doc={doc:token} result={verdict:token} id={id:token} took={ms:int}ms'
time: {field: ts, layout: '%Y-%m-%d %H:%M:%S.%f'}
level: {field: verdict, map: {DENIED: WARN, FAULT: ERROR, '*': INFO}}
`
	readsNothing = `# A format written from memory.
format: gate-scan
template: '{ts:time} gate={lane:int} ticket={ticket:token} doc={doc:token} result={result:token} id={id:token} took={ms:int}ms'
time: {field: ts, layout: '%Y-%m-%d %H:%M:%S.%f'}
level: {field: result, map: {DENIED: WARN, FAULT: ERROR, '*': INFO}}
`
	turnstiles = `# The new turnstiles beside the gates.
source: turnstiles
hosts: {role: gate}
labels: {team: boarding, data: none}
read: {files: ["${setting.log_root}/turnstile/*.log"]}
format: raw
send: [harbour-archive]
`
	deniedIsError = `# Denied tickets are an error now.
format: gate-scan
template: '{ts:time} lane={lane:int} ticket={ticket:token} doc={doc:token} result={result:token} id={id:token} took={ms:int}ms'
time: {field: ts, layout: '%Y-%m-%d %H:%M:%S.%f'}
level: {field: result, map: {DENIED: ERROR, FAULT: ERROR, '*': INFO}}
`
)

// Rehearsed are the drafts and rollouts that a rehearsal leaves.
type Rehearsed struct{ Trial, Preflight, Stopped, Waits int }

// Rehearse tells how a change hurts nobody: a trial that shows a field vanishing, a preflight that finds a folder that
// cannot be read, a scanner that falls silent, of which the watch desk is told, an archive that stops while a probe
// hangs there and a backlog grows and drains, rejects that are mended and sent again, a bad revision that one host
// takes and that is taken back by itself, a vessel that comes back and catches up, and a rollout that waits at its
// gate. The hosts write meanwhile.
func (d *Demo) Rehearse(ctx context.Context) (r Rehearsed, err error) {
	living := ctx // the clocks of the scanners go on
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	for _, m := range d.Fleet {
		m.Live(ctx, d.o.Log)
	}
	if r.Trial, err = d.tryOtherMake(ctx); err != nil {
		return r, err
	}
	if r.Preflight, err = d.rehearseTurnstiles(ctx); err != nil {
		return r, err
	}
	if err := d.fallSilent(ctx, living); err != nil {
		return r, err
	}
	if err := d.archiveStops(ctx); err != nil {
		return r, err
	}
	if err := d.mendRejects(ctx); err != nil {
		return r, err
	}
	if r.Stopped, err = d.rollOutNothing(ctx); err != nil {
		return r, err
	}
	if err := d.catchUp(ctx); err != nil {
		return r, err
	}
	if r.Waits, err = d.waitAtGate(ctx); err != nil {
		return r, err
	}
	return r, nil
}

// draft loads a file as a draft of its own.
func (d *Demo) draft(ctx context.Context, title, text string) (int, error) {
	x, err := answer[contract.Draft](d.client.LoadDraft(ctx, contract.NewDraft{Title: &title,
		Files: []contract.File{{Path: "rehearsal.yaml", Text: text}}}))
	return x.Id, err
}

// put publishes a file.
func (d *Demo) put(ctx context.Context, title, text string) (int, error) {
	id, err := d.draft(ctx, title, text)
	if err != nil {
		return 0, err
	}
	p, err := answer[contract.Published](d.client.PublishDraft(ctx, id, contract.Publication{Message: &title}))
	return p.Revision, err
}

func (d *Demo) tryOtherMake(ctx context.Context) (int, error) {
	id, err := d.draft(ctx, "Scanners of the new make", otherMake)
	if err != nil {
		return 0, err
	}
	gates, seconds := "role=gate", 8
	t, err := answer[contract.Trial](d.client.StartTrial(ctx, contract.NewTrial{Draft: id, Hosts: &gates,
		Seconds: &seconds}))
	if err != nil {
		return 0, err
	}
	if err := d.wait(ctx, time.Minute, "the trial to end", func() (bool, error) {
		t, err = answer[contract.Trial](d.client.GetTrial(ctx, t.Id))
		return t.Ended, err
	}); err != nil {
		return 0, err
	}
	for _, s := range t.Sources {
		for _, f := range s.Fields {
			if f.Change == contract.Vanishes {
				d.say("Trial of draft %d on %d gates: of %d records %d come out differently, and field %s vanishes",
					id,
					len(t.Hosts), s.Now.Read, s.Differ, f.Name)
				return id, nil
			}
		}
	}
	return id, fmt.Errorf("the trial shows no field that vanishes: %+v", t.Sources)
}

func (d *Demo) rehearseTurnstiles(ctx context.Context) (int, error) {
	id, err := d.draft(ctx, "Turnstiles", turnstiles)
	if err != nil {
		return 0, err
	}
	first := true
	for _, m := range d.Fleet { // on one gate there is something else where the folder should be
		if m.Role != "gate" {
			continue
		}
		path := filepath.Join(m.LogRoot(), "turnstile")
		if first {
			err = os.WriteFile(path, []byte("not a folder\n"), 0o600)
		} else if err = os.MkdirAll(path, 0o755); err == nil {
			err = os.WriteFile(filepath.Join(path, "t.log"), []byte("turned\n"), 0o600)
		}
		if err != nil {
			return id, err
		}
		first = false
	}
	p, err := answer[contract.Preflight](d.client.RunPreflight(ctx, contract.NewPreflight{Draft: &id}))
	if err != nil {
		return id, err
	}
	for _, g := range p.Groups {
		if g.Kind == "path" && g.Level != "fine" && g.Name == "turnstiles" {
			d.say("Preflight of draft %d on %d hosts: on %s %s", id, p.Hosts, strings.Join(g.Hosts, ", "), g.Words)
			return id, nil
		}
	}
	return id, fmt.Errorf("the preflight finds no folder that cannot be read: %+v", p.Groups)
}

// ended waits for the end of a rollout.
func (d *Demo) ended(ctx context.Context, id int, most time.Duration) (r contract.Rollout, err error) {
	err = d.wait(ctx, most, fmt.Sprintf("rollout %d to end", id), func() (bool, error) {
		r, err = answer[contract.Rollout](d.client.GetRollout(ctx, id))
		return r.State == contract.RolloutStateDone || r.State == contract.RolloutStateStopped, err
	})
	return r, err
}

func (d *Demo) rollOutNothing(ctx context.Context) (int, error) {
	revision, err := d.put(ctx, "Scanner format, from memory", readsNothing)
	if err != nil {
		return 0, err
	}
	plan := "rehearsal"
	r, err := answer[contract.Rollout](d.client.StartRollout(ctx, contract.NewRollout{Plan: &plan}))
	if err != nil {
		return 0, err
	}
	if r, err = d.ended(ctx, r.Id, 2*time.Minute); err != nil {
		return r.Id, err
	}
	if r.State != contract.RolloutStateStopped || r.TakenBackBy == nil {
		return r.Id, fmt.Errorf("revision %d, which reads nothing, is %s", revision, r.State)
	}
	var told []string
	for _, h := range r.Hosts {
		if h.Told {
			told = append(told, h.Host)
		}
	}
	gate := r.Decisions[slices.IndexFunc(r.Decisions, func(x contract.Decision) bool { return x.What == "gate" })]
	d.say("Rollout %d of revision %d: only %s took it; stopped: %s", r.Id, revision, strings.Join(told, ", "),
		gate.Why)
	back, err := d.ended(ctx, *r.TakenBackBy, time.Minute)
	if err != nil {
		return r.Id, err
	}
	d.say("Rollout %d took it back by itself to revision %d on %d host: %s", back.Id, back.Revision,
		len(back.Hosts), back.State)
	if len(told) != 1 || back.State != contract.RolloutStateDone {
		return r.Id, fmt.Errorf("%d hosts saw it", len(told))
	}
	return r.Id, nil
}

func (d *Demo) catchUp(ctx context.Context) error {
	i := slices.IndexFunc(d.Fleet, func(m *Running) bool { return m.Role == "vessel" })
	vessel := d.Fleet[i]
	vessel.Depart()
	if err := d.wait(ctx, 90*time.Second, vessel.Name+" to be at sea", func() (bool, error) {
		h, err := answer[contract.Host](d.client.GetHost(ctx, vessel.Name))
		return !h.Connected, err
	}); err != nil {
		return err
	}
	set := map[string]string{"season": "winter"}
	for _, m := range d.Fleet {
		if m.Role == "vessel" {
			if _, err := answer[contract.Host](d.client.EditHostLabels(ctx, m.Name, nil,
				contract.MapEdit{Set: &set})); err != nil {
				return err
			}
		}
	}
	plan, only := "one-wave", "labels"
	one := 1
	var r contract.Rollout
	if err := d.wait(ctx, 20*time.Second, "the labels to be pending", func() (bool, error) {
		p, err := answer[contract.RolloutPreview](d.client.PreviewRollout(ctx,
			contract.NewRollout{Plan: &plan, Only: &only, Revision: &one}))
		return p.Causes["labels"] > 0, err
	}); err != nil {
		return err
	}
	r, err := answer[contract.Rollout](d.client.StartRollout(ctx, contract.NewRollout{Plan: &plan, Only: &only,
		Revision: &one}))
	if err != nil {
		return err
	}
	if r, err = d.ended(ctx, r.Id, time.Minute); err != nil {
		return err
	}
	d.say("Rollout %d of changed labels is %s: %s", r.Id, r.State, r.Decisions[len(r.Decisions)-1].Why)
	vessel.Arrive()
	if err := d.wait(ctx, 2*time.Minute, vessel.Name+" to catch up", func() (bool, error) {
		r, err = answer[contract.Rollout](d.client.GetRollout(ctx, r.Id))
		return r.Counts["deferred"] == 0, err
	}); err != nil {
		return err
	}
	d.say("%s came back and caught up: %d confirmed", vessel.Name, r.Counts["confirmed"])
	return nil
}

func (d *Demo) waitAtGate(ctx context.Context) (int, error) {
	revision, err := d.put(ctx, "Denied tickets are errors", deniedIsError)
	if err != nil {
		return 0, err
	}
	r, err := answer[contract.Rollout](d.client.StartRollout(ctx, contract.NewRollout{}))
	if err != nil {
		return 0, err
	}
	if err := d.wait(ctx, time.Minute, "the first wave to soak", func() (bool, error) {
		r, err = answer[contract.Rollout](d.client.GetRollout(ctx, r.Id))
		return r.Phase == contract.RolloutPhaseSoaking && r.Gate != nil && r.Gate.Enough, err
	}); err != nil {
		return r.Id, fmt.Errorf("%w; it is %s, and lacks %+v %+v", err, r.Phase, r.Gate, r.Decisions)
	}
	d.say("Rollout %d of revision %d goes by plan %s: wave 1 of %d has it and is watched until %s", r.Id, revision,
		r.Plan.Name, r.Waves, r.Until.Local().Format("15:04:05"))
	return r.Id, nil
}
