package store

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/rollout"
)

func open2(t *testing.T, dir string) *Store {
	s, err := Open(context.Background(), dir)
	require.NoError(t, err)
	return s
}

// TestKeeps: what was written is there after closing and opening, and migrations run once.
func TestKeeps(t *testing.T) {
	t.Parallel()
	ctx, dir, now := context.Background(), t.TempDir(), time.Date(2031, 4, 2, 6, 0, 0, 5, time.UTC)
	s := open2(t, dir)
	var draft int
	first := rollout.Start(
		rollout.Head{ID: 1, Revision: 1, Author: "ada", Plan: rollout.Usual()},
		[]rollout.Target{{Host: "h", Hash: "x"}, {Host: "i", Hash: "y", Connected: true}},
		now,
	)
	first.Commands = nil
	require.NoError(t, s.Update(ctx, func(tx *Tx) (err error) {
		if draft, err = tx.AddDraft(Draft{Title: "t", Author: "a", CreatedAt: now, Whole: true, Files: []File{{"b",
			"2"}, {"a", "1"}}}); err != nil {
			return err
		}
		return errors.Join(
			tx.PutHost(Host{Name: "h", UID: "u", Labels: map[string]string{"a": "b"}, JoinedAt: now}),
			tx.AddRevision(
				Revision{
					Number:      1,
					Title:       "r",
					CreatedAt:   now,
					Files:       []File{{"a", "1"}, {"b", "1"}},
					Definitions: []RevisionDefinition{{"source", "s", "d", 1}},
				},
			),
			tx.Assign(
				Assignment{Host: "h", Hash: "x", Revision: 1, AssignedAt: now},
				Manifest{Hash: "x", Host: "h", Text: "text"},
			),
			tx.MoveRollout(
				first,
			),
			tx.SetMeta("k", "v"),
			tx.Audit(Person{"ada", "here"}, now, "did", "it", nil, map[string]int{"n": 1}),
		)
	}))
	for _, n := range []string{"{1}", "{2}"} {
		require.NoError(t, s.SaveStates(ctx, map[string]string{"h": n}, []Sums{{Host: "h", Numbers: n, Since: 5}}))
	}
	require.NoError(t, s.Close())
	s = open2(t, dir)
	defer s.Close()
	d, err := s.Draft(ctx, draft)
	require.NoError(t, err)
	assert.Equal(
		t,
		Draft{
			ID:        draft,
			Title:     "t",
			Author:    "a",
			CreatedAt: now,
			Whole:     true,
			State:     DraftOpen,
			Files:     []File{{"a", "1"}, {"b", "2"}},
		},
		d,
	)
	hosts, err := s.Hosts(ctx)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]Host{
			{Name: "h", UID: "u", Labels: map[string]string{"a": "b"}, Settings: map[string]string{}, JoinedAt: now},
		},
		hosts,
	)
	r, err := s.Revision(ctx, 1)
	require.NoError(t, err)
	assert.Len(t, r.Files, 2)
	assert.Equal(t, []RevisionDefinition{{"source", "s", "d", 1}}, r.Definitions)
	m, err := s.Manifest(ctx, "x")
	require.NoError(t, err)
	assert.Equal(t, "text", m.Text)
	moved, err := s.Rollouts(ctx)
	require.NoError(t, err)
	assert.Equal(t, []rollout.Delta{first}, moved)
	states, sums, err := s.HostStates(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"h": "{2}"}, states)
	assert.Equal(t, []Sums{{Host: "h", Numbers: "{2}", Since: 5}}, sums)
	v, err := s.Meta(ctx, "k")
	require.NoError(t, err)
	assert.Equal(t, "v", v)
	audit, err := s.AuditEntries(ctx, AuditFilter{Limit: 5})
	require.NoError(t, err)
	assert.Equal(
		t,
		[]AuditEntry{{ID: 1, At: now, Who: "ada", Origin: "here", Action: "did", Object: "it", After: `{"n":1}`}},
		audit,
	)
	_, err = s.Draft(ctx, 99)
	require.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, s.Ping(ctx))
}

// TestFailedChangeLeavesNothing, and changes go one after the other, whoever makes them.
func TestFailedChangeLeavesNothing(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := open2(t, t.TempDir())
	defer s.Close()
	boom := errors.New("boom")
	require.ErrorIs(t, s.Update(ctx, func(tx *Tx) error {
		require.NoError(t, tx.SetMeta("k", "v"))
		return boom
	}), boom)
	v, err := s.Meta(ctx, "k")
	require.NoError(t, err)
	assert.Empty(t, v)
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 10 {
				assert.NoError(t, s.Update(ctx, func(tx *Tx) error {
					head, err := tx.Head()
					if err != nil {
						return err
					}
					return tx.AddRevision(Revision{Number: head + 1})
				}))
			}
		})
	}
	wg.Wait()
	all, err := s.Revisions(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 80)
	assert.Equal(t, 80, all[0].Number)
}

// TestPrune: numbers of long ago go, and manifests that nothing refers to; what is assigned or needed stays.
func TestPrune(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := open2(t, t.TempDir())
	defer s.Close()
	now := time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC)
	require.NoError(t, s.Update(ctx, func(tx *Tx) error {
		for _, h := range []string{"old", "running", "new"} {
			if err := tx.Assign(Assignment{Host: "a", Hash: h, Revision: 1, AssignedAt: now}, Manifest{Hash: h,
				Host: "a", Text: h}); err != nil {
				return err
			}
		}
		return nil
	}))
	var blocks []Block
	var turns []Turn
	for day := range 40 {
		at := now.AddDate(0, 0, -day)
		blocks = append(blocks, Block{Tier: 30, Start: at.Unix(), Host: "a", Packed: []byte{1}},
			Block{Tier: 300, Start: at.Unix(), Host: "a", Packed: []byte{1}})
		turns = append(turns, Turn{At: at, Host: []string{"a", "b"}[day%2], Turn: "{}"})
	}
	require.NoError(t, s.SaveBlocks(ctx, blocks, nil))
	require.NoError(t, s.SaveTurns(ctx, turns))
	require.NoError(t, s.PruneBlocks(ctx, 30, now.AddDate(0, 0, -30)))
	require.NoError(t, s.PruneTurns(ctx, now.AddDate(0, 0, -30)))
	left, err := s.Turns(ctx, "", time.Unix(0, 0), now.AddDate(1, 0, 0), 100)
	require.NoError(t, err)
	assert.Len(t, left, 31)
	left, err = s.Turns(ctx, "a", time.Unix(0, 0), now.AddDate(1, 0, 0), 3)
	require.NoError(t, err)
	require.Len(t, left, 3, "the newest")
	assert.Equal(t, now.UTC(), left[2].At.UTC())
	n, err := s.Prune(ctx, []string{"running"})
	require.NoError(t, err)
	assert.Equal(t, int64(1), n)
	_, err = s.Manifest(ctx, "old")
	require.ErrorIs(t, err, ErrNotFound)
	for _, h := range []string{"running", "new"} {
		_, err = s.Manifest(ctx, h)
		require.NoError(t, err, h)
	}
	rows, err := s.Blocks(ctx, 30, "a", time.Unix(0, 0), now.AddDate(1, 0, 0))
	require.NoError(t, err)
	assert.Len(t, rows, 31)
	rows, err = s.Blocks(ctx, 300, "", time.Unix(0, 0), now.AddDate(1, 0, 0))
	require.NoError(t, err)
	assert.Len(t, rows, 40, "of another tier")
}

// TestTrouble: what the database cannot do is trouble as long as it cannot; what the caller decided is none. A commit
// that goes well between others that fail ends nothing, as one that needs no new page does on a full disk.
func TestTrouble(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := open2(t, t.TempDir())
	defer s.Close()
	now := time.Now()
	s.now = func() time.Time { return now }
	require.Error(t, s.Update(ctx, func(*Tx) error { return errors.New("no") }))
	assert.Empty(t, s.Trouble().Reason)
	full := true
	s.FailFor(func() bool { return full })
	require.Error(t, s.Probe(ctx))
	first := s.Trouble()
	assert.NotEmpty(t, first.Reason)
	now = now.Add(time.Second)
	require.Error(t, s.Probe(ctx))
	assert.Equal(t, first.Since, s.Trouble().Since)
	full = false
	for range 5 {
		require.NoError(t, s.Probe(ctx))
		assert.Equal(t, first, s.Trouble())
		now = now.Add(time.Second)
	}
	require.NoError(t, s.Probe(ctx))
	assert.Empty(t, s.Trouble().Reason)
}
