package files

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/agent/input"
	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// sink takes what a reader sends, and settles it at once or when it is told to.
type sink struct {
	mu     sync.Mutex
	bodies []string
	open   []*settle.Entry
	hold   bool
}

func (s *sink) Ways(b *record.Batch, _ func(string) bool) []settle.Way {
	return []settle.Way{{Destination: "out", Records: int64(len(b.Records))}}
}

func (s *sink) Send(_ context.Context, b *record.Batch, e *settle.Entry, _ func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range b.Records {
		s.bodies = append(s.bodies, string(b.Bytes(b.Records[i].Body)))
	}
	if s.open = append(s.open, e); !s.hold {
		for _, e := range s.open {
			e.Done("out", wire.DeliveryCounts{Acknowledged: 1})
		}
		s.open = nil
	}
}

// bench is a reader that is driven by hand, with a clock of its own.
type bench struct {
	*Reader
	t     *testing.T
	dir   string
	clock time.Time
	sink  *sink
}

func newBench(t *testing.T, dir string, store *position.Store, patterns ...string) *bench {
	spec := pipeline.Source{Name: "s", FirstRead: "start"}
	for _, p := range patterns {
		spec.Files = append(spec.Files, filepath.Join(dir, p))
	}
	raw, _ := format.BuiltIn("raw")
	tr, err := pipeline.Compile(spec, raw, pipeline.Parts{})
	require.NoError(t, err)
	b := &bench{t: t, dir: dir, clock: time.Date(2031, 4, 2, 6, 0, 0, 0, time.UTC), sink: &sink{}}
	b.Reader = New(
		Source{
			Hints: NewHints(),
			Parts: input.Parts{
				Spec:      spec,
				Treatment: tr,
				Out:       b.sink,
				Store:     store,
				Book:      settle.NewBook(wire.Numbers{}),
				Log:       slog.New(slog.DiscardHandler),
				Now:       func() time.Time { return b.clock },
				Origin:    func(path string) *record.Origin { return record.NewOrigin("h", "i", "s", path, nil) },
			},
		},
		nil,
	)
	t.Cleanup(func() { b.Close(); b.Hints.Close() })
	return b
}

func openStore(t *testing.T, dir string) *position.Store {
	s, err := position.Open(filepath.Join(dir, "positions.json"), position.Options{Now: time.Now()})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func (b *bench) write(name, text string) {
	f, err := os.OpenFile(filepath.Join(b.dir, name), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	require.NoError(b.t, err)
	_, err = f.WriteString(text)
	require.NoError(b.t, err)
	require.NoError(b.t, f.Close())
}

// go on for a while, with a look at the patterns each time.
func (b *bench) pass(d time.Duration) {
	for end := b.clock.Add(d); b.clock.Before(end); {
		b.clock = b.clock.Add(min(time.Minute, end.Sub(b.clock)))
		b.scan()
		for b.round(context.Background()) {
		}
		b.Save()
	}
}

// TestPositionsOutliveTheClock: a host that was off for long, or whose clock jumps either way, knows its files again.
func TestPositionsOutliveTheClock(t *testing.T) {
	t.Parallel()
	for _, jump := range []time.Duration{time.Hour, 8 * 24 * time.Hour, 400 * 24 * time.Hour, -400 * 24 * time.Hour} {
		dir, state := t.TempDir(), t.TempDir()
		b := newBench(t, dir, openStore(t, state), "*.log")
		b.write("a.log", "one\ntwo\n")
		b.pass(time.Minute)
		require.Equal(t, []string{"one", "two"}, b.sink.bodies)
		require.NoError(t, b.Store.Save())
		start := b.clock.Add(jump)

		again := newBench(t, dir, openStore(t, state), "*.log")
		again.clock = start
		again.pass(2 * time.Minute)
		again.clock = again.clock.Add(-jump) // and once more while it runs
		again.pass(2 * time.Minute)
		again.write("a.log", "three\n")
		again.pass(time.Minute)
		assert.Equal(t, []string{"three"}, again.sink.bodies, "after %s", jump)
	}
}

// TestCopiedDuringALook: a file that is copied and truncated while an agent that was down looks for files is read on
// in its copy, as what it was, wherever in the look that happens.
func TestCopiedDuringALook(t *testing.T) {
	t.Parallel()
	for _, look := range []int{1, 2, 3} { // the one during which it happens
		t.Run(fmt.Sprint(look), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			state := t.TempDir()
			store := openStore(t, state)
			b := newBench(t, dir, store, "*.log*")
			b.write("a.log", "1\n2\n")
			b.pass(time.Minute)
			require.Equal(t, []string{"1", "2"}, b.sink.bodies)
			require.NoError(t, store.Save())
			b.Close()
			stream := store.Files("s")[0].Stream

			again := newBench(t, dir, store, "*.log*")
			n := 0
			again.Probes = func() []string { // which is asked when the patterns have been looked up
				if n++; n == look {
					text, err := os.ReadFile(filepath.Join(dir, "a.log"))
					require.NoError(t, err)
					require.NoError(t, os.WriteFile(filepath.Join(dir, "a.log.1"), text, 0o644))
					require.NoError(t, os.Truncate(filepath.Join(dir, "a.log"), 0))
					again.write("a.log", "4\n")
				}
				return nil
			}
			again.write("a.log", "3\n")
			for range 10 {
				again.pass(time.Second)
			}
			assert.ElementsMatch(t, []string{"3", "4"}, again.sink.bodies, "nothing comes twice, nothing is lost")
			for _, f := range store.Files("s") {
				assert.Equal(t, filepath.Base(f.Path) == "a.log.1", f.Stream == stream, f.Path)
			}
		})
	}
}

// TestForgetting: a file is forgotten only after the reader saw its folder without it for a day; not while its folder
// cannot be seen.
func TestForgetting(t *testing.T) {
	t.Parallel()
	dir, state := t.TempDir(), t.TempDir()
	b := newBench(t, dir, openStore(t, state), "*.log")
	b.write("a.log", "one\n")
	b.write("b.log", "two\n")
	b.pass(time.Minute)
	require.NoError(
		t,
		os.Rename(filepath.Join(dir, "a.log"), filepath.Join(dir, "a.away")),
	) // out of the pattern, still in the folder
	other := t.TempDir()
	require.NoError(t, os.Rename(filepath.Join(dir, "b.log"), filepath.Join(other, "b.log"))) // out of the folder
	b.pass(5 * time.Minute)
	assert.Empty(t, b.streams, "both were left alone after a while")
	assert.Len(t, b.Store.Files("s"), 2)
	b.pass(20 * time.Hour)
	assert.Len(t, b.Store.Files("s"), 2)
	b.pass(5 * time.Hour)
	files := b.Store.Files("s")
	require.Len(t, files, 1)
	assert.Equal(t, filepath.Join(dir, "a.log"), files[0].Path, "what is still in the folder stays known")
	require.NoError(t, os.Rename(filepath.Join(dir, "a.away"), filepath.Join(dir, "a.log")))
	b.pass(time.Minute)
	assert.Equal(t, []string{"one", "two"}, sorted(b.sink.bodies), "it is not sent again")
}

func sorted(list []string) []string {
	list = slices.Clone(list)
	slices.Sort(list)
	return list
}

// TestDeletedFiles: what was deleted while it was open is read to its end and forgotten at once.
func TestDeletedFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir, openStore(t, t.TempDir()), "*.log")
	b.write("a.log", "one\n")
	b.pass(time.Second)
	b.write("a.log", "two\n")
	require.NoError(t, os.Remove(filepath.Join(dir, "a.log")))
	b.pass(5 * time.Second)
	b.pass(5 * time.Second)
	assert.Equal(t, []string{"one", "two"}, b.sink.bodies)
	assert.Empty(t, b.Store.Files("s"))
	assert.Empty(t, b.streams)
}

// TestOldestFirst: what was written first is read first, whichever file it is in; files that are read for the first
// time come after those that grow.
func TestOldestFirst(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir, openStore(t, t.TempDir()), "*.log")
	for i := range 6 {
		name := fmt.Sprintf("%d.log", i)
		b.write(name, name+"\n")
		at := b.clock.Add(-time.Duration(10*(i+1)) * time.Minute)
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), at, at))
	}
	b.pass(time.Second)
	assert.Equal(t, []string{"5.log", "4.log", "3.log", "2.log", "1.log", "0.log"}, b.sink.bodies)

	b.sink.bodies = nil
	b.write("new.log", strings.Repeat("new\n", 3))
	for i := range 4 {
		b.clock = b.clock.Add(time.Second)
		b.write("0.log", "grows\n")
		if i == 0 {
			b.scan()
		}
		b.look(b.at("0.log"))
	}
	b.turn = 0 // the next batch is not one for files that are read for the first time
	require.True(t, b.round(context.Background()))
	assert.Equal(t, "grows", b.sink.bodies[0])
	b.turn = firstShare - 1
	b.write("1.log", "grows too\n")
	b.clock = b.clock.Add(time.Second)
	b.look(b.at("1.log"))
	require.True(t, b.round(context.Background()))
	assert.Contains(t, b.sink.bodies, "new", "and they get their part")
}

func (b *bench) at(name string) *stream {
	for _, st := range b.streams {
		if filepath.Base(st.info.Path) == name {
			return st
		}
	}
	return nil
}

// TestOneOwner: a reader that another one has taken over from saves nothing any more, however late it is asked to.
func TestOneOwner(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir, openStore(t, t.TempDir()), "*.log")
	b.sink.hold = true
	b.write("a.log", "one\n")
	b.pass(time.Second)
	old := b.Reader
	next := New(old.Source, old)
	var wg sync.WaitGroup
	wg.Go(func() {
		for range 200 {
			old.Save()
		}
	})
	wg.Go(func() {
		for range 200 {
			next.Save()
			next.scan()
		}
	})
	wg.Wait()
	assert.Empty(t, old.streams)
	assert.Len(t, next.streams, 1)
	next.Close()
}

// TestMarks: however often a file grows, the age of what waits in it is known, and never younger than it is.
func TestMarks(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir, openStore(t, t.TempDir()), "*.log")
	b.sink.hold = true
	b.write("a.log", "one\n")
	b.pass(time.Second)
	st := b.at("a.log")
	at := map[int64]time.Time{}
	size := st.size
	for range 5000 {
		b.clock = b.clock.Add(250 * time.Millisecond)
		size += 10
		at[size] = b.clock
		b.grow(st, size)
	}
	assert.LessOrEqual(t, len(st.marks), maxMarks)
	for end, written := range at {
		assert.False(t, st.waitsSince(end-1).After(written), "byte %d", end)
	}
}
