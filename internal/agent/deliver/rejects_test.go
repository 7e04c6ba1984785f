package deliver

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

func one(enc record.Encoding, from, to int) []piece {
	it := item(enc, from, to, func(wire.DeliveryCounts) {})
	return []piece{{it, 0, to - from}}
}

// TestRejectBounds: what is over the bounds goes, oldest first, and is counted; a restart finds what is left.
func TestRejectBounds(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	spec := delivery.Spec{Name: "d", Rejects: delivery.Rejects{Keep: 300 << 10, For: time.Hour}}
	r := &Rejects{Dir: dir}
	total := int64(0)
	for i := range 40 {
		require.NoError(t, r.Add(spec, one(record.NDJSON, i*100, i*100+100), "422", "no such table"))
		total += 100
		groups, gone, err := r.Summary("d")
		require.NoError(t, err)
		require.EqualValues(t, total, groups[0].Records+gone)
	}
	assert.Less(t, r.Bytes(), int64(400<<10))
	groups, gone, err := r.Summary("d")
	require.NoError(t, err)
	assert.Positive(t, gone)
	list, more, err := r.List("d", RejectFilter{}, 10, 1<<20)
	require.NoError(t, err)
	assert.True(t, more)
	assert.Contains(t, string(list[0].Record), fmt.Sprintf(`"body":"n%03d"`, gone), "the oldest went")
	again := &Rejects{Dir: dir}
	same, _, err := again.Summary("d")
	require.NoError(t, err)
	assert.Equal(t, groups[0].Records, same[0].Records)
	require.NoError(t, again.Add(spec, one(record.NDJSON, 0, 1), "422", "no such table"))
	last, _, err := again.List("d", RejectFilter{After: total}, 10, 1<<20)
	require.NoError(t, err)
	assert.Len(t, last, 1, "numbers go on after a restart")
	require.NoError(t, again.Prune(spec, time.Now().Add(2*time.Hour)))
	groups, _, err = again.Summary("d")
	require.NoError(t, err)
	assert.Empty(t, groups, "and all go when they are too old")
}

// TestRejectCeiling: all destinations together keep no more than the ceiling of the agent leaves them; the oldest of
// all go first, and are counted, also after a restart.
func TestRejectCeiling(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const most = 600 << 10
	open := func() *Rejects { return &Rejects{Dir: dir, Most: func() int64 { return most }} }
	r := open()
	names := []string{"a", "b", "c"}
	added := map[string]int64{}
	for i := range 90 {
		name := names[i/30]
		require.NoError(t, r.Add(delivery.Spec{Name: name, Rejects: delivery.DefaultRejects},
			one(record.NDJSON, i*10, i*10+100), "422", "no such table"))
		added[name] += 100
		require.LessOrEqual(t, r.Bytes(), int64(most))
		if i == 75 {
			r = open()
			require.Positive(t, r.Bytes(), "what was not looked at counts too")
			added = map[string]int64{}
			for _, name := range names {
				groups, _, err := r.Summary(name)
				require.NoError(t, err)
				for _, g := range groups {
					added[name] += g.Records
				}
			}
		}
	}
	kept := map[string]int64{}
	for _, name := range names {
		groups, gone, err := r.Summary(name)
		require.NoError(t, err)
		for _, g := range groups {
			kept[name] += g.Records
		}
		assert.Equal(t, added[name], kept[name]+gone, name)
	}
	assert.Zero(t, kept["a"], "the oldest went")
	assert.Positive(t, kept["c"])
}

// TestRejectFormBefore: what a version before kept in one file is there, also with a torn last line.
func TestRejectFormBefore(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text := `{"rejected":"2031-04-02T06:15:09Z","reason":"x answered 400","source":"s","record":{"body":"a"}}` + "\n" + `{"rej`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "d.ndjson"), []byte(text), 0o640))
	r := &Rejects{Dir: dir}
	groups, _, err := r.Summary("d")
	require.NoError(t, err)
	require.Len(t, groups, 1)
	assert.Equal(t, "x answered 400", groups[0].Reason)
	require.NoError(t, r.Rename("d", "e"))
	groups, _, err = r.Summary("e")
	require.NoError(t, err)
	assert.Len(t, groups, 1)
}

// TestResend: ten are tried first; what is taken is a reject no more; a cause can be chosen, removed, and refused
// again.
func TestResend(t *testing.T) {
	t.Parallel()
	for _, enc := range []record.Encoding{record.NDJSON, record.OTLP} {
		answer := http.StatusUnprocessableEntity
		s := newServer(t, func(int, string) int { return answer })
		spec := delivery.Spec{Kind: delivery.HTTP, URLs: []string{s.URL},
			Batch: delivery.Batch{Records: 50, Bytes: 1 << 20, Wait: time.Millisecond}}
		d, r := destination(t, spec)
		require.NoError(t, r.Add(d.Spec, one(enc, 0, 100), "422", "no such table"))
		require.NoError(t, r.Add(d.Spec, one(enc, 100, 105), "413", "too large"))
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		out, err := d.Resend(ctx, RejectFilter{Cause: "422"}, 0)
		require.NoError(t, err)
		assert.Equal(t, int64(0), out.Sent)
		assert.True(t, out.Left)
		assert.Contains(t, out.Answer, "422")
		assert.Len(t, s.bodies, 1)
		assert.Equal(t, 10, strings.Count(s.bodies[0], "\n"), "ten first")
		answer = http.StatusOK
		out, err = d.Resend(ctx, RejectFilter{Cause: "422"}, 0)
		require.NoError(t, err)
		assert.Equal(t, Resent{Sent: 100}, out)
		groups, _, err := r.Summary("d")
		require.NoError(t, err)
		require.Len(t, groups, 1)
		assert.Equal(t, "413", groups[0].Cause)
		taken := s.all()
		for i := range 100 {
			assert.Equal(t, 1, strings.Count(taken, fmt.Sprintf("n%03d", i)))
		}
		n, err := r.Remove("d", RejectFilter{Source: "s"})
		require.NoError(t, err)
		assert.EqualValues(t, 5, n)
		assert.Zero(t, r.Bytes())
	}
}
