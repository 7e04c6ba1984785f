package main

import (
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"synaxis/internal/agent/run"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
)

// costsTable measures what the whole agent costs: files in which nothing happens, a few lines into them, and compression. It answers how
// many aims were missed.
func costsTable() (missed int, err error) {
	fmt.Println()
	t := newTable(table.Row{"the agent", "", "aim", ""})
	row := func(what, is, aim string, met bool) {
		verdict := "met"
		if !met {
			verdict = "missed"
			missed++
		}
		t.AppendRow(table.Row{what, is, aim, verdict})
	}
	share, wrote, err := idleFiles(2000, 40)
	if err != nil {
		return 0, err
	}
	row("2,000 files in which nothing happens, of one core", fmt.Sprintf("%.1f %%", 100*share), "2 %", share < 0.02)
	row("40 lines into them within ten seconds, bytes written", show(float64(wrote)), "200,000", wrote < 200_000)
	plain, err := delivered("none")
	if err != nil {
		return 0, err
	}
	packed, err := delivered("gzip")
	if err != nil {
		return 0, err
	}
	row("web-combined over HTTP with gzip, of the speed without", fmt.Sprintf("%.2f (%.0f of %.0f MiB/s)", packed/plain, packed, plain), "0.5", packed/plain >= 0.5)
	t.Render()
	return missed, nil
}

func engine(dir string, src pipeline.Source, d delivery.Spec) (*run.Engine, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	e, err := run.NewEngine(dir, "bench", false, slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, err
	}
	return e, e.Apply(hostconfig.Config{Host: "bench", Destinations: []delivery.Spec{d}, Sources: []pipeline.Source{src}})
}

// idleFiles lets an agent watch files, and answers which share of a core that takes, and how much some lines into them let it write.
func idleFiles(files, lines int) (share float64, wrote int64, err error) {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	add := func(i int, text string) error {
		f, err := os.OpenFile(filepath.Join(dir, fmt.Sprintf("idle-%04d.log", i)), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = f.WriteString(text)
		return err
	}
	for i := range files {
		if err := add(i, fmt.Sprintf("file %d\n", i)); err != nil {
			return 0, 0, err
		}
	}
	e, err := engine(filepath.Join(dir, "state"), pipeline.Source{Name: "s", Files: []string{filepath.Join(dir, "*.log")}, FirstRead: "start", Format: "raw", Unparsed: "keep", Send: []pipeline.Entry{{To: "out"}}},
		delivery.Spec{Name: "out", Kind: "discard", Batch: delivery.DefaultBatch, Retry: delivery.DefaultRetry})
	if err != nil {
		return 0, 0, err
	}
	defer e.Stop()
	await := func(n int64) error {
		for range 600 {
			if all, _ := e.Numbers(); all["s"].Acknowledged >= n {
				return nil
			}
			time.Sleep(100 * time.Millisecond)
		}
		return fmt.Errorf("%d records did not settle", n)
	}
	if err := await(int64(files)); err != nil {
		return 0, 0, err
	}
	time.Sleep(12 * time.Second) // until they count as quiet
	cpu, began := used(), time.Now()
	time.Sleep(10 * time.Second)
	share = (used() - cpu).Seconds() / time.Since(began).Seconds()
	before := handed()
	for i := range lines {
		if err := add(i*files/lines, "a line\n"); err != nil {
			return 0, 0, err
		}
		time.Sleep(10 * time.Second / time.Duration(lines))
	}
	return share, handed() - before, await(int64(files + lines))
}

// used is the processor time of this process.
func used() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// handed is how many bytes this process has handed to write calls.
func handed() (n int64) {
	text, _ := os.ReadFile("/proc/self/io")
	for line := range strings.Lines(string(text)) {
		if _, err := fmt.Sscanf(line, "wchar: %d", &n); err == nil {
			return n
		}
	}
	return 0
}

// delivered is how many MiB of input a second go to a receiver that takes everything.
func delivered(compress string) (float64, error) {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	line := `198.51.100.7 - ada [02/Apr/2031:06:15:09 +0100] "GET /sailings/%d?seat=4&deck=2 HTTP/1.1" 200 %d "https://whimbrel.example/fares" "WhimbrelApp/4.1 (tide; like a wave) Explorer/126.0.0.0"` + "\n"
	var text strings.Builder
	const records = 400_000
	for i := range records {
		fmt.Fprintf(&text, line, i%977, 200+i*7919%9000)
	}
	if err := os.WriteFile(filepath.Join(dir, "a.log"), []byte(text.String()), 0o644); err != nil {
		return 0, err
	}
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { _, _ = io.Copy(io.Discard, r.Body) }))
	defer s.Close()
	batch := delivery.DefaultBatch
	batch.Wait = 20 * time.Millisecond // the last delivery is not full
	began := time.Now()
	e, err := engine(filepath.Join(dir, "state"), pipeline.Source{Name: "s", Files: []string{filepath.Join(dir, "a.log")}, FirstRead: "start", Format: "web-combined", Unparsed: "keep", Send: []pipeline.Entry{{To: "out"}}},
		delivery.Spec{Name: "out", Kind: "http", URL: s.URL, Form: "ndjson", Compress: compress, Batch: batch, Retry: delivery.DefaultRetry})
	if err != nil {
		return 0, err
	}
	defer e.Stop()
	for {
		if all, _ := e.Numbers(); all["s"].Acknowledged == records {
			return float64(text.Len()) / (1 << 20) / time.Since(began).Seconds(), nil
		}
		time.Sleep(2 * time.Millisecond)
	}
}
