package probe

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
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

// way is a source with two destinations that a test drives by hand.
type way struct {
	t         *testing.T
	probes    Probes
	host      Host
	treatment *pipeline.Treatment
	trouble   string
	found     atomic.Bool
}

func newWay(t *testing.T, kind string, lookUp bool) *way {
	spec, ok := format.BuiltIn(kind)
	if !ok {
		spec = format.Spec{Kind: format.Kind(kind), Template: "{n:int} {word}"}
	}
	src := pipeline.Source{Name: "s", Send: []pipeline.Entry{{To: "one"}, {To: "two"}}}
	tr, err := pipeline.Compile(src, spec, pipeline.Parts{})
	require.NoError(t, err)
	tr.Tap = &pipeline.Tap{}
	w := &way{t: t, treatment: tr}
	w.host = Host{
		Dir: filepath.Join(t.TempDir(), "probes"),
		Tap: func(source string) *pipeline.Tap {
			if source != "s" {
				return nil
			}
			return tr.Tap
		},
		Format: func(source string) (format.Spec, pipeline.Source, bool) { return spec, src, source == "s" },
		Newest: func(string) (string, error) {
			if kind == "template" {
				return "4 boarded", nil
			}
			return "", errors.New("no file has a line")
		},
		SourceTrouble:      func(string) string { return w.trouble },
		DestinationTrouble: func(string) string { return w.trouble },
	}
	if lookUp {
		w.host.LookUp = func(context.Context, string, string) (bool, bool, string) { return w.found.Load(), true, "404" }
	}
	return w
}

// read treats the file of the probe as the reader of its source does.
func (w *way) read(id string) {
	path := filepath.Join(w.host.Dir, id+".log")
	text, err := os.ReadFile(path)
	require.NoError(w.t, err)
	require.Equal(w.t, []string{path}, w.probes.Paths("s"))
	require.Equal(w.t, id, w.probes.ID(path))
	b := &record.Batch{Origin: record.NewOrigin("h", "", "s", path, nil), Arena: text}
	used, _ := w.treatment.Run(b, 0, time.Now().UnixNano(), 10, true)
	require.Equal(w.t, len(text), used)
}

func (w *way) ask(a wire.ProbeAsk) (*wire.Probe, error) {
	return w.probes.Answer(w.t.Context(), &a, w.host)
}

// hops are those of an answer, in short.
func hops(p *wire.Probe) (out []string) {
	for _, h := range p.Hops {
		out = append(out, strings.TrimSpace(string(h.Hop)+" "+h.Destination))
	}
	return out
}

// TestHops: what happens to a record is told in its order and once, whatever becomes of it at which destination, and
// the probe ends when nothing is open any more.
func TestHops(t *testing.T) {
	t.Parallel()
	acknowledged, refused := wire.DeliveryCounts{Acknowledged: 1}, wire.DeliveryCounts{Refused: 1}
	discarded, buffered := wire.DeliveryCounts{Discarded: 1}, wire.DeliveryCounts{OnDisk: 1}
	for name, c := range map[string]struct {
		lookUp bool
		one    []wire.DeliveryCounts
		two    []wire.DeliveryCounts
		want   []string
	}{
		"taken": {false, []wire.DeliveryCounts{acknowledged}, []wire.DeliveryCounts{acknowledged},
			[]string{"acknowledged one", "acknowledged two"}},
		"buffered at first": {false, []wire.DeliveryCounts{buffered, acknowledged}, []wire.DeliveryCounts{refused},
			[]string{"buffered one", "acknowledged one", "refused two"}},
		"given up": {false, []wire.DeliveryCounts{buffered, discarded}, []wire.DeliveryCounts{{},
			acknowledged}, []string{"buffered one", "discarded one", "acknowledged two"}},
		"found": {true, []wire.DeliveryCounts{acknowledged}, []wire.DeliveryCounts{refused}, []string{"acknowledged one", "refused two", "found one"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWay(t, "raw", c.lookUp)
			first, err := w.ask(wire.ProbeAsk{ID: "A", Source: "s", Seconds: 60})
			require.NoError(t, err)
			require.Equal(t, []string{"written"}, hops(first))
			w.read("A")
			w.probes.Sends("/another.log", 8, "one") // of another file
			path := filepath.Join(w.host.Dir, "A.log")
			w.probes.Sends(path, 7, "one")
			w.probes.Sends(path, 7, "two")
			w.probes.Settled("one", 8, acknowledged) // of another stream
			for _, n := range c.one {
				w.probes.Settled("one", 7, n)
			}
			w.found.Store(true)
			for _, n := range c.two {
				w.probes.Settled("two", 7, n)
			}
			seen, got := 1, &wire.Probe{}
			var all []string
			for !got.Ended {
				got, err = w.ask(wire.ProbeAsk{ID: "A", Source: "s", Seconds: 60, Seen: seen})
				require.NoError(t, err)
				seen += len(got.Hops)
				all = append(all, hops(got)...)
			}
			assert.Empty(t, got.Stuck)
			assert.Equal(t, append([]string{"read", "queued one", "queued two"}, c.want...), all)
			assert.NoFileExists(t, path)
			assert.Empty(t, w.probes.Paths("s"))
		})
	}
}

// TestStuck: where a record hangs when the time is over, and why.
func TestStuck(t *testing.T) {
	t.Parallel()
	for words, drive := range map[string]func(w *way){
		"it was not read: no file matches":                      func(*way) {},
		"one has not acknowledged it: no file matches; two has": func(w *way) { w.read("A") },
		"two has not acknowledged it: no file matches": func(w *way) {
			w.read("A")
			w.probes.Sends(filepath.Join(w.host.Dir, "A.log"), 7, "one")
			w.probes.Settled("one", 7, wire.DeliveryCounts{Acknowledged: 1})
		},
	} {
		synctest.Test(t, func(t *testing.T) {
			w := newWay(t, "raw", false)
			w.trouble = "no file matches"
			began := time.Now()
			got, err := w.ask(wire.ProbeAsk{ID: "A", Source: "s", Seconds: 5})
			require.NoError(t, err)
			drive(w)
			for seen := len(got.Hops); !got.Ended; seen += len(got.Hops) {
				got, err = w.ask(wire.ProbeAsk{ID: "A", Source: "s", Seconds: 5, Seen: seen})
				require.NoError(t, err)
			}
			assert.Contains(t, got.Stuck, words)
			assert.Equal(t, 5*time.Second, time.Since(began).Round(time.Second))
			for i := range atOnce { // its place is free
				_, err = w.ask(wire.ProbeAsk{ID: fmt.Sprint("B", i), Source: "s", Seconds: 5})
				require.NoError(t, err)
			}
			_, err = w.ask(wire.ProbeAsk{ID: "C", Source: "s", Seconds: 5})
			require.ErrorContains(t, err, "4 probes are under way")
			time.Sleep(2 * interest) // nobody asks
			synctest.Wait()
			left, err := os.ReadDir(w.host.Dir)
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

// TestTheLine: the agent makes a line that the source's own format reads, with the fields and their types, or copies
// the newest; or says what to give.
func TestTheLine(t *testing.T) {
	t.Parallel()
	fields := map[string]any{"lane": 4, "note": `two "words"`, "empty": ""}
	for _, c := range []struct {
		kind         string
		ask          wire.ProbeAsk
		body, failed string
	}{
		{"raw", wire.ProbeAsk{}, "synaxis probe A", ""},
		{"json", wire.ProbeAsk{}, "synaxis probe A", ""},
		{"json", wire.ProbeAsk{Fields: fields}, "synaxis probe A", ""},
		{"keyvalue", wire.ProbeAsk{Fields: fields}, "synaxis probe A", ""},
		{"syslog", wire.ProbeAsk{}, "synaxis probe A", ""},
		{"template", wire.ProbeAsk{}, "4 boarded", ""},
		{"template", wire.ProbeAsk{Line: "7 left\r\n"}, "7 left", ""},
		{"web-common", wire.ProbeAsk{}, "", "give a line: the agent cannot make one for web-common"},
		{"raw", wire.ProbeAsk{Fields: fields}, "", "fields are for json and keyvalue"},
		{"json", wire.ProbeAsk{Line: "x", Fields: fields}, "", "a line or fields, not both"},
		{"raw", wire.ProbeAsk{Line: strings.Repeat("x", wire.MaxProbeLine+1)}, "", "longer than"},
	} {
		w := newWay(t, c.kind, false)
		c.ask.ID, c.ask.Source, c.ask.Seconds = "A", "s", 60
		_, err := w.ask(c.ask)
		if c.failed != "" {
			require.ErrorContains(t, err, c.failed)
			continue
		}
		require.NoError(t, err, c.kind)
		var got []pipeline.Tried
		w.treatment.Tap.Open(&pipeline.Look{File: filepath.Join(w.host.Dir, "A.log"),
			Take: func(r []pipeline.Tried, _ *record.Origin) { got = append(got, r...) }})
		w.read("A")
		require.Len(t, got, 1, c.kind)
		assert.True(t, got[0].Read, "%s does not read %s", c.kind, got[0].Original)
		assert.Contains(t, got[0].Original, c.body)
		for _, f := range got[0].Fields {
			switch f.Name {
			case "lane":
				assert.Equal(t, int64(4), f.Value, c.kind)
			case "note":
				assert.Equal(t, `two "words"`, f.Value, c.kind)
			}
		}
		_, err = w.ask(wire.ProbeAsk{ID: "A", Stop: true})
		require.NoError(t, err)
	}
	w := newWay(t, "raw", false)
	for words, ask := range map[string]*wire.ProbeAsk{"no probe": nil, "does not run the source x": {ID: "B", Source: "x"},
		"no such probe": {ID: "B", Source: "s", Seen: 1}} {
		_, err := w.probes.Answer(t.Context(), ask, w.host)
		require.ErrorContains(t, err, words)
	}
}
