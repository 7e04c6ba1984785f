package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// howLong is how long a test goes on: as a variable of the environment says, or as usual.
func howLong(t *testing.T, variable string, usual time.Duration) time.Duration {
	text := os.Getenv(variable)
	if text == "" {
		return usual
	}
	long, err := time.ParseDuration(text)
	require.NoError(t, err)
	return long
}

// TestTorture kills the agent again and again while a writer writes, files rotate both ways, and the receiver drops
// acknowledgements, is slow, and is down for a while: nothing is lost, what comes twice is at most what was in flight
// and a second's worth and has the id that it had, and the books balance. SYNAXIS_TORTURE=30m makes it long.
func TestTorture(t *testing.T) {
	t.Parallel()
	long := howLong(t, "SYNAXIS_TORTURE", time.Minute)
	rnd := rand.New(rand.NewPCG(7, 7))
	d := startDesk(t)
	dir := t.TempDir()
	logs := filepath.Join(dir, "log")
	require.NoError(t, os.MkdirAll(logs, 0o755))
	start := time.Now()
	recv := newReceiver(t, func(n int) int {
		switch {
		case int(time.Since(start).Seconds())%6 == 4: // down
			return http.StatusServiceUnavailable
		case n%7 == 0:
			return 0 // taken, but the answer is lost
		case n%13 == 0:
			time.Sleep(100 * time.Millisecond)
		case n%11 == 0:
			return http.StatusServiceUnavailable
		}
		return http.StatusOK
	})
	state := filepath.Join(dir, "state")
	agent := d.agent("h", state, d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(logs+"/*.log*", recv.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)

	// Two writers: one rotates by renaming, one by copying and truncating. Nothing is written between copy and
	// truncation.
	stop := make(chan struct{})
	var writers sync.WaitGroup
	written := make([]int, 2)
	for i, rotate := range []func(path string, n int) error{renameAway, copyAndTruncate} {
		writers.Go(func() {
			path := filepath.Join(logs, fmt.Sprintf("w%d.log", i))
			for n, part := 0, 1; ; n++ {
				select {
				case <-stop:
					written[i] = n
					return
				default:
				}
				f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
				if err == nil {
					_, err = fmt.Fprintf(f, "w%d line %d\n", i, n)
					f.Close()
				}
				if err == nil && n%2500 == 2499 {
					err = rotate(path, part)
					part++
				}
				if err != nil {
					t.Errorf("writer: %v", err)
					return
				}
				time.Sleep(time.Millisecond)
			}
		})
	}
	began := time.Now()
	killed, allowed := 0, 0
	for ; time.Since(began) < long; killed++ {
		time.Sleep(200*time.Millisecond + time.Duration(rnd.IntN(2800))*time.Millisecond)
		// What may come again: what was taken in the second before the positions were last sure to be on disk, and the
		// deliveries that are under way.
		agent.kill()
		allowed += recv.since(time.Now().Add(-time.Second)) + 4*100
		agent = d.agent("h", state, "")
	}
	close(stop)
	writers.Wait()
	total := written[0] + written[1]
	eventually(
		t,
		60*time.Second,
		fmt.Sprintf("all of %d lines", total),
		func() bool { n, _ := recv.count(); return n >= total },
	)
	distinct, all := recv.count()
	assert.Equal(t, total, distinct, "nothing is lost, and nothing that was never written arrives")
	allowed += recv.lost // an answer that was lost makes its delivery come again
	assert.LessOrEqual(t, all-distinct, allowed)
	assert.Equal(t, total, recv.known(t), "what came twice has the id that it had")
	d.balanced("out", int64(total))
	t.Logf("%d kills, %d lines written, %d came twice, %d were allowed to", killed, total, all-distinct, allowed)
}

// TestListenersTorture kills the agent again and again while clients push to its listeners, and the receiver is slow,
// down for a while and drops acknowledgements: all that a request was answered well for arrives, and the books
// balance. SYNAXIS_TORTURE=30m makes it long.
func TestListenersTorture(t *testing.T) {
	t.Parallel()
	long := howLong(t, "SYNAXIS_TORTURE", 20*time.Second)
	rnd := rand.New(rand.NewPCG(11, 7))
	d := startDesk(t)
	start := time.Now()
	recv := newReceiver(t, func(n int) int {
		switch {
		case int(time.Since(start).Seconds())%6 == 4: // down
			return http.StatusServiceUnavailable
		case n%7 == 0:
			return 0 // taken, but the answer is lost
		case n%13 == 0:
			time.Sleep(100 * time.Millisecond)
		}
		return http.StatusOK
	})
	state := filepath.Join(t.TempDir(), "state")
	agent := d.agent("h", state, d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	push, otlp := port(t, "tcp"), port(t, "tcp")
	d.publish(fmt.Sprintf("source: pushed\nhosts: all\nread: {http: {listen: {address: 127.0.0.1, port: %s}}}\nformat: raw\n"+
		"send: [out]\n---\nsource: programs\nhosts: all\nread: {otlp: {listen: {address: 127.0.0.1, port: %s}}}\nformat: raw\n"+
		"send: [out]\n---\ndestination: out\ndeliver: {http: {url: %q}}\nbatch: {records: 100, bytes: 64KiB, wait: 20ms}\n"+
		"retry: {first: 20ms, longest: 200ms, give-up: 1h}\n", push, otlp, recv.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)

	stop := make(chan struct{})
	var callers sync.WaitGroup
	taken, tries := make([][]string, 4), make([]int, 4)
	for i := range taken {
		callers.Go(func() {
			client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{}}
			defer client.CloseIdleConnections()
			for {
				select {
				case <-stop:
					return
				case <-time.After(10 * time.Millisecond):
				}
				tries[i]++
				var lines []string
				for k := range 20 {
					lines = append(lines, fmt.Sprintf("caller %d try %d line %d", i, tries[i], k))
				}
				url, kind, body := "http://127.0.0.1:"+push+"/", "text/plain", strings.Join(lines, "\n")
				if i%2 == 1 {
					url, kind = "http://127.0.0.1:"+otlp+"/v1/logs", "application/json"
					var records []string
					for _, l := range lines {
						records = append(records, fmt.Sprintf(`{"body":{"stringValue":%q}}`, l))
					}
					body = `{"resourceLogs":[{"scopeLogs":[{"logRecords":[` + strings.Join(records, ",") + `]}]}]}`
				}
				resp, err := client.Post(url, kind, strings.NewReader(body))
				if err != nil {
					continue
				}
				resp.Body.Close()
				if resp.StatusCode/100 == 2 {
					taken[i] = append(taken[i], lines...)
				}
			}
		})
	}
	killed := 0
	for began := time.Now(); time.Since(began) < long; killed++ {
		time.Sleep(200*time.Millisecond + time.Duration(rnd.IntN(2800))*time.Millisecond)
		agent.kill()
		agent = d.agent("h", state, "")
	}
	close(stop)
	callers.Wait()
	all := slices.Concat(taken...)
	require.NotEmpty(t, taken[0])
	require.NotEmpty(t, taken[1])
	lacks := func() (n int) {
		recv.mu.Lock()
		defer recv.mu.Unlock()
		for _, l := range all {
			if recv.bodies[l] == 0 {
				n++
			}
		}
		return n
	}
	eventually(t, 60*time.Second, "all that was answered for", func() bool { return lacks() == 0 })
	recv.known(t)
	d.balanced("out", 1)
	sum := 0
	for _, n := range tries {
		sum += 20 * n
	}
	t.Logf("%d kills, %d lines pushed, %d of them answered for; all of those arrived", killed, sum, len(all))
}

func renameAway(path string, n int) error { return os.Rename(path, fmt.Sprintf("%s.%d", path, n)) }

func copyAndTruncate(path string, n int) error {
	text, err := os.ReadFile(path)
	if err == nil {
		err = os.WriteFile(fmt.Sprintf("%s.%d", path, n), text, 0o644)
	}
	if err == nil {
		err = os.Truncate(path, 0)
	}
	return err
}

// TestDownAndWithoutService: lines written while the agent was down arrive, and it starts and delivers without the
// service.
func TestDownAndWithoutService(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	recv := newReceiver(t, nil)
	file := filepath.Join(dir, "x.log")
	agent := d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	appendLines(t, file, 0, 100)
	d.publish(linesCatalogue(file, recv.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	eventually(t, 15*time.Second, "the first lines", func() bool { n, _ := recv.count(); return n == 100 })
	agent.stop()
	appendLines(t, file, 100, 200)
	d.kill()
	d.agent("h", filepath.Join(dir, "state"), "")
	eventually(
		t,
		15*time.Second,
		"lines from while it was down",
		func() bool { n, _ := recv.count(); return n == 200 },
	)
	appendLines(t, file, 200, 300)
	eventually(t, 15*time.Second, "lines without the service", func() bool { n, _ := recv.count(); return n == 300 })
	_, all := recv.count()
	assert.Equal(t, 300, all, "a clean stop brings nothing twice")
	d.run()
	eventually(t, 70*time.Second, "the agent to come back to the service", func() bool { return d.connected("h") })
	eventually(t, 10*time.Second, "the numbers of all that time", func() bool {
		h := d.host("h")
		t.Logf("%+v", h.Sources)
		return len(h.Sources) == 1 && h.Sources[0].Numbers.Acknowledged == 300 && h.Sources[0].Numbers.Read == 300
	})
}

// TestServiceIsKilled kills the service inside publications and rollouts: what was acknowledged is there, and rollouts
// go on.
func TestServiceIsKilled(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	token := d.joinToken(0, nil)
	for _, name := range []string{"a", "b"} {
		d.agent(name, filepath.Join(dir, name), token)
	}
	eventually(t, 15*time.Second, "both to join", func() bool { return d.connected("a") && d.connected("b") })
	rnd := rand.New(rand.NewPCG(3, 5))
	revisions, rollouts := map[int]string{}, map[int]int{}
	for round := range 20 {
		ended := make(chan struct{})
		go func() { // works until the service is gone under it
			defer close(ended)
			ctx := context.Background()
			for i := 0; ; i++ {
				title := fmt.Sprintf("round %d, %d", round, i)
				text := linesCatalogue(fmt.Sprintf("/nowhere/%d-%d.log", round, i), "http://127.0.0.1:9/in")
				var draft contract.Draft
				if !try(&draft, func() (*http.Response, error) {
					return d.api.LoadDraft(
						ctx,
						contract.NewDraft{
							Title: &title,
							Whole: true,
							Files: []contract.File{{Path: "all.yaml", Text: text}},
						},
					)
				}) {
					return
				}
				var p contract.Published
				if !try(
					&p,
					func() (*http.Response, error) {
						return d.api.PublishDraft(ctx, draft.Id,
							contract.Publication{})
					},
				) {
					return
				}
				revisions[p.Revision] = title
				var r contract.Rollout
				resp, err := d.api.StartRollout(ctx, contract.NewRollout{Plan: &oneWave})
				if err != nil {
					return
				}
				body, err := io.ReadAll(resp.Body)
				resp.Body.Close()
				if err != nil {
					return
				}
				if resp.StatusCode == http.StatusCreated && json.Unmarshal(body, &r) == nil {
					rollouts[r.Id] = r.Revision
				}
			}
		}()
		time.Sleep(time.Duration(20+rnd.IntN(250)) * time.Millisecond)
		d.kill()
		<-ended
		d.run()
	}
	require.NotEmpty(t, revisions)
	require.NotEmpty(t, rollouts)
	resp, err := d.api.ListRevisions(context.Background())
	have := map[int]string{}
	for _, r := range get[contract.RevisionList](t, resp, err).Items {
		have[r.Number] = r.Title
	}
	for n, title := range revisions {
		assert.Equal(t, title, have[n], "revision %d was acknowledged", n)
	}
	for n := range have {
		resp, err := d.api.ListDefinitions(context.Background(), &contract.ListDefinitionsParams{Revision: &n})
		assert.Len(t, get[contract.DefinitionList](t, resp, err).Items, 2, "a revision is whole, or not there")
	}
	for id, revision := range rollouts {
		resp, err := d.api.GetRollout(context.Background(), id)
		assert.Equal(t, revision, get[contract.Rollout](t, resp, err).Revision)
	}
	t.Logf("20 kills, %d revisions and %d rollouts acknowledged", len(revisions), len(rollouts))
	eventually(t, 90*time.Second, "the agents to come back and the last rollout to go on", func() bool {
		resp, err := d.api.ListRollouts(context.Background())
		last := get[contract.RolloutList](t, resp, err).Items[0]
		return d.connected("a") && d.connected("b") && last.State != contract.RolloutSummaryStateRunning &&
			last.Counts["confirmed"] == 2
	})
}

// try makes a call that may be cut off by the service's end.
func try[T any](v *T, call func() (*http.Response, error)) bool {
	resp, err := call()
	if err != nil {
		return false
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	return err == nil && resp.StatusCode/100 == 2 && json.NewDecoder(bytes.NewReader(text)).Decode(v) == nil
}
