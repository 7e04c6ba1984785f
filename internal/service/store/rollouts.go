package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strconv"

	"synaxis/internal/core/rollout"
)

// MoveRollout writes how a rollout moves on: a row for each host that changes, and what else is new of it.
func (t *Tx) MoveRollout(d rollout.Delta) error {
	if d.New {
		if err := t.exec(`INSERT INTO rollouts (id, revision, author, status, wave, waves, started, ended, plan, before, takes_back,
			taken_back_by, chosen, phase, since, until, asks) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`,
			d.ID, d.Revision, d.Author, string(d.Status), d.Wave, d.Waves, stamp(d.Started), stamp(d.Ended),
			text(d.Plan),
			d.Before, d.TakesBack, d.TakenBackBy, d.Chosen, string(d.Phase), stamp(d.Since), stamp(d.Until),
			d.Asks); err != nil {
			return err
		}
	} else if err := t.exec(`UPDATE rollouts SET status=?, wave=?, ended=?, taken_back_by=?, phase=?, since=?, until=?, asks=?
		WHERE id=?`, string(d.Status), d.Wave, stamp(d.Ended), d.TakenBackBy, string(d.Phase), stamp(d.Since),
		stamp(d.Until), d.Asks, d.ID); err != nil {
		return err
	}
	for _, h := range d.Hosts {
		if err := t.exec(`INSERT INTO rollout_hosts (rollout, host, wave, state, hash, reason, since, deadline, told, patience)
			VALUES (?,?,?,?,?,?,?,?,?,?) ON CONFLICT (rollout, host) DO UPDATE SET state=excluded.state,
				hash=excluded.hash,
			reason=excluded.reason, since=excluded.since, deadline=excluded.deadline, told=excluded.told,
			patience=excluded.patience`,
			d.ID, h.Name, h.Wave, string(h.State), h.Hash, h.Reason, stamp(h.Since), stamp(h.Deadline), h.Told,
			int64(h.Patience)); err != nil {
			return err
		}
	}
	for i, x := range d.Decisions {
		numbers := ""
		if x.Numbers != nil {
			numbers = text(x.Numbers)
		}
		if err := t.exec(`INSERT INTO rollout_decisions (rollout, n, at, what, why, who, numbers) VALUES (?,?,?,?,?,?,?)`, d.ID,
			d.Decided+i, stamp(x.At), x.What, x.Why, x.Who, numbers); err != nil {
			return err
		}
	}
	t.tell(RolloutMoved{d})
	return nil
}

// Rollouts returns all rollouts, oldest first, each as the one delta that makes it.
func (s *Store) Rollouts(ctx context.Context) ([]rollout.Delta, error) {
	all, err := list(ctx, s.read, func(r *sql.Rows) (d rollout.Delta, err error) {
		var started, ended, plan, since, until string
		if err = r.Scan(&d.ID, &d.Revision, &d.Author, &d.Status, &d.Wave, &d.Waves, &started, &ended, &plan,
			&d.Before,
			&d.TakesBack, &d.TakenBackBy, &d.Chosen, &d.Phase, &since, &until, &d.Asks); err != nil {
			return d, err
		}
		d.New, d.Started, d.Ended = true, unstamp(started), unstamp(ended)
		d.Since, d.Until = unstamp(since), unstamp(until)
		return d, json.Unmarshal([]byte(plan), &d.Plan)
	}, `SELECT id, revision, author, status, wave, waves, started, ended, plan, before, takes_back, taken_back_by, chosen, phase,
		since, until, asks FROM rollouts ORDER BY id`)
	for i := range all {
		if err != nil {
			return nil, err
		}
		all[i].Hosts, err = list(ctx, s.read, func(r *sql.Rows) (h rollout.Host, err error) {
			var since, deadline string
			err = r.Scan(&h.Name, &h.Wave, &h.State, &h.Hash, &h.Reason, &since, &deadline, &h.Told, &h.Patience)
			h.Since, h.Deadline = unstamp(since), unstamp(deadline)
			return h, err
		}, `SELECT host, wave, state, hash, reason, since, deadline, told, patience FROM rollout_hosts WHERE rollout=?
			ORDER BY host`, all[i].ID)
		if err != nil {
			return nil, err
		}
		all[i].Decisions, err = list(ctx, s.read, func(r *sql.Rows) (x rollout.Decision, err error) {
			var at, numbers string
			if err = r.Scan(&at, &x.What, &x.Why, &x.Who, &numbers); err == nil && numbers != "" {
				err = json.Unmarshal([]byte(numbers), &x.Numbers)
			}
			x.At = unstamp(at)
			return x, err
		}, `SELECT at, what, why, who, numbers FROM rollout_decisions WHERE rollout=? ORDER BY n`, all[i].ID)
	}
	return all, err
}

// SetInForce notes the revision whose rollout was completed last.
func (t *Tx) SetInForce(revision int) error {
	t.tell(InForce{revision})
	return t.SetMeta("in-force", strconv.Itoa(revision))
}

// InForce is the revision whose rollout was completed last, 0 for none.
func (s *Store) InForce(ctx context.Context) (int, error) {
	text, err := s.Meta(ctx, "in-force")
	n, _ := strconv.Atoi(text)
	return n, err
}
