package main

import (
	"fmt"
	"log/slog"
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

// costsTable measures what the whole agent costs: files in which nothing happens, a few lines into them, and
// compression. It answers how many aims were missed.
func costsTable() (missed int, err error) {
	t, row := agentTable(&missed)
	share, wrote, err := idleFiles(2000, 40)
	if err != nil {
		return 0, err
	}
	row("2,000 files in which nothing happens, of one core", fmt.Sprintf("%.1f %%", 100*share), "2 %", share < 0.02)
	row("40 lines into them within ten seconds, bytes written", show(float64(wrote)), "200,000", wrote < 200_000)
	if err := speeds(row); err != nil {
		return missed, err
	}
	t.Render()
	return missed, nil
}

// agentTable begins a table of what the agent costs, with a function that adds a row.
func agentTable(missed *int) (t table.Writer, row func(what, is, aim string, met bool)) {
	fmt.Println()
	t = newTable(table.Row{"the agent", "", "aim", ""})
	return t, func(what, is, aim string, met bool) {
		verdict := "met"
		if !met {
			verdict = "missed"
			*missed++
		}
		if aim == "" {
			verdict = ""
		}
		t.AppendRow(table.Row{what, is, aim, verdict})
	}
}

// speedTable is the speeds alone.
func speedTable() (missed int, err error) {
	t, row := agentTable(&missed)
	err = speeds(row)
	t.Render()
	return missed, err
}

func engine(dir string, src pipeline.Source, d delivery.Spec) (*run.Engine, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	e, err := run.NewEngine(dir, "bench", false, slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, err
	}
	return e, e.Apply(
		hostconfig.Config{Host: "bench", Destinations: []delivery.Spec{d}, Sources: []pipeline.Source{src}},
	)
}

// idleFiles lets an agent watch files, and answers which share of a core that takes, and how much some lines into them
// let it write.
func idleFiles(files, lines int) (share float64, wrote int64, err error) {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	add := func(i int, text string) error {
		f, err := os.OpenFile(
			filepath.Join(dir, fmt.Sprintf("idle-%04d.log", i)),
			os.O_CREATE|os.O_APPEND|os.O_WRONLY,
			0o644,
		)
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
	e, err := engine(
		filepath.Join(dir, "state"),
		pipeline.Source{
			Name:      "s",
			Files:     []string{filepath.Join(dir, "*.log")},
			FirstRead: "start",
			Format:    "raw",
			Unparsed:  "keep",
			Send:      []pipeline.Entry{{To: "out"}},
		},
		delivery.Spec{Name: "out", Kind: "discard", Batch: delivery.DefaultBatch, Retry: delivery.DefaultRetry},
	)
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
