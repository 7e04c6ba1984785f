// Package test runs the built programs: service, agents, command line and console, on loopback, as their users do.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
	"synaxis/test/browser"
)

// bin is the folder of the programs under test.
var bin string

func TestMain(m *testing.M) {
	code, err := func() (int, error) {
		if bin = os.Getenv("SYNAXIS_BIN"); bin != "" {
			return m.Run(), nil
		}
		dir, err := os.MkdirTemp("", "synaxis-bin-")
		if err != nil {
			return 1, err
		}
		defer os.RemoveAll(dir)
		bin = dir
		build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", dir+"/", "synaxis/cmd/...")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			return 1, fmt.Errorf("build: %w\n%s", err, out)
		}
		return m.Run(), nil
	}()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	os.Exit(code)
}

// program is a running program.
type program struct {
	t    *testing.T
	cmd  *exec.Cmd
	log  *lockedBuffer
	done chan struct{}
}

// lockedBuffer takes the output of a program while a test reads it.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func start(t *testing.T, name string, args ...string) *program {
	t.Helper()
	return startWith(t, nil, name, args...)
}

// startWith is start with more variables in the environment.
func startWith(t *testing.T, env []string, name string, args ...string) *program {
	t.Helper()
	p := &program{
		t:    t,
		cmd:  exec.Command(filepath.Join(bin, name), args...),
		log:  &lockedBuffer{},
		done: make(chan struct{}),
	}
	p.cmd.Env = append(os.Environ(), env...)
	p.cmd.Stdout, p.cmd.Stderr = p.log, p.log
	require.NoError(t, p.cmd.Start())
	go func() {
		_ = p.cmd.Wait()
		close(p.done)
	}()
	t.Cleanup(func() {
		p.kill()
		if t.Failed() {
			text := p.log.String()
			t.Logf("%s %v said:\n%s", name, args, text[max(0, len(text)-3000):])
		}
	})
	return p
}

// kill ends the program at once, as a power cut does.
func (p *program) kill() {
	_ = p.cmd.Process.Kill()
	<-p.done
}

// stop asks the program to end, and it must.
func (p *program) stop() {
	p.t.Helper()
	require.NoError(p.t, p.cmd.Process.Signal(syscall.SIGTERM))
	select {
	case <-p.done:
	case <-time.After(15 * time.Second):
		require.Fail(p.t, "the program does not stop")
	}
}

// eventually waits until something is done, for a minute at least: the bound is against hanging and measures no speed,
// since the machine may be busy.
func eventually(t *testing.T, most time.Duration, what string, done func() bool) {
	t.Helper()
	deadline := time.Now().Add(max(most, time.Minute))
	for !done() {
		if time.Now().After(deadline) {
			require.Fail(t, "waited in vain", "%s for %s", most, what)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// desk is a service with what a client needs.
type desk struct {
	*program
	t     *testing.T
	dir   string
	url   string
	token string
	pin   string
	api   *contract.Client
	args  []string
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

func startDesk(t *testing.T, args ...string) *desk {
	t.Helper()
	d := &desk{t: t, dir: t.TempDir(), args: args}
	d.url = "http://" + freePort(t)
	d.run()
	return d
}

// run starts the service, also again after it was killed.
func (d *desk) run() {
	d.t.Helper()
	d.program = start(
		d.t,
		"synaxisd",
		append([]string{"--data", d.dir, "--listen", strings.SplitN(d.url, "://", 2)[1]}, d.args...)...)
	eventually(
		d.t,
		20*time.Second,
		"the service to listen",
		func() bool {
			said := d.log.String() // with TLS of its own it says the pin too
			return strings.Contains(said, "msg=listening") &&
				(!slices.Contains(d.args, "--tls-auto") || strings.Contains(said, "pin="))
		},
	)
	if d.token != "" {
		return
	}
	text, err := os.ReadFile(filepath.Join(d.dir, "admin.token"))
	require.NoError(d.t, err)
	d.token = strings.TrimSpace(string(text))
	for line := range strings.Lines(d.log.String()) {
		if _, pin, ok := strings.Cut(line, "pin="); ok {
			d.pin = strings.TrimSpace(pin)
			d.url = strings.Replace(d.url, "http://", "https://", 1)
		}
	}
	transport := &http.Transport{TLSClientConfig: wire.PinnedTLS(d.pin, "127.0.0.1")}
	d.api, err = contract.NewClient(
		d.url+"/api/v1",
		contract.WithHTTPClient(&http.Client{Transport: transport}),
		contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+d.token)
			return nil
		}),
	)
	require.NoError(d.t, err)
}

// get reads an answer of the API that must be good.
func get[T any](t *testing.T, resp *http.Response, err error) T {
	t.Helper()
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	require.Equal(t, 2, resp.StatusCode/100, "%s %s: %s %s", resp.Request.Method, resp.Request.URL, resp.Status, text)
	var v T
	if len(text) > 0 {
		require.NoError(t, json.Unmarshal(text, &v))
	}
	return v
}

// joinToken makes a join token over the API.
func (d *desk) joinToken(uses int, labels map[string]string) string {
	d.t.Helper()
	resp, err := d.api.CreateJoinToken(context.Background(), contract.NewJoinToken{Uses: &uses, Labels: &labels})
	return get[contract.CreatedJoinToken](d.t, resp, err).Token
}

// browse opens the console in a tab, signed in by a link.
func (d *desk) browse(ctx context.Context) browser.Tab {
	d.t.Helper()
	tabContext, end, err := browser.New(ctx, 1280, 800)
	require.NoError(d.t, err)
	d.t.Cleanup(end)
	tab := browser.Tab{Context: tabContext}
	require.NoError(d.t, tab.Open(get[contract.SignInLink](d.t, first(d.api.CreateSignInLink(ctx)), nil).Url))
	require.NoError(d.t, tab.See("What is wrong"))
	return tab
}

// hostToken makes a join token for one host.
func (d *desk) hostToken(name string) string {
	d.t.Helper()
	resp, err := d.api.CreateJoinToken(context.Background(), contract.NewJoinToken{Host: &name})
	return get[contract.CreatedJoinToken](d.t, resp, err).Token
}

// agent starts an agent that reports often.
func (d *desk) agent(name, state, token string) *program {
	d.t.Helper()
	args := []string{"--service", d.url, "--state", state, "--name", name, "--report", "200ms"}
	if d.pin != "" {
		args = append(args, "--pin", d.pin)
	}
	return startWith(d.t, joinsBy(token), "synaxis-agent", args...)
}

// joinsBy is the environment of an agent that joins by a token.
func joinsBy(token string) []string { return []string{"SYNAXIS_JOIN_TOKEN=" + token} }

func (d *desk) host(name string) contract.Host {
	d.t.Helper()
	resp, err := d.api.GetHost(context.Background(), name)
	return get[contract.Host](d.t, resp, err)
}

func (d *desk) connected(name string) bool {
	resp, err := d.api.GetHost(context.Background(), name)
	if err != nil {
		return false
	}
	defer resp.Body.Close()
	var h contract.Host
	return resp.StatusCode == http.StatusOK && json.NewDecoder(resp.Body).Decode(&h) == nil && h.Connected
}

// load makes a draft of a whole catalogue, and answers its number.
func (d *desk) load(text string) int {
	d.t.Helper()
	return get[contract.Draft](d.t, first(d.api.LoadDraft(context.Background(),
		contract.NewDraft{Whole: true, Files: []contract.File{{Path: "all.yaml", Text: text}}})), nil).Id
}

// publish loads one text as the whole wanted state and publishes it.
func (d *desk) publish(text string) int {
	d.t.Helper()
	resp, err := d.api.PublishDraft(context.Background(), d.load(text), contract.Publication{})
	return get[contract.Published](d.t, resp, err).Revision
}

// oneWave is the plan of rollouts that a test does not watch.
var oneWave = "one-wave"

// rollOut starts a rollout and waits for its end.
func (d *desk) rollOut() contract.Rollout {
	d.t.Helper()
	resp, err := d.api.StartRollout(context.Background(), contract.NewRollout{Plan: &oneWave})
	r := get[contract.Rollout](d.t, resp, err)
	eventually(d.t, 30*time.Second, "the rollout to end", func() bool {
		resp, err := d.api.GetRollout(context.Background(), r.Id)
		r = get[contract.Rollout](d.t, resp, err)
		return r.State != contract.RolloutStateRunning
	})
	return r
}

// cli runs the command line against the desk.
func (d *desk) cli(args ...string) (out string, code int) {
	d.t.Helper()
	cmd := exec.Command(filepath.Join(bin, "synaxis"), args...)
	cmd.Env = append(
		os.Environ(),
		"SYNAXIS_URL="+d.url,
		"SYNAXIS_TOKEN="+d.token,
		"SYNAXIS_PIN="+d.pin,
		"XDG_CONFIG_HOME="+d.dir,
	)
	text, err := cmd.CombinedOutput()
	if err != nil {
		require.IsType(d.t, &exec.ExitError{}, err)
	}
	return string(text), cmd.ProcessState.ExitCode()
}

// receiver takes NDJSON and counts its lines by body.
type receiver struct {
	*httptest.Server
	mu     sync.Mutex
	bodies map[string]int
	ids    map[string]string // of each record's id its body
	clash  []string          // ids that stand for two bodies
	last   map[string]any
	answer func(n int) int // status for request number n, 0 to drop the answer; nil is always 200
	calls  int
	times  []arrival
	lost   int           // records whose acknowledgement was dropped
	keep   *lockedBuffer // takes all that arrives, when it is set
}

// arrival is a delivery that was taken.
type arrival struct {
	at      time.Time
	records int
}

// since tells how many records were taken since a moment.
func (r *receiver) since(t time.Time) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := 0
	for i := len(r.times) - 1; i >= 0 && r.times[i].at.After(t); i-- {
		n += r.times[i].records
	}
	return n
}

func newReceiver(t *testing.T, answer func(n int) int) *receiver {
	r := &receiver{bodies: map[string]int{}, ids: map[string]string{}, answer: answer}
	r.Server = httptest.NewServer(http.HandlerFunc(r.serve))
	t.Cleanup(func() { r.CloseClientConnections(); r.Close() })
	return r
}

func (r *receiver) serve(w http.ResponseWriter, q *http.Request) {
	text, err := io.ReadAll(q.Body)
	if err != nil {
		return
	}
	if r.keep != nil {
		_, _ = r.keep.Write(text)
	}
	r.mu.Lock()
	r.calls++
	status := http.StatusOK
	if r.answer != nil {
		status = r.answer(r.calls)
	}
	if status == http.StatusOK || status == 0 {
		for _, rec := range recordsOf(text) {
			body, _ := rec["body"].(string)
			r.bodies[body]++
			if id, ok := rec["id"].(string); ok {
				if had, twice := r.ids[id]; twice && had != body {
					r.clash = append(r.clash, id)
				}
				r.ids[id] = body
			}
			r.last = rec
		}
		n := bytes.Count(text, []byte{'\n'})
		r.times = append(r.times, arrival{time.Now(), n})
		if status == 0 {
			r.lost += n
		}
	}
	r.mu.Unlock()
	if status == 0 { // taken, but the answer is lost
		conn, _, err := w.(http.Hijacker).Hijack()
		if err == nil {
			conn.Close()
		}
		return
	}
	w.WriteHeader(status)
}

// count tells how many different bodies arrived, and how many in all.
func (r *receiver) count() (distinct, all int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, n := range r.bodies {
		all += n
	}
	return len(r.bodies), all
}

// known tells how many ids arrived, each for one record.
func (r *receiver) known(t *testing.T) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	require.Empty(t, r.clash, "an id stands for one record")
	return len(r.ids)
}

// linesCatalogue is one source of raw lines to one receiver.
func linesCatalogue(pattern, url string) string {
	return fmt.Sprintf(
		"source: lines\nhosts: all\nread: {files: [%q], first-read: start}\nformat: raw\nsend: [{to: "+
			"out}]\n---\ndestination: out\ndeliver: {http: {url: %q}}\nbatch: {records: 100, bytes: 64KiB, wait: "+
			"20ms}\nretry: {first: 20ms, longest: 200ms, give-up: 1h}\n",
		pattern,
		url,
	)
}

func appendLines(t *testing.T, path string, from, to int) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	require.NoError(t, err)
	defer f.Close()
	var b bytes.Buffer
	for i := from; i < to; i++ {
		fmt.Fprintf(&b, "line %d\n", i)
	}
	_, err = f.Write(b.Bytes())
	require.NoError(t, err)
}

func readAll(t *testing.T, resp *http.Response) string {
	t.Helper()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return string(text)
}

func readAllBody(q *http.Request) string {
	text, _ := io.ReadAll(q.Body)
	return string(text)
}

// recordsOf are the records in lines of JSON; the last line may not be whole yet.
func recordsOf(text []byte) (out []map[string]any) {
	for line := range bytes.Lines(text) {
		var r map[string]any
		if json.Unmarshal(line, &r) == nil {
			out = append(out, r)
		}
	}
	return out
}

// recordsIn are the records that a file has by now.
func recordsIn(path string) []map[string]any {
	text, _ := os.ReadFile(path)
	return recordsOf(text)
}
