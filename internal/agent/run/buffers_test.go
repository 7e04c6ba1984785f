package run

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/agent/position"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/wire"
)

// desk is a receiver that can be switched off and on, and counts what it takes by path of the address.
type desk struct {
	*httptest.Server
	up    atomic.Bool
	mu    sync.Mutex
	taken map[string]map[string]int // by path, then by body
	kinds map[string]bool           // content types
	order map[string][]string       // bodies by their word before "-"
}

func newDesk(t *testing.T) *desk {
	d := &desk{taken: map[string]map[string]int{}, kinds: map[string]bool{}, order: map[string][]string{}}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		up := d.up.Load()
		text, err := io.ReadAll(r.Body)
		if err != nil || !up {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		d.kinds[r.Header.Get("Content-Type")] = true
		if d.taken[r.URL.Path] == nil {
			d.taken[r.URL.Path] = map[string]int{}
		}
		for line := range strings.Lines(string(text)) {
			_, rest, ok := strings.Cut(line, `"body":"`)
			if body, _, found := strings.Cut(rest, `"`); ok && found {
				d.taken[r.URL.Path][body]++
				word, _, _ := strings.Cut(body, "-")
				d.order[word] = append(d.order[word], body)
			}
		}
	}))
	t.Cleanup(d.Close)
	return d
}

// open switches it on. What an agent that was stopped had under way is not taken: it would come twice.
func (d *desk) open() {
	d.CloseClientConnections()
	d.up.Store(true)
}

func (d *desk) has(path string) (distinct, all int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, n := range d.taken[path] {
		all += n
	}
	return len(d.taken[path]), all
}

func (d *desk) await(t *testing.T, path string, distinct int) {
	t.Helper()
	last, since := 0, time.Now()
	for {
		have, _ := d.has(path)
		if have >= distinct {
			require.Equal(t, distinct, have)
			return
		}
		if have > last {
			last, since = have, time.Now()
		}
		require.Less(t, time.Since(since), longest, "%d of %d at %s", have, distinct, path)
		time.Sleep(5 * time.Millisecond)
	}
}

// longest is how long a test waits while nothing moves. It measures no speed: the machine may be busy.
const longest = time.Minute

func eventually(t *testing.T, what string, done func() bool) {
	t.Helper()
	require.Eventually(t, done, longest, 5*time.Millisecond, what)
}

// text makes a config of sources and destinations.
func read(t *testing.T, text string, args ...any) hostconfig.Config {
	t.Helper()
	c, err := hostconfig.Read(fmt.Appendf(nil, "synaxis: 1\nhost: h\n"+text, args...), hostconfig.Runs)
	require.NoError(t, err)
	return c
}

const quick = "    batch: {records: 200, wait: 5ms}\n    retry: {first: 10ms, longest: 50ms}\n"

func (b *bench) lines(name string, from, to int) {
	var text strings.Builder
	for i := from; i < to; i++ {
		fmt.Fprintf(&text, "%s-%06d\n", strings.TrimSuffix(name, ".log"), i)
	}
	b.write(name, text.String())
}

// counts are what became of a source's records at a destination. The books balance whenever they are looked at.
func (b *bench) counts(source, destination string) wire.DeliveryCounts {
	b.t.Helper()
	all, _ := b.Numbers()
	for _, n := range all {
		for name, c := range n.Deliveries {
			require.Zero(b.t, c.Difference(), "%s: %+v", name, c)
		}
	}
	return all[source].Deliveries[destination]
}

// again stops the engine, or lets it go as a crash does, and opens another one.
func (b *bench) again(c hostconfig.Config) *bench {
	b.t.Helper()
	b.Stop()
	next := newBench(b.t, b.dir)
	require.NoError(b.t, next.Apply(c))
	return next
}

// TestDownForLong: what a destination does not take is on disk, over restarts, when its files are deleted, when the
// destination changes its form, is renamed or leaves, and when the source is renamed.
func TestDownForLong(t *testing.T) {
	t.Parallel()
	for name, later := range map[string]struct{ path, config string }{
		"the same": {"/in", "  - source: lines\n    read: {files: [%[1]q], first-read: start}\n    format: raw\n    " +
			"send: [out]\ndestinations:\n  - destination: out\n    deliver: {http: {url: %[2]q}}\n" + quick},
		"another address and compression": {"/new", "  - source: lines\n    read: {files: [%[1]q], first-read: start}\n" +
			"    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n    deliver: {http: {url: " +
			"\"%[3]s/new\"}}\n    compress: none\n" + quick},
		"renamed": {"/in", "  - source: rows\n    was: lines\n    read: {files: [%[1]q], first-read: start}\n    format: " +
			"raw\n    send: [vault]\ndestinations:\n  - destination: vault\n    was: out\n    deliver: {http: {url: " +
			"%[2]q}}\n" + quick},
		"gone, and drained": {"/in", "  - source: lines\n    read: {files: [%[1]q], first-read: start}\n    format: raw\n" +
			"    send: [nowhere]\ndestinations:\n  - destination: nowhere\n    deliver: {discard: {}}\n"},
		"isolated": {"/in", "  - source: lines\n    read: {files: [%[1]q], first-read: start}\n    format: raw\n    " +
			"send: [out, nowhere]\ndestinations:\n  - destination: out\n    isolate: true\n    deliver: {http: {url: " +
			"%[2]q}}\n" + quick + "  - destination: nowhere\n    deliver: {discard: {}}\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := newDesk(t)
			b := newBench(t, t.TempDir())
			pattern := filepath.Join(b.dir, "*.log")
			first := read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n    format: raw\n"+
				"    send: [out]\ndestinations:\n  - destination: out\n    deliver: {http: {url: %q}}\n"+quick,
				pattern, d.URL+"/in")
			require.NoError(t, b.Apply(first))
			b.lines("a.log", 0, 3000)
			eventually(t, "all on disk", func() bool { return b.counts("lines", "out").OnDisk == 3000 })
			require.NoError(t, os.Remove(filepath.Join(b.dir, "a.log")))
			b = b.again(first)
			require.EqualValues(t, 3000, b.counts("lines", "out").OnDisk)
			b.lines("b.log", 0, 2000)
			eventually(t, "all on disk", func() bool { return b.counts("lines", "out").OnDisk == 5000 })
			next := read(t, "sources:\n"+later.config, pattern, d.URL+"/in", d.URL)
			require.NoError(t, b.Apply(next))
			b = b.again(next)
			defer func() { b.Stop() }()
			d.open()
			d.await(t, later.path, 5000)
			source, destination := "lines", "out"
			if name == "renamed" {
				source, destination = "rows", "vault"
			}
			_, all := d.has(later.path)
			assert.Equal(t, 5000, all, "a clean restart brings nothing twice")
			if name == "gone, and drained" {
				eventually(t, "it to end", func() bool { return len(b.Destinations()) == 1 })
			} else {
				eventually(t, "it to be counted", func() bool {
					c := b.counts(source, destination)
					return c.Acknowledged == 5000 && c.Waiting() == 0
				})
				b.lines("b.log", 2000, 2100)
				d.await(t, later.path, 5100)
			}
			eventually(t, "the disk to be free", func() bool {
				names, err := filepath.Glob(filepath.Join(b.dir, "state/buffers/*/*/*.seg"))
				return err == nil && len(names) == 0
			})
		})
	}
}

// TestOtherForm: what waits on disk in one encoding is delivered in another.
func TestOtherForm(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	b := newBench(t, t.TempDir())
	config := func(deliver string) hostconfig.Config {
		return read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n    format: raw\n"+
			"    send: [out]\ndestinations:\n  - destination: out\n    deliver: {%s: {url: %q}}\n"+quick,
			filepath.Join(b.dir, "*.log"), deliver, d.URL+"/in")
	}
	require.NoError(t, b.Apply(config("otlp")))
	b.lines("a.log", 0, 1000)
	eventually(t, "all on disk", func() bool { return b.counts("lines", "out").OnDisk == 1000 })
	require.NoError(t, b.Apply(config("http")))
	d.open()
	d.await(t, "/in", 1000)
	assert.Equal(t, map[string]bool{"application/x-ndjson": true}, d.kinds)
	b.Stop()
}

// TestLeftOver: what a destination that left the config could not deliver in time goes to its rejects, and that is
// said.
func TestLeftOver(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	b := newBench(t, t.TempDir())
	config := func(send, more string) hostconfig.Config {
		return read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n    format: raw\n"+
			"    send: [%s]\ndestinations:\n"+more, filepath.Join(b.dir, "*.log"), send)
	}
	require.NoError(t, b.Apply(config("out", "  - destination: out\n    drain: 1s\n    deliver: {http: {url: \""+d.URL+
		"\"}}\n"+quick)))
	b.lines("a.log", 0, 300)
	eventually(t, "all on disk", func() bool { return b.counts("lines", "out").OnDisk == 300 })
	require.NoError(t, b.Apply(config("nowhere", "  - destination: nowhere\n    deliver: {discard: {}}\n")))
	var said Status
	eventually(t, "it to be said", func() bool {
		for _, s := range b.Destinations() {
			if s.Name == "out" && strings.Contains(s.Reason, "among its rejects") {
				said = s
			}
		}
		return said.Name != ""
	})
	assert.Contains(t, said.Reason, "300 records were not delivered")
	groups, _, err := b.rejects.Summary("out")
	require.NoError(t, err)
	require.Len(t, groups, 1)
	assert.EqualValues(t, 300, groups[0].Records)
	assert.EqualValues(t, 300, b.DestinationNumbers()["out"].Rejects)
	b = b.again(config("nowhere", "  - destination: nowhere\n    deliver: {discard: {}}\n"))
	assert.EqualValues(t, 300, b.DestinationNumbers()["out"].Rejects, "the desk knows of them after a restart too")
	b.measure(time.Now().Add(13 * 24 * time.Hour))
	assert.EqualValues(t, 300, b.DestinationNumbers()["out"].Rejects)
	b.measure(time.Now().Add(15 * 24 * time.Hour))
	assert.Zero(t, b.DestinationNumbers()["out"].Rejects, "and they are not kept for ever")
	b.Stop()
}

// TestDiskCeiling: buffers, rejects and the agent's own files together stay under the ceiling of disk, whatever each
// of them may have for itself.
func TestDiskCeiling(t *testing.T) {
	t.Parallel()
	picky := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		if strings.Contains(string(text), "unfit") {
			w.WriteHeader(http.StatusUnprocessableEntity)
		}
	}))
	t.Cleanup(picky.Close)
	d := newDesk(t)
	b := newBench(t, t.TempDir())
	defer func() { b.Stop() }()
	const ceiling = 3 << 20
	config := read(t, "limits: {disk: 3MiB}\nsources:\n"+
		"  - source: mixed\n    read: {files: [%[1]q], first-read: start}\n    format: raw\n    send: [picky]\n"+
		"  - source: lines\n    read: {files: [%[2]q], first-read: start}\n    format: raw\n    send: [out]\n"+
		"destinations:\n  - destination: picky\n    deliver: {http: {url: %[3]q}}\n    compress: none\n"+quick+
		"  - destination: out\n    deliver: {http: {url: %[4]q}}\n"+quick,
		filepath.Join(b.dir, "mixed*.log"), filepath.Join(b.dir, "a*.log"), picky.URL, d.URL)
	require.NoError(t, b.Apply(config))
	line := strings.Repeat("x", 20000) + "\n"
	for i := range 25 {
		b.write("mixed.log", strings.Repeat("fine\nunfit "+strings.Repeat(line[:len(line)-1], 10)+"\n", 2))
		b.write("a.log", strings.Repeat(line, 8))
		if i == 12 {
			b = b.again(config)
		}
		time.Sleep(20 * time.Millisecond)
		require.LessOrEqual(t, used(t, filepath.Join(b.dir, "state")), int64(ceiling))
	}
	eventually(t, "rejects to go", func() bool { return b.DestinationNumbers()["picky"].RejectsGone > 0 })
	eventually(t, "reading to wait", func() bool { return !b.dest("out").Full().IsZero() })
	assert.LessOrEqual(t, used(t, filepath.Join(b.dir, "state")), int64(ceiling))
}

// used is how many bytes the files in a folder have.
func used(t *testing.T, dir string) (n int64) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(_ string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || e.IsDir() {
			return err
		}
		if info, err := e.Info(); err == nil {
			n += info.Size()
		}
		return nil
	}))
	return n
}

// TestReadingThatSawNoFile: an agent that ends before a reading for a destination alone has seen a file, which the
// other destinations have read, begins that file at its start, whether the reading goes on or ends.
func TestReadingThatSawNoFile(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		firstRead       string
		looked, isolate bool
		want            int
	}{
		"goes on":                        {"start", true, true, 600},
		"ends":                           {"start", true, false, 600},
		"goes on, without a look":        {"start", false, true, 600},
		"ends, without a look":           {"start", false, false, 600},
		"goes on, first read now":        {"now", true, true, 600},
		"ends, first read now":           {"now", true, false, 600},
		"first read now, without a look": {"now", false, false, 100},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := newDesk(t)
			d.open()
			b := newBench(t, t.TempDir())
			b.lines("a.log", 0, 500)
			pattern, path := filepath.Join(b.dir, "*.log"), filepath.Join(b.dir, "a.log")
			b.Stop()
			s, err := position.Open(filepath.Join(b.dir, "state", "positions.json"), position.Options{Now: time.Now()})
			require.NoError(t, err)
			s.Begin(reading("lines", "slow"), time.Now())
			s.FirstLook("lines", pattern, time.Now())
			if c.looked {
				s.FirstLook(reading("lines", "slow"), pattern, time.Now())
			}
			f, err := os.Open(path)
			require.NoError(t, err)
			defer f.Close()
			info, err := f.Stat()
			require.NoError(t, err)
			one := position.File{Source: "lines", Path: path, Offset: info.Size(), Stream: 1}
			one.Dev, one.Ino = position.Identity(info)
			one.HeadLen, one.Head, err = position.Head(f, info.Size())
			require.NoError(t, err)
			one.Tail, err = position.Tail(f, info.Size())
			require.NoError(t, err)
			s.Put(one)
			s.SetNumbers("lines", wire.Numbers{Read: 500, Deliveries: map[string]wire.DeliveryCounts{
				"slow": {}, "out": {Read: 500, Acknowledged: 500}}})
			require.NoError(t, s.Save())
			s.Close()
			b = newBench(t, b.dir)
			require.NoError(t, b.Apply(read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: %s}\n"+
				"    format: raw\n    send: [slow, out]\ndestinations:\n  - destination: slow\n    isolate: %v\n"+
				"    deliver: {http: {url: %q}}\n"+quick+"  - destination: out\n    deliver: {file: {path: %q}}\n",
				pattern, c.firstRead, c.isolate, d.URL+"/slow", filepath.Join(b.dir, "out"))))
			b.lines("a.log", 500, 600)
			d.await(t, "/slow", c.want)
			eventually(t, "the other", func() bool { return len(b.arrived()) == 100 })
			b.Stop()
		})
	}
}

// TestIsolatedAndRenamed: what a destination with a reading of its own has not got yet is kept when it, or its source,
// gets another name.
func TestIsolatedAndRenamed(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ source, destination string }{
		"the source":      {"source: rows\n    was: lines", "destination: slow"},
		"the destination": {"source: lines", "destination: late\n    was: slow"},
		"both":            {"source: rows\n    was: lines", "destination: late\n    was: slow"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := newDesk(t)
			b := newBench(t, t.TempDir())
			config := func(source, destination string) hostconfig.Config {
				to, _, _ := strings.Cut(strings.TrimPrefix(destination, "destination: "), "\n")
				return read(t, "sources:\n  - %s\n    read: {files: [%q], first-read: start}\n    format: raw\n"+
					"    send: [%s, out]\ndestinations:\n  - %s\n    isolate: true\n    buffer: {disk: none}\n"+
					"    deliver: {http: {url: %q}}\n"+quick+"  - destination: out\n    deliver: {file: {path: %q}}\n"+
					"    batch: {wait: 5ms}\n",
					source, filepath.Join(b.dir, "*.log"), to, destination, d.URL+"/slow", filepath.Join(b.dir, "out"))
			}
			require.NoError(t, b.Apply(config("source: lines", "destination: slow")))
			b.lines("a.log", 0, 500)
			eventually(t, "the other to go on", func() bool { return len(b.arrived()) == 500 })
			require.NoError(t, b.Apply(config(c.source, c.destination)))
			b = b.again(config(c.source, c.destination))
			b.lines("a.log", 500, 600)
			d.open()
			d.await(t, "/slow", 600)
			eventually(t, "the other", func() bool { return len(b.arrived()) == 600 })
			b.Stop()
		})
	}
}

// TestIsolateOnAndOff: a reading of its own begins and ends without losing a record at either destination, whichever
// of them is behind.
func TestIsolateOnAndOff(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	b := newBench(t, t.TempDir())
	config := func(isolate bool) hostconfig.Config {
		return read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n    format: raw\n"+
			"    send: [slow, out]\ndestinations:\n  - destination: slow\n    isolate: %v\n    buffer: {disk: none}\n"+
			"    deliver: {http: {url: %q}}\n"+quick+"  - destination: out\n    deliver: {file: {path: %q}}\n"+
			"    batch: {wait: 5ms}\n",
			filepath.Join(b.dir, "*.log"), isolate, d.URL+"/slow", filepath.Join(b.dir, "out"))
	}
	require.NoError(t, b.Apply(config(true)))
	n := 0
	for _, isolate := range []bool{true, false, true, false} {
		d.up.Store(false)
		b.lines("a.log", n, n+500)
		n += 500
		if isolate {
			eventually(t, "the other to go on", func() bool { return len(b.arrived()) == n })
		}
		b = b.again(config(isolate))
		b.lines("a.log", n, n+500)
		n += 500
		d.open()
		d.await(t, "/slow", n)
		eventually(t, "the file", func() bool { return len(b.arrived()) == n })
		require.NoError(t, b.Apply(config(!isolate)))
	}
	b.Stop()
}

// TestAtOnce: a receiver that takes its time gets several deliveries at once, and the records of a file in order.
func TestAtOnce(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.open()
	var now, most atomic.Int64
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := now.Add(1)
		for m := most.Load(); n > m && !most.CompareAndSwap(m, n); m = most.Load() {
		}
		time.Sleep(30 * time.Millisecond)
		d.Config.Handler.ServeHTTP(w, r)
		now.Add(-1)
	}))
	t.Cleanup(slow.Close)
	b := newBench(t, t.TempDir())
	require.NoError(t, b.Apply(read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n"+
		"    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n    deliver: {http: {url: %q}}\n"+
		"    at-once: 4\n"+quick, filepath.Join(b.dir, "*.log"), slow.URL+"/in")))
	for i := range 8 {
		b.lines(fmt.Sprintf("f%d.log", i), 0, 2000)
	}
	d.await(t, "/in", 16000)
	assert.GreaterOrEqual(t, most.Load(), int64(2))
	assert.LessOrEqual(t, most.Load(), int64(4))
	d.mu.Lock()
	for word, bodies := range d.order {
		require.Len(t, bodies, 2000)
		for i := 1; i < len(bodies); i++ {
			require.Less(t, bodies[i-1], bodies[i], "%s", word)
		}
	}
	d.mu.Unlock()
	assert.Zero(t, b.counts("lines", "out").DiskBytes, "with a healthy destination nothing is written to disk")
	b.Stop()
}

// TestDeletedFilesAreLetGo: a deleted file that cannot be read in time does not hold the disk for ever; what is lost
// is counted and said.
func TestDeletedFilesAreLetGo(t *testing.T) {
	if testing.Short() {
		t.Skip("it writes many megabytes")
	}
	t.Parallel()
	d := newDesk(t)
	b := newBench(t, t.TempDir())
	require.NoError(t, b.Apply(read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n"+
		"    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n    deliver: {http: {url: %q}}\n"+
		"    buffer: {disk: 1MiB}\n"+quick, filepath.Join(b.dir, "*.log"), d.URL+"/in")))
	defer b.Stop()
	line := strings.Repeat("x", 1000) + "\n"
	b.write("a.log", strings.Repeat(line, 80000))
	eventually(t, "its buffer to be full", func() bool {
		return b.counts("lines", "out").DiskBytes > 500<<10
	})
	require.NoError(t, os.Remove(filepath.Join(b.dir, "a.log")))
	eventually(t, "the file to be let go", func() bool { n, _ := b.Numbers(); return n["lines"].Lost > 0 })
	eventually(t, "it to be said", func() bool {
		for _, s := range b.Sources() {
			if strings.Contains(s.Reason, "are lost") {
				return true
			}
		}
		return false
	})
}

// TestMemoryOfDeadDestinations: ten destinations that take nothing hold little memory.
func TestMemoryOfDeadDestinations(t *testing.T) {
	if testing.Short() {
		t.Skip("it writes many megabytes")
	}
	d := newDesk(t)
	b := newBench(t, t.TempDir())
	defer b.Stop()
	var send []string
	var dests strings.Builder
	for i := range 10 {
		send = append(send, fmt.Sprintf("out-%d", i))
		fmt.Fprintf(&dests, "  - destination: out-%d\n    deliver: {http: {url: %q}}\n%s", i, d.URL, quick)
	}
	debug.SetMemoryLimit(64 << 20 * 9 / 10)
	defer debug.SetMemoryLimit(1 << 40)
	require.NoError(t, b.Apply(read(t, "limits: {memory: 64MiB}\nsources:\n  - source: lines\n    read: {files: [%q], "+
		"first-read: start}\n    format: raw\n    send: [%s]\ndestinations:\n"+dests.String(),
		filepath.Join(b.dir, "*.log"), strings.Join(send, ", "))))
	line := strings.Repeat("x", 500) + "\n"
	peak := uint64(0)
	const lines = 30000
	for range 10 {
		b.write("a.log", strings.Repeat(line, lines/10))
		time.Sleep(50 * time.Millisecond)
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		peak = max(peak, m.HeapInuse)
	}
	eventually(t, "all on disk", func() bool {
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		peak = max(peak, m.HeapInuse)
		for _, name := range send {
			if b.counts("lines", name).OnDisk != lines {
				return false
			}
		}
		return true
	})
	assert.Less(t, peak, uint64(64<<20))
}
