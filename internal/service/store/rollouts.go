package store

import (
	"context"
	"database/sql"
	"strconv"

	"synaxis/internal/core/rollout"
)

// MoveRollout writes how a rollout moves on: a row for each host that changes, and what else is new of it.
func (t *Tx) MoveRollout(d rollout.Delta) error {
	if d.New {
		if err := t.exec(`INSERT INTO rollouts VALUES (?,?,?,?,?,?,?,?)`, d.Rollout, d.Revision, d.Author, string(
			d.Status), d.Wave, d.Waves,
			stamp(d.Started), stamp(d.Ended)); err != nil {
			return err
		}
	} else if err := t.exec(`UPDATE rollouts SET status=?, wave=?, ended=? WHERE id=?`, string(d.Status), d.Wave,
		stamp(d.Ended), d.Rollout); err != nil {
		return err
	}
	for _, h := range d.Hosts {
		if err := t.exec(`INSERT INTO rollout_hosts VALUES (?,?,?,?,?,?,?,?) ON CONFLICT (rollout, host) DO UPDATE SET state=excluded.state,
			hash=excluded.hash, reason=excluded.reason, since=excluded.since, deadline=excluded.deadline`,
			d.Rollout, h.Name, h.Wave, string(h.State), h.Hash, h.Reason, stamp(h.Since), stamp(
				h.Deadline)); err != nil {
			return err
		}
	}
	for i, x := range d.Decisions {
		if err := t.exec(`INSERT INTO rollout_decisions VALUES (?,?,?,?,?)`, d.Rollout, d.Decided+i, stamp(x.At),
			x.What, x.Why); err != nil {
			return err
		}
	}
	t.tell(RolloutMoved{d})
	return nil
}

// Rollouts returns all rollouts, oldest first, each as the one delta that makes it.
func (s *Store) Rollouts(ctx context.Context) ([]rollout.Delta, error) {
	all, err := list(ctx, s.read, func(r *sql.Rows) (d rollout.Delta, err error) {
		var started, ended string
		err = r.Scan(&d.Rollout, &d.Revision, &d.Author, &d.Status, &d.Wave, &d.Waves, &started, &ended)
		d.New, d.Started, d.Ended = true, unstamp(started), unstamp(ended)
		return d, err
	}, `SELECT id, revision, author, status, wave, waves, started, ended FROM rollouts ORDER BY id`)
	for i := range all {
		if err != nil {
			return nil, err
		}
		all[i].Hosts, err = list(ctx, s.read, func(r *sql.Rows) (h rollout.Host, err error) {
			var since, deadline string
			err = r.Scan(&h.Name, &h.Wave, &h.State, &h.Hash, &h.Reason, &since, &deadline)
			h.Since, h.Deadline = unstamp(since), unstamp(deadline)
			return h, err
		}, `SELECT host, wave, state, hash, reason, since, deadline FROM rollout_hosts WHERE rollout=? ORDER BY host`,
			all[i].Rollout)
		if err != nil {
			return nil, err
		}
		all[i].Decisions, err = list(ctx, s.read, func(r *sql.Rows) (x rollout.Decision, err error) {
			var at string
			err = r.Scan(&at, &x.What, &x.Why)
			x.At = unstamp(at)
			return x, err
		}, `SELECT at, what, why FROM rollout_decisions WHERE rollout=? ORDER BY n`, all[i].Rollout)
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
