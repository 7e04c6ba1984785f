package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"
)

// call asks the API, and reads the answer into out, which may be nil.
func (s *realService) call(method, path string, body, out any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, s.address+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+s.token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(resp.Body)
	if err != nil {
		return err
	}
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("%s %s: %s: %s", method, path, resp.Status, answer)
	}
	if raw, ok := out.(*string); ok {
		*raw = string(answer)
		return nil
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(answer, out)
}

func (s *realService) joinToken() (string, error) {
	var made struct{ Token string }
	err := s.call(http.MethodPost, "/api/v1/join-tokens", map[string]any{"uses": 0}, &made)
	return made.Token, err
}

// hostsConnected reads the service's own measurements.
func (s *realService) hostsConnected() (int, error) {
	var text string
	if err := s.call(http.MethodGet, "/metrics", nil, &text); err != nil {
		return 0, err
	}
	for line := range strings.Lines(text) {
		if n, ok := strings.CutPrefix(line, "synaxis_hosts_connected "); ok {
			f, err := strconv.ParseFloat(strings.TrimSpace(n), 64)
			return int(f), err
		}
	}
	return 0, fmt.Errorf("the service does not say how many hosts are connected")
}

// rollOut publishes a catalogue of one file and starts its rollout.
func (s *realService) rollOut(text string) error {
	var draft struct{ ID int }
	files := []map[string]string{{"path": "a.yaml", "text": text}}
	if err := s.call(http.MethodPost, "/api/v1/drafts", map[string]any{"files": files, "whole": true},
		&draft); err != nil {
		return err
	}
	if err := s.call(http.MethodPost, fmt.Sprintf("/api/v1/drafts/%d/publish", draft.ID), map[string]any{},
		nil); err != nil {
		return err
	}
	return s.call(http.MethodPost, "/api/v1/rollouts", map[string]any{}, nil)
}

// hostsConfirmed counts the hosts that run what the newest rollout brings.
func (s *realService) hostsConfirmed() (int, error) {
	var list struct {
		Items []struct{ Counts map[string]int }
	}
	if err := s.call(http.MethodGet, "/api/v1/rollouts", nil, &list); err != nil || len(list.Items) == 0 {
		return 0, err
	}
	return list.Items[0].Counts["confirmed"], nil
}

// cpu is what the process has used so far, of user and system time.
func (s *realService) cpu() time.Duration { return cpuOf(s.cmd.Process.Pid) }

// cpuOf is what a process has used so far, of user and system time. It is 0 where the system does not tell.
func cpuOf(pid int) time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	fields := strings.Fields(string(text))
	if err != nil || len(fields) < 15 {
		return 0
	}
	user, _ := strconv.Atoi(fields[13])
	system, _ := strconv.Atoi(fields[14])
	return time.Duration(user+system) * 10 * time.Millisecond
}
