package store

import (
	"context"
	"io/fs"
	"path/filepath"
	"testing"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/rollout"
)

// TestMovesRolloutsIntoRows: rollouts that an earlier version kept as one text each are read as they were, and uses of
// tokens are counted.
func TestMovesRolloutsIntoRows(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	db, err := open(filepath.Join(dir, "catalogue.db"), "FULL", 1)
	require.NoError(t, err)
	sub, err := fs.Sub(migrations, "migrations/catalogue")
	require.NoError(t, err)
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	require.NoError(t, err)
	_, err = p.UpTo(ctx, 6)
	require.NoError(t, err)
	exec := func(query string, args ...any) {
		_, err := db.ExecContext(ctx, query, args...)
		require.NoError(t, err)
	}
	exec(`INSERT INTO rollouts VALUES (1, 3, 'ada', '{"id":1,"revision":3,"status":"stopped","waves":[["gate.a","gate.b"]],"wave":0,
		"hosts":{"gate.a":{"state":"confirmed","hash":"x","since":"2031-04-02T06:00:05Z","deadline":"0001-01-01T00:00:00Z"},
		"gate.b":{"state":"timed out","hash":"y","reason":"no answer","since":"2031-04-02T06:00:06.5Z","deadline":"2031-04-02T06:01:30Z"}},
		"started":"2031-04-02T06:00:00Z","ended":"2031-04-02T06:02:00Z",
		"decisions":[{"at":"2031-04-02T06:00:00Z","what":"started","why":"one wave of 2 hosts"},
		{"at":"2031-04-02T06:02:00Z","what":"stopped","why":"0 refused, 1 timed out"}]}')`)
	exec(`INSERT INTO rollouts VALUES (2, 4, 'ada', '{"id":2,"revision":4,"status":"done","waves":[null],"wave":0,"hosts":{},
		"started":"2031-04-03T06:00:00Z","ended":"0001-01-01T00:00:00Z","decisions":null}')`)
	exec(`INSERT INTO join_tokens (id, hash, labels, created_at, created_by, expires_at, uses) VALUES ('j1', x'00', '{}', '', '', '2041-01-01T00:00:00Z', 5)`)
	for _, c := range [][3]string{{"c1", "u1", "t"}, {"c2", "u1", "t"}, {"c3", "u2", "t"}, {"c4", "u3", ""}} {
		exec(`INSERT INTO credentials (id, hash, uid, token_id, host, offered_at, offer_ends, used_at) VALUES (?, x'00', ?, 'j1', ?, '', '', ?)`,
			c[0], c[1], c[1], c[2])
	}
	require.NoError(t, db.Close())

	s := open2(t, dir)
	defer s.Close()
	list, err := s.Rollouts(ctx)
	require.NoError(t, err)
	at := func(text string) time.Time { v, _ := time.Parse(time.RFC3339Nano, text); return v }
	oneWave := rollout.Plan{Waves: []rollout.Wave{{Rest: true}}}
	assert.Equal(t, []rollout.Delta{
		{
			Head: rollout.Head{ID: 1, Revision: 3, Author: "ada", Status: rollout.Stopped, Waves: 1, Plan: oneWave,
				Phase: rollout.Changing, Started: at("2031-04-02T06:00:00Z"), Ended: at("2031-04-02T06:02:00Z")},
			New: true,
			Hosts: []rollout.Host{
				{Name: "gate.a", State: rollout.Confirmed, Told: true, Hash: "x", Since: at("2031-04-02T06:00:05Z")},
				{Name: "gate.b", State: rollout.TimedOut, Told: true, Hash: "y", Reason: "no answer", Since: at(
					"2031-04-02T06:00:06.5Z"),
					Deadline: at("2031-04-02T06:01:30Z")},
			},
			Decisions: []rollout.Decision{
				{At: at("2031-04-02T06:00:00Z"), What: "started", Why: "one wave of 2 hosts"},
				{At: at("2031-04-02T06:02:00Z"), What: "stopped", Why: "0 refused, 1 timed out"},
			},
		},
		{Head: rollout.Head{ID: 2, Revision: 4, Author: "ada", Status: rollout.Done, Waves: 1, Plan: oneWave,
			Phase: rollout.Changing, Started: at("2031-04-03T06:00:00Z")}, New: true},
	}, list)
	tokens, err := s.JoinTokens(ctx, at("2031-04-02T06:00:00Z"))
	require.NoError(t, err)
	assert.Equal(t, 2, tokens[0].Used, "by agents, and not by credentials")
}
