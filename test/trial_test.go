package test

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestTrial: a draft is tried on records that really come, beside what runs: what differs is told, and neither what is
// delivered nor what runs changes. An agent that goes away ends it there.
func TestTrial(t *testing.T) {
	t.Parallel()
	f := newFleet(t, "gate-a", "gate-b")
	f.publish(f.catalogue("{n:int} {word}"))
	require.Equal(t, contract.RolloutStateDone, f.rollOut().State)
	ctx := context.Background()
	draft := func(template string) int {
		path := filepath.Join(t.TempDir(), "all.yaml")
		require.NoError(t, os.WriteFile(path, []byte(f.catalogue(template)), 0o600))
		out, code := f.cli("draft", "load", path)
		require.Zero(t, code, out)
		return get[contract.DraftList](t, first(f.api.ListDrafts(ctx)), nil).Items[0].Id
	}
	id := draft("{n} {what}")
	before := *f.host("gate-a").RunningHash
	out, code := f.cli("trial", "start", strconv.Itoa(id), "--for", "4s")
	require.Zero(t, code, out)
	assert.Contains(t, out, "records come out differently")
	assert.Contains(t, out, "field what appears: text")
	assert.Contains(t, out, "field word vanishes: text")
	assert.Contains(t, out, "field n changes its type: int")
	assert.Regexp(t, `(?m)^  \d+ boarded$`, out)
	assert.Contains(t, out, `    fields.word: "boarded" → none`)
	assert.Contains(t, out, `    fields.what: none → "boarded"`)
	assert.Regexp(t, `    fields.n: (\d+) → "\d+"`, out)
	assert.Equal(t, before, *f.host("gate-a").RunningHash, "what runs stays")
	text, err := os.ReadFile(filepath.Join(f.dir, "out"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), `"what"`, "nothing of it is sent")

	out, code = f.cli("cost", "--draft", strconv.Itoa(id), "--since", "1h")
	require.Zero(t, code, out)
	assert.Contains(t, out, "BY THE DRAFT")
	assert.Regexp(t, `(?m)^gates +\S+ \S+ +out +\S+ [KMG]iB +\S+ [KMG]iB`, out)
	cost := get[contract.Cost](t, first(f.api.GetCost(ctx, &contract.GetCostParams{Draft: &id})), nil)
	require.Len(t, cost.Sources, 1)
	require.Len(t, cost.Sources[0].To, 1)
	require.NotNil(t, cost.Sources[0].To[0].Then)
	assert.InEpsilon(t, cost.Sources[0].To[0].Sent, *cost.Sources[0].To[0].Then, 0.3, "it is about as long in other words")

	same := draft("{n:int}  {word}")
	out, code = f.cli("cost", "--draft", strconv.Itoa(same))
	assert.NotZero(t, code)
	assert.Contains(t, out, "it has no trial")
	out, code = f.cli("trial", "start", strconv.Itoa(same), "--hosts", `host.name == "gate-b"`, "--for", "4s")
	require.Zero(t, code, out)
	assert.Contains(t, out, "gate-b", "one host")
	assert.NotContains(t, out, "gate-a")

	seconds, all := 60, "all"
	trial := get[contract.Trial](t, first(f.api.StartTrial(ctx, contract.NewTrial{Draft: id, Hosts: &all,
		Seconds: &seconds})), nil)
	f.agents["gate-b"].kill()
	eventually(t, 30*time.Second, "the host to be told as gone", func() bool {
		x := get[contract.Trial](t, first(f.api.GetTrial(ctx, trial.Id)), nil)
		return x.Hosts[1].Reason != nil && x.Hosts[0].Reason == nil && !x.Ended
	})
	second := get[contract.Trial](t, first(f.api.StartTrial(ctx, contract.NewTrial{Draft: id, Hosts: &all})), nil)
	eventually(t, 20*time.Second, "a second trial to be refused", func() bool {
		x := get[contract.Trial](t, first(f.api.GetTrial(ctx, second.Id)), nil)
		return x.Ended && x.Hosts[0].Reason != nil
	})
	ended := get[contract.Trial](t, first(f.api.EndTrial(ctx, trial.Id)), nil)
	assert.True(t, ended.Ended)
	assert.NotEmpty(t, ended.Sources)
	assert.Len(t, get[contract.TrialList](t, first(f.api.ListTrials(ctx, nil)), nil).Items, 4)
	out, code = f.cli("trial", "list")
	require.Zero(t, code, out)
	out, code = f.cli("trial", "stop", "99")
	assert.Equal(t, 1, code, out)
	none := "role=nobody"
	resp := first(f.api.StartTrial(ctx, contract.NewTrial{Draft: id, Hosts: &none}))
	defer resp.Body.Close()
	assert.Equal(t, 400, resp.StatusCode)
}
