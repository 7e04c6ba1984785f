package store

import (
	"context"
	"database/sql"
	"strings"
	"time"
)

// Block is a packed block of numbers over time. Tier is the length of its steps in seconds, Start Unix seconds.
type Block struct {
	Tier   int64
	Start  int64
	Host   string
	Packed []byte
}

// SaveBlocks writes blocks over those of the same tier, host and start, and what hosts had counted at their end, in
// one commit of state.db.
func (s *Store) SaveBlocks(ctx context.Context, all []Block, sums []Sums) error {
	return s.inState(ctx, func(ctx context.Context, tx *sql.Tx) error {
		put, err := tx.PrepareContext(ctx, `INSERT INTO series (tier, start, host, block) VALUES (?,?,?,?)
			ON CONFLICT (host, tier, start) DO UPDATE SET block=excluded.block`)
		if err != nil {
			return err
		}
		defer put.Close()
		for _, b := range all {
			if _, err := put.ExecContext(ctx, b.Tier, b.Start, b.Host, b.Packed); err != nil {
				return err
			}
		}
		return saveSums(ctx, tx, sums)
	})
}

// Blocks returns the blocks of a tier that start in a span, oldest first: of a host, of all whose names begin with one
// that ends with an equals sign, or without one of all.
func (s *Store) Blocks(ctx context.Context, tier int64, host string, from, to time.Time) ([]Block, error) {
	query := `SELECT tier, start, host, block FROM series WHERE tier = ? AND start >= ? AND start < ?`
	args := []any{tier, from.Unix(), to.Unix()}
	switch {
	case strings.HasSuffix(host, "="): // all names that begin so
		query = `SELECT tier, start, host, block FROM series WHERE +tier = ? AND +start >= ? AND start < ?
			AND host >= ? AND host < ?` // by name: in a span there may be blocks of ten thousand hosts
		args = append(args, host, strings.TrimSuffix(host, "=")+">")
	case host != "":
		query = `SELECT tier, start, host, block FROM series WHERE tier = ? AND start >= ? AND start < ? AND host = ?`
		args = append(args, host)
	}
	return list(ctx, s.stateRead, func(r *sql.Rows) (b Block, err error) {
		return b, r.Scan(&b.Tier, &b.Start, &b.Host, &b.Packed)
	}, query+` ORDER BY start`, args...)
}

// Unmerged are the hosts that have blocks of a tier in a span and none of a coarser tier that starts with it.
func (s *Store) Unmerged(ctx context.Context, tier, coarser int64, from, to time.Time) ([]string, error) {
	return list(ctx, s.stateRead, func(r *sql.Rows) (host string, err error) { return host, r.Scan(&host) },
		`SELECT DISTINCT host FROM series WHERE tier = ? AND start >= ? AND start < ? AND host NOT IN
			(SELECT host FROM series WHERE tier = ? AND start = ?)`,
		tier, from.Unix(), to.Unix(), coarser, from.Unix())
}

// PruneBlocks removes the blocks of a tier that started before a time.
func (s *Store) PruneBlocks(ctx context.Context, tier int64, before time.Time) error {
	_, err := s.state.ExecContext(ctx, `DELETE FROM series WHERE tier = ? AND start < ?`, tier, before.Unix())
	return s.wrote("state.db", err)
}

// Turn is a change of the state of a host, or of one of its sources, as JSON.
type Turn struct {
	At           time.Time
	Host, Source string
	Turn         string
}

// SaveTurns writes state changes.
func (s *Store) SaveTurns(ctx context.Context, all []Turn) error {
	return s.inState(ctx, func(ctx context.Context, tx *sql.Tx) error {
		for _, x := range all {
			if _, err := tx.ExecContext(ctx, `INSERT INTO turns VALUES (?,?,?,?)`, x.At.UnixMilli(), x.Host, x.Source,
				x.Turn); err != nil {
				return err
			}
		}
		return nil
	})
}

// Turns are the state changes in a span, oldest first, of one host or, without one, of all; at most so many, the
// newest.
func (s *Store) Turns(ctx context.Context, host string, from, to time.Time, most int) ([]Turn, error) {
	query := `SELECT at, host, source, turn FROM turns WHERE at >= ? AND at < ?`
	args := []any{from.UnixMilli(), to.UnixMilli()}
	if host != "" {
		query += ` AND host = ?`
		args = append(args, host)
	}
	return list(ctx, s.stateRead, func(r *sql.Rows) (t Turn, err error) {
		var at int64
		err = r.Scan(&at, &t.Host, &t.Source, &t.Turn)
		t.At = time.UnixMilli(at)
		return t, err
	}, `SELECT * FROM (`+query+` ORDER BY at DESC LIMIT ?) ORDER BY at`, append(args, most)...)
}

// PruneTurns removes state changes from before a time.
func (s *Store) PruneTurns(ctx context.Context, before time.Time) error {
	_, err := s.state.ExecContext(ctx, `DELETE FROM turns WHERE at < ?`, before.UnixMilli())
	return s.wrote("state.db", err)
}
