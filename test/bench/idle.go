package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// idleAgent lets the built agent of a real service watch files and listen, and answers which share of a core that
// takes, in percent, and its memory in MB.
func idleAgent(files, listeners int) (share, memory float64, err error) {
	s, err := startService()
	if err != nil {
		return 0, 0, err
	}
	defer s.stop()
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	for i := range files {
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("f%03d.log", i)), fmt.Appendf(nil, "file %d\n", i),
			0o644); err != nil {
			return 0, 0, err
		}
	}
	text := fmt.Sprintf("source: files\nhosts: all\nread: {files: [%q], first-read: start}\nformat: raw\nsend: [out]\n---\n"+
		"destination: out\ndeliver: {discard: {}}\n", filepath.Join(dir, "*.log"))
	for i := range listeners {
		transport := []string{"udp", "tcp"}[i%2]
		port, err := openPort(transport)
		if err != nil {
			return 0, 0, err
		}
		text += fmt.Sprintf("---\nsource: listens-%d\nhosts: all\nread: {syslog: {listen: {address: 127.0.0.1, port: %s, "+
			"transport: %s}}}\nformat: syslog\ntime: {zone: UTC}\nsend: [out]\n", i, port, transport)
	}
	token, err := s.joinToken()
	if err != nil {
		return 0, 0, err
	}
	bin := filepath.Dir(s.cmd.Path)
	agent := exec.Command(filepath.Join(bin, "synaxis-agent"), "--service", s.address, "--state", filepath.Join(dir, "state"),
		"--name", "idle")
	agent.Env = append(os.Environ(), "SYNAXIS_JOIN_TOKEN="+token)
	if err := agent.Start(); err != nil {
		return 0, 0, err
	}
	defer func() {
		_ = agent.Process.Kill()
		_ = agent.Wait()
	}()
	wait := func(count func() (int, error)) error {
		for began := time.Now(); ; time.Sleep(100 * time.Millisecond) {
			if n, err := count(); err != nil || n == 1 {
				return err
			}
			if time.Since(began) > time.Minute {
				return fmt.Errorf("the agent did not come, or did not take its config")
			}
		}
	}
	if err := wait(s.hostsConnected); err != nil {
		return 0, 0, err
	}
	if err := s.rollOut(text); err != nil {
		return 0, 0, err
	}
	if err := wait(s.hostsConfirmed); err != nil {
		return 0, 0, err
	}
	time.Sleep(15 * time.Second) // until its files count as quiet
	before, began := cpuOf(agent.Process.Pid), time.Now()
	time.Sleep(40 * time.Second)
	share = 100 * (cpuOf(agent.Process.Pid) - before).Seconds() / time.Since(began).Seconds()
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", agent.Process.Pid))
	for line := range strings.Lines(string(status)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			memory = kb * 1024 / 1e6
		}
	}
	return share, memory, err
}
