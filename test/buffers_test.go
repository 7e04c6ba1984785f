package test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// balanced asks for the books until they hold so many records of a destination acknowledged, and wants no difference
// at any time.
func (d *desk) balanced(destination string, acknowledged int64) contract.BookLine {
	d.t.Helper()
	var line contract.BookLine
	eventually(d.t, 60*time.Second, fmt.Sprintf("the books of %s to show %d", destination, acknowledged), func() bool {
		b := get[contract.Books](d.t, first(d.api.GetBooks(context.Background(), nil)), nil)
		require.Zero(d.t, b.Off, "%+v", b)
		for _, l := range b.Items {
			if l.Numbers.Destination == destination {
				line = l
			}
		}
		return line.Numbers.Acknowledged >= acknowledged
	})
	return line
}

// waiting waits until so many records of a destination are on disk.
func (d *desk) waiting(destination string, records int64) contract.DestinationDetail {
	d.t.Helper()
	var out contract.DestinationDetail
	eventually(d.t, 60*time.Second, fmt.Sprintf("%d records to wait for %s", records, destination), func() bool {
		out = get[contract.DestinationDetail](d.t, first(d.api.GetDestination(context.Background(), destination)), nil)
		return out.State.Numbers.OnDisk >= records
	})
	return out
}

// TestRotatedAwayWhileDown: while the receiver is down files are written, rotated away and deleted, and the agent is
// stopped and killed. Nothing is lost, an id tells what came twice, and the books balance all the time.
func TestRotatedAwayWhileDown(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	var up atomic.Bool
	up.Store(true)
	recv := newReceiver(t, func(int) int {
		if up.Load() {
			return http.StatusOK
		}
		return http.StatusServiceUnavailable
	})
	state := filepath.Join(dir, "state")
	agent := d.agent("h", state, d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(dir+"/*.log", recv.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	file := filepath.Join(dir, "a.log")
	appendLines(t, file, 0, 1000)
	d.balanced("out", 1000)
	up.Store(false)
	next := 1000
	for round := range 4 {
		appendLines(t, file, next, next+2000)
		next += 2000
		d.waiting("out", int64(next-1000)) // all of it is on disk
		require.NoError(t, os.Remove(file))
		switch round {
		case 0:
			agent.stop()
		case 1, 2:
			agent.kill()
		default:
			continue
		}
		agent = d.agent("h", state, "")
	}
	shown := d.waiting("out", 8000)
	eventually(t, 30*time.Second, "the state to be told", func() bool {
		shown = d.waiting("out", 8000)
		return shown.Items[0].Code != nil && *shown.Items[0].Code == "receiver-busy"
	})
	assert.NotNil(t, shown.State.Numbers.Oldest)
	assert.Positive(t, shown.State.Numbers.DiskBytes)
	assert.Positive(t, shown.State.Answers["503"])
	out, code := d.cli("destination", "show", "out")
	assert.Zero(t, code)
	assert.Contains(t, out, "▲ receiver-busy")
	up.Store(true)
	line := d.balanced("out", int64(next))
	assert.Zero(t, line.Numbers.Discarded)
	distinct, all := recv.count()
	assert.Equal(t, next, distinct, "nothing is lost")
	assert.Equal(t, distinct, recv.known(t), "what came twice has the id that it had")
	t.Logf("%d of %d came twice", all-distinct, next)
	out, code = d.cli("books")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "lines")
	eventually(t, 30*time.Second, "the disk to be free again", func() bool {
		names, err := filepath.Glob(filepath.Join(state, "buffers/out/lines/*.seg"))
		return err == nil && len(names) == 0
	})
}

// TestNeighboursGoOn: of two destinations of a source the healthy one goes on while the other takes nothing and has no
// room either when it is isolated; a kill sends little of what it had again.
func TestNeighboursGoOn(t *testing.T) {
	t.Parallel()
	for name, more := range map[string]string{
		"a buffer":             "buffer: {disk: 64MiB}\n",
		"full and isolated":    "buffer: {disk: 1MiB}\nisolate: true\n",
		"full and giving up":   "buffer: {disk: 1MiB, at-limit: discard-oldest}\n",
		"full and taking none": "buffer: {disk: 1MiB, at-limit: discard-newest}\n",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := startDesk(t)
			dir := t.TempDir()
			good := newReceiver(t, nil)
			bad := newReceiver(t, func(int) int { return http.StatusServiceUnavailable })
			state := filepath.Join(dir, "state")
			agent := d.agent("h", state, d.joinToken(1, nil))
			eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
			const each = "batch: {records: 500, wait: 20ms}\nretry: {first: 20ms, longest: 200ms, give-up: 1h}\n"
			d.publish(fmt.Sprintf("source: lines\nhosts: all\nread: {files: [%q], first-read: start}\nformat: raw\n"+
				"send: [good, bad]\n---\ndestination: good\ndeliver: {http: {url: %q}}\n"+each+
				"---\ndestination: bad\ndeliver: {http: {url: %q}}\n"+each+more, dir+"/*.log", good.URL, bad.URL))
			require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
			for n := range 10 {
				appendLines(t, filepath.Join(dir, "a.log"), n*3000, n*3000+3000)
				eventually(t, 60*time.Second, "the healthy one to go on", func() bool {
					distinct, _ := good.count()
					return distinct == n*3000+3000
				})
			}
			_, all := good.count()
			assert.Equal(t, 30000, all)
			time.Sleep(2 * time.Second) // what was settled until now is written down; what comes after may come again
			agent.kill()
			d.agent("h", state, "")
			eventually(t, 30*time.Second, "the agent to be back", func() bool { return d.connected("h") })
			appendLines(t, filepath.Join(dir, "a.log"), 30000, 30001)
			eventually(t, 60*time.Second, "the healthy one to go on after a kill", func() bool {
				distinct, _ := good.count()
				return distinct == 30001
			})
			distinct, all := good.count()
			assert.LessOrEqual(t, all-distinct, 500, "little comes again")
			assert.Equal(t, distinct, good.known(t))
			line := d.balanced("bad", 0)
			if strings.Contains(more, "discard") {
				assert.Positive(t, line.Numbers.Discarded)
			} else {
				assert.Zero(t, line.Numbers.Discarded)
			}
		})
	}
}

// TestRejects: what a destination refuses for good is listed by cause on all hosts at once, shown, exported, sent
// again after a mend, ten first, and discarded.
func TestRejects(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	var mended atomic.Bool
	recv := newReceiver(t, nil)
	server := newServerBefore(t, recv, func(body string) int {
		if !mended.Load() && strings.Contains(body, "line 7") {
			return http.StatusUnprocessableEntity
		}
		return http.StatusOK
	})
	token := d.joinToken(0, nil)
	for _, name := range []string{"a", "b"} {
		d.agent(name, filepath.Join(dir, name), token)
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "log"), 0o755))
	}
	eventually(t, 15*time.Second, "both", func() bool { return d.connected("a") && d.connected("b") })
	d.publish(linesCatalogue(dir+"/log/*.log", server))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	appendLines(t, filepath.Join(dir, "log/x.log"), 0, 100)
	const refused = 11 // 7 and 70 to 79
	eventually(t, 60*time.Second, "the rejects of both", func() bool {
		s := get[contract.DestinationDetail](t, first(d.api.GetDestination(context.Background(), "out")), nil).State
		return s.Rejects == 2*refused
	})
	out, code := d.cli("reject", "list", "out")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "422")
	assert.Contains(t, out, "2: a, b")
	assert.Contains(t, out, "line 7", "an example")
	out, code = d.cli("reject", "show", "out", "--host", "a", "--limit", "2")
	assert.Zero(t, code, out)
	assert.Contains(t, out, `"body":"line 7"`)
	_, code = d.cli("reject", "show", "out")
	assert.Equal(t, 2, code)
	out, code = d.cli("reject", "export", "out", "--hosts", `host.name == "b"`)
	assert.Zero(t, code, out)
	assert.Equal(t, refused, strings.Count(out, "\n"))
	out, code = d.cli("reject", "resend", "out", "--hosts", `host.name == "a"`)
	assert.Equal(t, 1, code, "it is refused again: %s", out)
	assert.Contains(t, out, "422")
	out, code = d.cli("reject", "resend", "out", "--most", "5")
	assert.Equal(t, 1, code, "the trial is refused again: %s", out)
	assert.NotContains(t, out, "b:", "no other host tries then")
	mended.Store(true)
	out, code = d.cli("reject", "resend", "out", "--most", "3")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "\n3 records sent again")
	assert.NotContains(t, out, "b:")
	out, code = d.cli("reject", "resend", "out", "--hosts", `host.name == "a"`, "--cause", "422")
	assert.Zero(t, code, out)
	assert.Contains(t, out, fmt.Sprintf("%d records sent again", refused-3))
	distinct, _ := recv.count()
	assert.Equal(t, 100, distinct)
	_, code = d.cli("reject", "discard", "out")
	assert.Equal(t, 2, code, "it wants to be sure")
	resendAtConsole(t, d)
	mended.Store(false)
	appendLines(t, filepath.Join(dir, "log/x.log"), 700, 701)
	appendLines(t, filepath.Join(dir, "log/x.log"), 100, 105) // which are accepted, so that the other one is to blame
	eventually(t, 60*time.Second, "a reject of both", func() bool {
		s := get[contract.DestinationDetail](t, first(d.api.GetDestination(context.Background(), "out")), nil).State
		return s.Rejects == 2
	})
	out, code = d.cli("reject", "discard", "out", "--yes")
	assert.Zero(t, code, out)
	eventually(t, 30*time.Second, "none to be left", func() bool {
		out, _ := d.cli("reject", "list", "out")
		return strings.Contains(out, "Nothing is among the rejects")
	})
}

// resendAtConsole sends the rejects of the destination out again, as a person does.
func resendAtConsole(t *testing.T, d *desk) {
	t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	tab := d.browse(ctx)
	require.NoError(t, tab.Open(d.url+"/catalogue/destination/out/rejects"))
	require.NoError(t, tab.See("line 7"))
	require.NoError(t, tab.Click("Send again…"))
	require.NoError(t, tab.See("tries ten first"))
	_, err := tab.Eval(`[...document.querySelectorAll('[role=dialog] button')].at(-1).click(); ''`)
	require.NoError(t, err)
	require.NoError(t, tab.See("11 records sent again"))
	require.NoError(t, tab.See("Nothing"))
}

// newServerBefore is a receiver behind one that may refuse a delivery by its body.
func newServerBefore(t *testing.T, next *receiver, answer func(body string) int) string {
	t.Helper()
	s := newReceiver(t, nil)
	s.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		text := readAllBody(q)
		if status := answer(text); status != http.StatusOK {
			w.WriteHeader(status)
			return
		}
		q2, err := http.NewRequest(http.MethodPost, next.URL, strings.NewReader(text))
		if err != nil {
			return
		}
		resp, err := http.DefaultClient.Do(q2)
		if err == nil {
			resp.Body.Close()
		}
	})
	return s.URL
}

// TestNewestSecret: a receiver that wants the new key before the fleet has it gets it: the agent asks the service for
// the newest version after a 401, and only for what its config uses.
func TestNewestSecret(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	recv := newReceiver(t, nil)
	var want atomic.Value
	want.Store("old key")
	server := newReceiver(t, nil)
	server.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.Header.Get("Authorization") != "Bearer "+want.Load().(string) {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		recv.serve(w, q)
	})
	set := func(value string) {
		cmd := exec.Command(filepath.Join(bin, "synaxis"), "secret", "set", "archive_key")
		cmd.Env = append(os.Environ(), "SYNAXIS_URL="+d.url, "SYNAXIS_TOKEN="+d.token, "SYNAXIS_PIN="+d.pin)
		cmd.Stdin = strings.NewReader(value)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	set("old key")
	d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(dir+"/*.log", server.URL) + "auth: {bearer: \"${secret.archive_key}\"}\n")
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	file := filepath.Join(dir, "a.log")
	appendLines(t, file, 0, 10)
	d.balanced("out", 10)
	want.Store("new key")
	set("new key")
	appendLines(t, file, 10, 20)
	d.balanced("out", 20)
	_, all := recv.count()
	assert.Equal(t, 20, all)
}

// TestVerificationOff: a destination whose certificate is not verified is a finding, a state, and in the audit.
func TestVerificationOff(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	recv := newReceiver(t, nil)
	s := httptest.NewTLSServer(http.HandlerFunc(recv.serve))
	t.Cleanup(s.Close)
	d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	text := linesCatalogue(dir+"/*.log", s.URL) + "tls: {verify: false}\n"
	draft := get[contract.Draft](t, first(d.api.LoadDraft(context.Background(), contract.NewDraft{Whole: true,
		Files: []contract.File{{Path: "all.yaml", Text: text}}})), nil)
	assert.True(t, slices.ContainsFunc(draft.Findings, func(f contract.Finding) bool {
		return f.Code == "verification-off"
	}))
	get[contract.Published](t, first(d.api.PublishDraft(context.Background(), draft.Id, contract.Publication{})), nil)
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	appendLines(t, filepath.Join(dir, "a.log"), 0, 10)
	d.balanced("out", 10)
	eventually(t, 30*time.Second, "the state", func() bool {
		v := d.host("h").Sources[0].Verdict
		return v.State == contract.Degraded && v.Code != nil && *v.Code == "not-verified"
	})
	limit := 100
	list := get[contract.AuditList](t, first(d.api.ListAudit(context.Background(), &contract.ListAuditParams{
		Limit: &limit})), nil)
	assert.True(t, slices.ContainsFunc(list.Items, func(e contract.AuditEntry) bool {
		return e.Action == "verification off" && e.Object == "destination out"
	}))
}
