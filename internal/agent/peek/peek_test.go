package peek

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// stream is a source that treats what it is given.
type stream struct {
	mu        sync.Mutex // a treatment belongs to one goroutine at a time
	t         *testing.T
	treatment *pipeline.Treatment
}

func newStream(t *testing.T) *stream {
	spec, _ := format.BuiltIn("keyvalue")
	tr, err := pipeline.Compile(pipeline.Source{Name: "s"}, spec, pipeline.Parts{})
	require.NoError(t, err)
	tr.Tap = &pipeline.Tap{}
	return &stream{t: t, treatment: tr}
}

func (s *stream) tap(source string) *pipeline.Tap {
	if source != "s" {
		return nil
	}
	return s.treatment.Tap
}

func (s *stream) write(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := &record.Batch{Origin: record.NewOrigin("h", "", "s", "/srv/a.log", nil)}
	for text != "" {
		b.Reset()
		b.Arena = append(b.Arena[:0], text...)
		used, _ := s.treatment.Run(b, 1, time.Now().UnixNano(), 1000, true)
		require.Positive(s.t, used)
		text = text[used:]
	}
}

// TestPeeks: at any rate of the source and of the look no more is shown than the rate, all that passed is counted, a
// look ends after its time, by its reader, and when nobody asks; and nothing is looked at after that.
func TestPeeks(t *testing.T) {
	t.Parallel()
	for _, perSecond := range []int{1, 50, 2000} {
		for _, rate := range []float64{0.2, 1, 20, 1e9} {
			synctest.Test(t, func(t *testing.T) {
				s, p := newStream(t), &Peeks{}
				over, done := make(chan struct{}), make(chan struct{})
				go func() {
					defer close(done)
					for n := 0; ; n++ {
						select {
						case <-over:
							return
						case <-time.After(time.Second):
							s.write(strings.Repeat("n=4\n", perSecond))
						}
					}
				}()
				ask := wire.PeekAsk{ID: "a", Source: "s", Seconds: 30, Rate: rate}
				shown, last := 0, &wire.Peek{}
				began := time.Now()
				for !last.Ended {
					var err error
					last, err = p.Answer(t.Context(), &ask, s.tap)
					require.NoError(t, err)
					shown += len(last.Records)
					require.LessOrEqual(t, len(last.Records), wire.MaxPeekRecords)
					for _, r := range last.Records {
						assert.True(t, json.Valid(r.Record))
						assert.Equal(t, "/srv/a.log", r.File)
					}
				}
				assert.InDelta(t, 30, time.Since(began).Seconds(), 1.5)
				assert.LessOrEqual(t, float64(shown), min(rate, maxRate)*31+1)
				assert.InDelta(t, 30*perSecond, last.Passed, float64(2*perSecond))
				assert.Equal(t, last.Looked, last.Met)
				if rate >= float64(perSecond) && perSecond <= 1 {
					assert.EqualValues(t, last.Passed, shown, "what is slow is seen whole")
				}
				close(over)
				<-done // what was being treated when it ended counts yet
				passed := s.treatment.Tap.Passed()
				s.write("n=4\n")
				assert.Equal(t, passed, s.treatment.Tap.Passed(), "nobody looks any more")
			})
		}
	}
	synctest.Test(t, func(t *testing.T) {
		s, p := newStream(t), &Peeks{}
		answer := func(id string, stop bool) error {
			_, err := p.Answer(t.Context(), &wire.PeekAsk{ID: id, Source: "s", Seconds: 60, Rate: 1, Stop: stop},
				s.tap)
			return err
		}
		require.NoError(t, answer("a", false))
		require.NoError(t, answer("b", false))
		require.ErrorIs(t, answer("c", false), errFull)
		require.NoError(t, answer("a", true))
		require.NoError(t, answer("c", false), "its place is free")
		require.Error(t, answer("d", true), "its end came before its beginning")
		require.NoError(t, answer("b", true))
		require.Error(t, answer("d", false))
		time.Sleep(2 * interest) // nobody asks
		synctest.Wait()
		assert.Empty(t, p.runs)
		s.write("n=4\n")
		assert.Zero(t, s.treatment.Tap.Passed())
		for words, ask := range map[string]*wire.PeekAsk{"no look": nil, "does not run the source x": {ID: "x",
			Source: "x"}, "cannot be computed": {ID: "x", Source: "s", Where: "fields.n >"}} {
			_, err := p.Answer(t.Context(), ask, s.tap)
			require.ErrorContains(t, err, words)
		}
		_, err := p.Answer(t.Context(), &wire.PeekAsk{ID: "e", Source: "s", Seconds: 60}, s.tap)
		require.NoError(t, err)
		_, err = p.Answer(t.Context(), &wire.PeekAsk{ID: "e", Source: "gone"}, s.tap)
		require.ErrorContains(t, err, "does not run the source gone any more")
		require.NoError(t, answer("e", true))
	})
}

// TestPeekBounds: a record of megabytes, with thousands of names, and ten thousand records that nobody takes, stay
// small; a million names of fields are forgotten again.
func TestPeekBounds(t *testing.T) {
	t.Parallel()
	s, p := newStream(t), &Peeks{}
	ask := wire.PeekAsk{ID: "a", Source: "s", Seconds: 60, Rate: 100, Where: "fields.n != 5"}
	ctx, cancel := context.WithCancel(t.Context())
	cancel() // it does not wait
	_, err := p.Answer(ctx, &ask, s.tap)
	require.NoError(t, err)
	huge := "n=4 text=\"" + strings.Repeat("é", 400_000) + "\" "
	for i := range 3000 {
		huge += fmt.Sprintf("name%d=%d ", i, i)
	}
	size := 0
	for i := range 30 {
		s.write(huge + "\n")
		time.Sleep(5 * time.Millisecond)
		if i%5 != 4 { // it is asked now and then, so that it does not end as one whose reader has gone
			continue
		}
		got, err := p.Answer(ctx, &ask, s.tap)
		require.NoError(t, err)
		each := 0
		for _, r := range got.Records {
			each += len(r.Record)
			var x struct {
				Body, Original string
				Fields         map[string]any
			}
			require.NoError(t, json.Unmarshal(r.Record, &x))
			assert.LessOrEqual(t, len(x.Body), wire.MaxPeekBytes+3)
			assert.LessOrEqual(t, len(x.Original), wire.MaxPeekBytes+3)
		}
		assert.Less(t, each, most+(100<<10))
		size += each
	}
	assert.Positive(t, size)
	ask.Stop = true
	_, err = p.Answer(ctx, &ask, s.tap)
	require.NoError(t, err)

	w, err := pipeline.NewWhere("fields.n == 4")
	require.NoError(t, err)
	for i := range 100_000 {
		y := pipeline.Tried{Fields: []pipeline.TriedField{{Name: fmt.Sprintf("a%d", i), Type: "int", Value: int64(1)},
			{Name: "n", Type: "int", Value: int64(i % 5)}}}
		require.Equal(t, i%5 == 4, w.Met(&y, nil))
	}
}
