package main

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"synaxis/internal/core/framing"
	"synaxis/internal/core/pipeline"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/hostconfig"
)

// idleEnv lets this program be an agent that has nothing to do, for the folder in it.
const idleEnv = "SYNAXIS_BENCH_IDLE"

// idleAgent lets an agent in a process of its own watch files and listen, and answers which share of a core that
// takes, in percent, and its memory in MB.
func idleAgent(dir string, files, listeners int) (share, memory float64, err error) {
	for i := range files {
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("f%03d.log", i)), fmt.Appendf(nil, "file %d\n", i),
			0o644); err != nil {
			return 0, 0, err
		}
	}
	exe, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	cmd := exec.Command(exe)
	cmd.Env = append(os.Environ(), fmt.Sprintf("%s=%s:%d", idleEnv, dir, listeners))
	out, err := cmd.StdoutPipe()
	if err != nil {
		return 0, 0, err
	}
	if err := cmd.Start(); err != nil {
		return 0, 0, err
	}
	defer func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}()
	if _, err := bufio.NewReader(out).ReadString('\n'); err != nil {
		return 0, 0, err
	}
	time.Sleep(15 * time.Second) // until its files count as quiet
	cpu := func() time.Duration {
		text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", cmd.Process.Pid))
		f := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		user, _ := strconv.ParseInt(f[11], 10, 64)
		system, _ := strconv.ParseInt(f[12], 10, 64)
		return time.Duration(user+system) * 10 * time.Millisecond
	}
	before, began := cpu(), time.Now()
	time.Sleep(20 * time.Second)
	share = 100 * (cpu() - before).Seconds() / time.Since(began).Seconds()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			memory = kb / 1000
		}
	}
	return share, memory, err
}

// beIdle is that agent; it returns where this program is none.
func beIdle() {
	dir, n, ok := strings.Cut(os.Getenv(idleEnv), ":")
	if !ok {
		return
	}
	listeners, _ := strconv.Atoi(n)
	source := pipeline.Source{Name: "files", Files: []string{filepath.Join(dir, "*.log")}, FirstRead: "start", Format: "raw",
		Unparsed: "keep", Send: []pipeline.Entry{{To: "out"}}}
	d := delivery.Spec{Name: "out", Kind: delivery.Discard, Batch: delivery.DefaultBatch, Retry: delivery.DefaultRetry}
	e, err := engine(filepath.Join(dir, "state"), source, d)
	if err == nil {
		all := []pipeline.Source{source}
		for i := range listeners {
			transport := []string{"udp", "tcp"}[i%2]
			port, _ := openPort(transport)
			s := source
			s.Name, s.Files = fmt.Sprint("listens-", i), nil
			s.Listen = &pipeline.Listener{Kind: "syslog", Address: "127.0.0.1", Port: port, Transport: transport,
				Framing: framing.Newline, Connections: 200, Unknown: "keep"}
			all = append(all, s)
		}
		err = e.Apply(hostconfig.Config{Host: "bench", Destinations: []delivery.Spec{d}, Sources: all})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println("ready")
	select {}
}
