package fleetsim

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"synaxis/internal/contract"
)

const archive = "harbour-archive"

// archiveStops lets the archive answer 503 for a while: a probe hangs there, its backlog grows and says until when
// there is room, and drains when the archive is back.
func (d *Demo) archiveStops(ctx context.Context) error {
	d.Receivers.Stop(true)
	defer d.Receivers.Stop(false)
	gate := d.first("gate")
	stuck, err := d.probe(ctx, gate, "gate-scans", 6)
	if err != nil {
		return err
	}
	d.say("The archive answers 503. A probe of %s on %s hangs: %s", "gate-scans", gate, stuck)
	var state contract.DestinationState
	read := func() error {
		x, err := answer[contract.DestinationDetail](d.client.GetDestination(ctx, archive))
		state = x.State
		return err
	}
	if err := d.wait(ctx, 2*time.Minute, "the backlog to grow", func() (bool, error) {
		err := read()
		return state.Numbers.OnDisk+state.Numbers.InMemory > 50 && state.FullIn != nil, err
	}); err != nil {
		return err
	}
	d.say("%d records wait for the archive; at this rate its first buffer is full in %.0f hours",
		state.Numbers.OnDisk+state.Numbers.InMemory, float64(*state.FullIn)/3600)
	d.Receivers.Stop(false)
	if err := d.wait(ctx, 2*time.Minute, "the backlog to drain", func() (bool, error) {
		err := read()
		return state.Numbers.OnDisk < 10, err
	}); err != nil {
		return err
	}
	arrived, err := d.probe(ctx, gate, "gate-scans", 30)
	if err != nil || arrived != "" {
		return errors.Join(err, fmt.Errorf("a probe hangs though the archive is back: %s", arrived))
	}
	d.say("The archive is back, the backlog has drained, and a probe arrives")
	return nil
}

// mendRejects lets the archive refuse heavy weights for good; after its table is mended ten are sent again as a trial,
// and then all.
func (d *Demo) mendRejects(ctx context.Context) error {
	d.Receivers.Refuse()
	rejects := func(n int) func() (bool, error) {
		return func() (bool, error) {
			x, err := answer[contract.DestinationDetail](d.client.GetDestination(ctx, archive))
			return x.State.Rejects >= int64(n), err
		}
	}
	if err := d.wait(ctx, 2*time.Minute, "weights to be refused", rejects(1)); err != nil {
		return err
	}
	l, err := answer[contract.RejectList](d.client.ListRejects(ctx, archive, &contract.ListRejectsParams{}))
	if err != nil || len(l.Items) == 0 {
		return errors.Join(err, errors.New("no reject is listed"))
	}
	d.say("The archive refuses for good: %s", l.Items[0].Reason)
	most := 10
	again, err := answer[contract.RejectOutcome](d.client.ResendRejects(ctx, archive,
		contract.RejectChoice{Most: &most}))
	if err != nil || again.Done != 0 {
		return errors.Join(err, fmt.Errorf("%d were taken before the mend", again.Done))
	}
	d.Receivers.Mend()
	trial, err := answer[contract.RejectOutcome](d.client.ResendRejects(ctx, archive,
		contract.RejectChoice{Most: &most}))
	if err != nil || trial.Done == 0 {
		return errors.Join(err, errors.New("the trial of ten was not taken"))
	}
	all, err := answer[contract.RejectOutcome](d.client.ResendRejects(ctx, archive, contract.RejectChoice{}))
	if err != nil {
		return err
	}
	d.say("Its table is mended: a trial of ten took %d, and then the other %d went", trial.Done, all.Done)
	return d.wait(ctx, time.Minute, "no reject to be left", func() (bool, error) {
		left, err := rejects(1)()
		if left && err == nil { // it was on its way while the table was mended
			_, err = answer[contract.RejectOutcome](d.client.ResendRejects(ctx, archive, contract.RejectChoice{}))
		}
		return !left, err
	})
}

// first is the name of a host of a role.
func (d *Demo) first(role string) string {
	for _, m := range d.Fleet {
		if m.Role == role {
			return m.Name
		}
	}
	return ""
}

// probe follows a marked record, and answers where it is stuck.
func (d *Demo) probe(ctx context.Context, host, source string, seconds int) (stuck string, err error) {
	resp, err := d.client.Probe(ctx, contract.ProbeRequest{Source: source, Host: &host, Seconds: &seconds})
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return "", fmt.Errorf("the probe was answered %s", resp.Status)
	}
	for in := bufio.NewScanner(resp.Body); in.Scan(); {
		var e contract.ProbeEvent
		if err := json.Unmarshal(in.Bytes(), &e); err != nil {
			return "", err
		}
		if e.Kind == contract.ProbeEventKindHost && e.Reason != nil {
			stuck = *e.Reason
		}
	}
	return stuck, nil
}
