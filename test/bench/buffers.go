package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/agent/run"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
)

// Aims of the buffers on disk.
const (
	writtenAim = 0.5  // of what dd writes and syncs on the same disk
	drainAim   = 3    // times the live rate
	lagAim     = 2.0  // seconds, of neighbours while a backlog drains
	pathAim    = 0.95 // of the speed without a buffer
	idsAim     = 0.97 // of the speed without ids
)

// buffersTable measures the buffers on disk.
func buffersTable() (missed int, err error) {
	t, row := agentTable(&missed)
	defer t.Render()
	for _, f := range []func(rowFunc) error{writtenThrough, drained, withoutTrouble} {
		if err := f(row); err != nil {
			return missed, err
		}
	}
	return missed, nil
}

// rowFunc adds a row to a table.
type rowFunc func(what, is, aim string, met bool)

// onDisk makes a folder on a real disk, beside the sources: /tmp may be memory.
func onDisk() (string, error) { return os.MkdirTemp("/var/tmp", "bench") }

// writtenThrough compares a lane that is written and synced with dd on the same disk.
func writtenThrough(row rowFunc) error {
	const total, each = 512 << 20, 400 << 10
	dir, err := onDisk()
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var ratios []float64
	for round := range 5 {
		began := time.Now()
		out, err := exec.Command("dd", "if=/dev/zero", "of="+filepath.Join(dir, "dd"), "bs=4M",
			"count="+strconv.Itoa(total>>22), "conv=fdatasync").CombinedOutput()
		if err != nil {
			return fmt.Errorf("dd: %w: %s", err, out)
		}
		dd := time.Since(began)
		_ = os.Remove(filepath.Join(dir, "dd"))
		store, err := buffer.Open(filepath.Join(dir, strconv.Itoa(round)), buffer.Options{Host: "bench"})
		if err != nil {
			return err
		}
		lane := store.Lane(buffer.Key{Destination: "out", Source: "s"})
		o := record.NewOrigin("h", "bench", "s", "/a.log", nil)
		f := buffer.Frame{Encoding: record.NDJSON, Origin: o, At: time.Now(), Bytes: make([]byte, each)}
		for end := 400; end <= each; end += 400 {
			f.Ends = append(f.Ends, uint32(end))
		}
		f.Ends[len(f.Ends)-1] = each
		began = time.Now()
		for range total / each {
			if _, err := lane.Append(&f, false, nil); err != nil {
				return err
			}
		}
		if err := lane.Flush(); err != nil {
			return err
		}
		ratios = append(ratios, dd.Seconds()/time.Since(began).Seconds())
		store.Close()
		_ = os.RemoveAll(filepath.Join(dir, strconv.Itoa(round)))
	}
	slices.Sort(ratios)
	got := ratios[len(ratios)/2]
	row("written through, of dd conv=fdatasync with 4 MiB", fmt.Sprintf("%.2f", got), fmt.Sprint(writtenAim),
		got >= writtenAim)
	return nil
}

// drained lets a backlog of 1 GiB drain while another source goes on being written, and looks how late that is.
func drained(row rowFunc) error {
	dir, err := onDisk()
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	var up atomic.Bool
	var taken atomic.Int64
	var mu sync.Mutex
	lag := time.Duration(0)
	recv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !up.Load() {
			_, _ = io.Copy(io.Discard, r.Body)
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		in := bufio.NewReaderSize(r.Body, 1<<20)
		for {
			line, err := in.ReadSlice('\n')
			taken.Add(int64(len(line)))
			if i := bytes.Index(line, []byte(`"body":"live `)); i >= 0 {
				text, _, _ := strings.Cut(string(line[i+13:]), `"`)
				if at, perr := strconv.ParseInt(text, 10, 64); perr == nil {
					mu.Lock()
					lag = max(lag, time.Since(time.Unix(0, at)))
					mu.Unlock()
				}
			}
			if err != nil && err != bufio.ErrBufferFull {
				return
			}
		}
	}))
	defer recv.Close()
	d := delivery.Spec{Name: "out", Kind: delivery.HTTP, URLs: []string{recv.URL}, Encoded: "ndjson", Compress: "none",
		Batch: delivery.DefaultBatch, Retry: delivery.Retry{First: 100 * time.Millisecond, Longest: time.Second,
			GiveUp: time.Hour}, Buffer: delivery.Buffer{Disk: 4 << 30, AtLimit: delivery.Pause}, AtOnce: 4}
	d.Batch.Wait = 100 * time.Millisecond
	source := func(name string) pipeline.Source {
		return pipeline.Source{Name: name, Files: []string{filepath.Join(dir, name+".log")}, FirstRead: "start",
			Format: "raw", Unparsed: "keep", Send: []pipeline.Entry{{To: "out"}}}
	}
	if err := os.MkdirAll(filepath.Join(dir, "state"), 0o700); err != nil {
		return err
	}
	e, err := run.NewEngine(filepath.Join(dir, "state"), "bench", false, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	if err := e.Apply(hostconfig.Config{Host: "bench", Destinations: []delivery.Spec{d},
		Sources: []pipeline.Source{source("backlog"), source("live")}}); err != nil {
		return err
	}
	const line = 400
	f, err := os.Create(filepath.Join(dir, "backlog.log"))
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	records := int64(0)
	for size := 0; size < 1<<30; size += line + 250 { // as it is encoded
		records++
		fmt.Fprintf(w, "%0*d\n", line, records)
	}
	if err := w.Flush(); err != nil {
		return err
	}
	f.Close()
	backlog := func() int64 {
		n, _ := e.Numbers()
		return n["backlog"].Deliveries["out"].OnDisk
	}
	for backlog() < records {
		time.Sleep(20 * time.Millisecond)
	}
	n, _ := e.Numbers()
	size := n["backlog"].Deliveries["out"].DiskBytes
	stop, wrote := make(chan struct{}), make(chan int64)
	go func() { // about 1 MB a second
		live, err := os.Create(filepath.Join(dir, "live.log"))
		if err != nil {
			wrote <- 0
			return
		}
		total := int64(0)
		for {
			select {
			case <-stop:
				live.Close()
				wrote <- total
				return
			case <-time.After(10 * time.Millisecond):
			}
			var b bytes.Buffer
			for range 15 {
				fmt.Fprintf(&b, "live %d\n", time.Now().UnixNano())
			}
			total += int64(b.Len()) * 12 // as it is encoded
			_, _ = live.Write(b.Bytes())
		}
	}()
	time.Sleep(500 * time.Millisecond)
	mu.Lock()
	lag = 0
	mu.Unlock()
	up.Store(true)
	time.Sleep(3 * time.Second) // what the live source had waiting itself
	mu.Lock()
	lag = 0
	mu.Unlock()
	began, before := time.Now(), taken.Load()
	for backlog() > 0 {
		time.Sleep(20 * time.Millisecond)
	}
	took := time.Since(began).Seconds()
	close(stop)
	total := <-wrote
	drain := float64(taken.Load()-before) / max(took, 0.05)
	liveRate := float64(total) / (took + 3.5)
	row(fmt.Sprintf("a backlog of %d MiB drains, times the live rate", size>>20), fmt.Sprintf("%.1f", drain/liveRate),
		fmt.Sprint(drainAim), drain/liveRate >= drainAim)
	mu.Lock()
	row("... and its neighbour is late by at most", fmt.Sprintf("%.2f s", lag.Seconds()), fmt.Sprintf("%.0f s",
		lagAim),
		lag.Seconds() < lagAim)
	mu.Unlock()
	go e.Stop()
	return nil
}

// withoutTrouble compares the path with and without a buffer, and with and without ids, over the same receiver.
func withoutTrouble(row rowFunc) error {
	dir, err := os.MkdirTemp(memoryFolder(), "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "access.log")
	if _, err := writeWebLog(file, speedRecords); err != nil {
		return err
	}
	sink, stop, err := receiver()
	if err != nil {
		return err
	}
	defer stop()
	n := 0
	one := func(disk int64, ids bool) (float64, int64, error) {
		n++
		d := delivery.Spec{Name: "out", Kind: "http", URLs: []string{sink}, Encoded: "ndjson", Compress: "none",
			Batch: delivery.DefaultBatch, Retry: delivery.DefaultRetry, AtOnce: delivery.DefaultAtOnce,
			Buffer: delivery.Buffer{Disk: disk, AtLimit: delivery.Pause}}
		d.Batch.Wait = 20 * time.Millisecond
		state := filepath.Join(dir, strconv.Itoa(n))
		got, err := wholeSource(state, pipeline.Source{Name: "s", Files: []string{file}, FirstRead: "start",
			Format: "web-combined", Unparsed: "keep", NoIDs: !ids, Send: []pipeline.Entry{{To: "out"}}}, d)
		written := int64(0)
		_ = filepath.Walk(filepath.Join(state, "buffers"), func(_ string, info os.FileInfo, err error) error {
			if err == nil && !info.IsDir() {
				written += info.Size()
			}
			return nil
		})
		return got.cpu.Seconds(), written, err
	}
	var paths, ids []float64
	wrote := int64(0)
	kinds := []struct {
		disk int64
		ids  bool
	}{{delivery.DefaultBuffer.Disk, true}, {0, true}, {0, false}}
	for round := range 8 {
		var took [3]float64
		for i := range kinds { // forth and back, so that a machine that gets slower is so for all
			if round%2 == 1 {
				i = len(kinds) - 1 - i
			}
			cpu, w, err := one(kinds[i].disk, kinds[i].ids)
			if err != nil {
				return err
			}
			took[i] = cpu
			wrote += w
		}
		paths, ids = append(paths, took[1]/took[0]), append(ids, took[2]/took[1])
	}
	slices.Sort(paths)
	slices.Sort(ids)
	path, id := paths[len(paths)/2], ids[len(ids)/2]
	row("the path without trouble, of that without a buffer", fmt.Sprintf("%.2f", path), fmt.Sprint(pathAim),
		path >= pathAim)
	row("... written to disk meanwhile", fmt.Sprintf("%d bytes", wrote), "0", wrote == 0)
	row("with ids, of the speed without", fmt.Sprintf("%.2f", id), fmt.Sprint(idsAim), id >= idsAim)
	return nil
}
