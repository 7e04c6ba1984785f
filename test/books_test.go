package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestParallelEdits: of many edits of one host at the same time each is kept, and of those that were made from the
// same reading one.
func TestParallelEdits(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	newPoller(t, d, d.joinToken(1, nil)).join(description("synaxis-agent", "one"))
	const edits = 12
	var wg sync.WaitGroup
	for i := range edits {
		wg.Go(func() {
			set := map[string]string{fmt.Sprintf("k%d", i): "v"}
			resp, err := d.api.EditHostLabels(ctx, "one", nil, contract.MapEdit{Set: &set})
			if assert.NoError(t, err) {
				resp.Body.Close()
				assert.Equal(t, http.StatusOK, resp.StatusCode)
			}
		})
	}
	wg.Wait()
	assert.Len(t, d.host("one").Labels, edits)

	resp, err := d.api.GetHost(ctx, "one")
	require.NoError(t, err)
	tag := resp.Header.Get("ETag")
	resp.Body.Close()
	var good, stale atomic.Int64
	for i := range edits {
		wg.Go(func() {
			set := map[string]string{"winner": fmt.Sprint(i)}
			resp, err := d.api.EditHostLabels(
				ctx,
				"one",
				&contract.EditHostLabelsParams{IfMatch: &tag},
				contract.MapEdit{Set: &set},
			)
			if !assert.NoError(t, err) {
				return
			}
			resp.Body.Close()
			switch resp.StatusCode {
			case http.StatusOK:
				good.Add(1)
			case http.StatusPreconditionFailed:
				stale.Add(1)
			}
		})
	}
	wg.Wait()
	assert.Equal(t, []int64{1, edits - 1}, []int64{good.Load(), stale.Load()})
	d.kill()
	d.run()
	assert.Len(t, d.host("one").Labels, edits+1, "what memory had is what was written")
}

// TestTokenForOne: a join token for one host lets in one of many that ask at the same time.
func TestTokenForOne(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	token := d.joinToken(1, nil)
	var in atomic.Int64
	var wg sync.WaitGroup
	for i := range 10 {
		p := newPoller(t, d, token)
		wg.Go(func() {
			if a, status := p.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", fmt.Sprintf(
				"h%d", i))}); status == http.StatusOK &&
				a.GetConnectionSettings() != nil {
				in.Add(1)
			}
		})
	}
	wg.Wait()
	assert.Equal(t, int64(1), in.Load())
}

// TestMissingData: a data folder from which the catalogue, or the key of sealed secrets, is gone is not used as that
// of a new service.
func TestMissingData(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	out, code := d.cliIn("s3cret\n", "secret", "set", "token")
	require.Zero(t, code, out)
	d.stop()
	run := func() string {
		cmd := exec.Command(filepath.Join(bin, "synaxisd"), "--data", d.dir, "--listen", "127.0.0.1:0")
		text, err := cmd.CombinedOutput()
		assert.Error(t, err, "it must not start")
		return string(text)
	}
	away := func(names ...string) (back func()) {
		for _, n := range names {
			require.NoError(t, os.Rename(filepath.Join(d.dir, n), filepath.Join(d.dir, n+".away")))
		}
		return func() {
			for _, n := range names {
				require.NoError(t, os.Rename(filepath.Join(d.dir, n+".away"), filepath.Join(d.dir, n)))
			}
		}
	}
	back := away("catalogue.db")
	assert.Contains(t, run(), "catalogue.db is gone")
	require.NoError(t, os.WriteFile(filepath.Join(d.dir, "catalogue.db"), nil, 0o600))
	said := run()
	assert.Contains(t, said, "catalogue.db is empty")
	assert.Contains(t, said, "from a backup")
	require.NoError(t, os.Remove(filepath.Join(d.dir, "catalogue.db")))
	back()
	back = away("secrets.key")
	assert.Contains(t, run(), "secrets.key is gone")
	assert.NoFileExists(t, filepath.Join(d.dir, "secrets.key"), "no other key takes its place")
	back()

	// Another program that locks the database is named as what it is.
	lock := exec.Command(
		"python3",
		"-c",
		"import sqlite3,sys,time; c=sqlite3.connect(sys.argv[1]); c.execute('pragma locking_mode=exclusive'); "+
			"c.execute('begin exclusive'); print('locked', flush=True); time.sleep(60)",
		filepath.Join(d.dir, "catalogue.db"),
	)
	if pipe, err := lock.StdoutPipe(); err == nil && lock.Start() == nil {
		_, _ = pipe.Read(make([]byte, 8))
		assert.Contains(t, run(), "locked")
		_ = lock.Process.Kill()
		_ = lock.Wait()
	}
	d.run()
}

// cliIn is cli with something on standard input.
func (d *desk) cliIn(in string, args ...string) (out string, code int) {
	d.t.Helper()
	cmd := exec.Command(filepath.Join(bin, "synaxis"), args...)
	cmd.Env = append(
		os.Environ(),
		"SYNAXIS_URL="+d.url,
		"SYNAXIS_TOKEN="+d.token,
		"SYNAXIS_PIN="+d.pin,
		"XDG_CONFIG_HOME="+d.dir,
	)
	cmd.Stdin = strings.NewReader(in)
	text, _ := cmd.CombinedOutput()
	return string(text), cmd.ProcessState.ExitCode()
}

// small mounts a small file system of its own; the test is skipped where that is not allowed.
func small(t *testing.T, size string) string {
	dir := t.TempDir()
	if os.Getuid() != 0 {
		t.Skip("mounting a small disk needs root")
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size="+size); err != nil {
		t.Skipf("a small disk cannot be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// fill leaves no room on a disk; what it answers makes room again.
func fill(t *testing.T, dir string) (empty func()) {
	path := filepath.Join(dir, "ballast")
	f, err := os.Create(path)
	require.NoError(t, err)
	block := make([]byte, 4096)
	for {
		if _, err := f.Write(block); err != nil {
			break
		}
	}
	require.NoError(t, f.Close())
	return func() { require.NoError(t, os.Remove(path)) }
}

// TestFullDisks: a full disk of an agent's state is a state of its host, and a config that cannot be kept is refused;
// a full data folder of the service is what readyz, the status and the command line say. Both end when there is room.
func TestFullDisks(t *testing.T) {
	t.Parallel()
	data, state, logs := small(t, "24m"), small(t, "3m"), t.TempDir()
	d := &desk{t: t, dir: data}
	d.url = "http://" + freePort(t)
	d.run()
	ctx := context.Background()
	r := newReceiver(t, nil)
	appendLines(t, filepath.Join(logs, "a.log"), 0, 10)
	d.agent("h", state, d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(logs+"/*.log", r.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	eventually(t, 15*time.Second, "the lines", func() bool { n, _ := r.count(); return n == 10 })

	room := fill(t, state)
	appendLines(t, filepath.Join(logs, "a.log"), 10, 4000) // the journal grows into what is left of its last page
	eventually(t, 30*time.Second, "the state", func() bool {
		for i := range 50 {
			appendLines(t, filepath.Join(logs, "a.log"), 4000+i, 4001+i)
		}
		v := d.host("h").Verdict
		return v.Code != nil && *v.Code == "state-not-writable"
	})
	assert.NotEmpty(t, d.host("h").Verdict.Todo)
	d.publish(
		linesCatalogue(
			logs+"/*.log",
			r.URL,
		) + strings.Repeat(
			"# a long comment, so that the config needs room of its own\n",
			1,
		) + "---\nsource: more\nhosts: all\nread: {files: [/nowhere/*]}\nformat: raw\nsend: [{to: out}]\n",
	)
	roll := d.rollOut()
	assert.Equal(t, contract.RolloutStateStopped, roll.State)
	assert.Contains(t, *d.host("h").ConfigReason, "cannot be kept")
	room()
	eventually(t, 20*time.Second, "the state to end", func() bool {
		v := d.host("h").Verdict
		return v.Code == nil || *v.Code != "state-not-writable"
	})
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)

	room = fill(t, data)
	eventually(t, 40*time.Second, "the service to say so", func() bool {
		resp, err := http.Get(d.url + "/readyz")
		require.NoError(t, err)
		defer resp.Body.Close()
		return resp.StatusCode == http.StatusServiceUnavailable
	})
	s := get[contract.Status](t, first(d.api.GetStatus(ctx)), nil)
	if assert.NotNil(t, s.Trouble) {
		assert.Contains(t, s.Trouble.Reason, "no room")
	}
	out, _ := d.cli("status")
	assert.Contains(t, out, "cannot keep its records")
	room()
	eventually(t, 40*time.Second, "the service to be well", func() bool {
		return get[contract.Status](t, first(d.api.GetStatus(ctx)), nil).Trouble == nil
	})
	_, all := r.count()
	assert.GreaterOrEqual(t, all, 4000)
}

// TestClosedFolder: a log folder that closes under a running agent is a state with its reason, and what is open is
// read on.
func TestClosedFolder(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("running the agent as somebody else needs root")
	}
	d := startDesk(t)
	r := newReceiver(t, nil)
	base, err := os.MkdirTemp("/tmp", "closed")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(base) })
	require.NoError(t, os.Chmod(base, 0o755))
	logs, state, program := filepath.Join(
		base,
		"logs",
	), filepath.Join(
		base,
		"state",
	), filepath.Join(
		base,
		"synaxis-agent",
	)
	for _, dir := range []string{logs, state} {
		require.NoError(t, os.Mkdir(dir, 0o755))
	}
	const nobody = 65534
	require.NoError(t, os.Chown(state, nobody, nobody))
	text, err := os.ReadFile(filepath.Join(bin, "synaxis-agent"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(program, text, 0o755))
	appendLines(t, filepath.Join(logs, "a.log"), 0, 5)
	agent := exec.Command(program, "--service", d.url, "--state", state, "--name", "h", "--report", "200ms")
	agent.Env = append(os.Environ(), joinsBy(d.joinToken(1, nil))...)
	agent.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
	require.NoError(t, agent.Start())
	t.Cleanup(func() { _ = agent.Process.Kill(); _ = agent.Wait() })
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(logs+"/*.log", r.URL))
	d.rollOut()
	eventually(t, 15*time.Second, "the lines", func() bool { n, _ := r.count(); return n == 5 })
	require.NoError(t, os.Chmod(logs, 0o700))
	eventually(t, 20*time.Second, "the source to say so", func() bool {
		for _, s := range d.host("h").Sources {
			if s.Verdict.Code != nil && *s.Verdict.Code == "not-readable" {
				return strings.Contains(*s.Verdict.Reason, "cannot be read")
			}
		}
		return false
	})
	appendLines(t, filepath.Join(logs, "a.log"), 5, 9)
	eventually(t, 15*time.Second, "what is open to be read on", func() bool { n, _ := r.count(); return n == 9 })
	require.NoError(t, os.Chmod(logs, 0o755))
	eventually(
		t,
		20*time.Second,
		"the state to end",
		func() bool { return d.host("h").Sources[0].Verdict.State == contract.Healthy },
	)
}

// TestHealthLooksAtTheLastMinutes: what was unreadable long ago is history; a format that breaks after many good lines
// is found.
func TestHealthLooksAtTheLastMinutes(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	logs := t.TempDir()
	r := newReceiver(t, nil)
	write := func(name, line string, n int) {
		f, err := os.OpenFile(filepath.Join(logs, name), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		_, err = f.WriteString(strings.Repeat(line+"\n", n))
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	write("a.log", `{"lane": 4}`, 20_000)
	d.agent("h", t.TempDir(), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(strings.Replace(linesCatalogue(logs+"/*.log", r.URL), "format: raw", "format: json", 1))
	d.rollOut()
	source := func() contract.HostSource { return d.host("h").Sources[0] }
	eventually(
		t,
		30*time.Second,
		"the good lines",
		func() bool { return source().Numbers.Read == 20_000 && source().Verdict.State == contract.Healthy },
	)
	write("a.log", "no json", 100)
	eventually(t, 40*time.Second, "the broken format to be found", func() bool {
		write("a.log", "no json", 5)
		v := source().Verdict
		return v.Code != nil && *v.Code == "reads-too-few"
	})
	d.kill()
	d.run() // windows begin anew with the service
	eventually(t, 30*time.Second, "the agent to be back", func() bool { return d.connected("h") })
	eventually(
		t,
		15*time.Second,
		"it to be history",
		func() bool { return source().Verdict.State == contract.Healthy },
	)
	// what the killed service had not written yet comes with the next report
	eventually(t, 15*time.Second, "the sums to stay", func() bool { return source().Numbers.Unparsed >= 100 })
}

// TestLoadTells: a load says what it adds, changes and removes, makes no draft when that is nothing, and ends with 3
// where there are errors.
func TestLoadTells(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "all.yaml")
	text := linesCatalogue("/srv/*.log", "https://archive.example/in")
	put := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o644)) }
	put(text)
	out, code := d.cli("draft", "load", dir)
	require.Zero(t, code, out)
	assert.Contains(t, out, "adds")
	assert.Contains(t, out, "source lines")
	out, code = d.cli("draft", "publish", "1")
	require.Zero(t, code, out)
	out, code = d.cli("draft", "load", dir)
	require.Zero(t, code)
	assert.Contains(t, out, "no draft was made")
	out, code = d.cli("draft", "load", dir, "-o", "json")
	require.Zero(t, code)
	var none contract.Draft
	require.NoError(t, json.Unmarshal([]byte(out), &none))
	assert.Equal(t, []any{0, "unchanged"}, []any{none.Id, none.State})
	assert.Empty(t, get[contract.DraftList](t, first(d.api.ListDrafts(context.Background())), nil).Items)
	put(strings.Replace(text, "format: raw", "format: rah", 1) + "---\ndestination: other\ndeliver: {discard: {}}\n")
	out, code = d.cli("draft", "load", dir)
	assert.Equal(t, 3, code, out)
	assert.Contains(t, out, "changes source lines")
	assert.Contains(t, out, "adds    destination other")
	assert.NotContains(t, out, "draft publish")
	put("destination: other\ndeliver: {discard: {}}\n")
	out, _ = d.cli("draft", "load", dir)
	assert.Contains(t, out, "removes source lines, destination out")
}

// TestManyHostsInOrder: the service orders and pages, so that the worst of many hosts comes first, and every page goes
// on where the last one ended.
func TestManyHostsInOrder(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	var csv strings.Builder
	csv.WriteString("host,label.site\n")
	const hosts = 3000
	for i := range hosts {
		fmt.Fprintf(&csv, "host-%04d,s%d\n", i, i%7)
	}
	get[contract.ImportResult](
		t,
		first(d.api.ImportInventory(ctx, contract.InventoryImport{File: "h.csv", Text: csv.String()})),
		nil,
	)
	newPoller(t, d, d.joinToken(1, nil)).join(description("synaxis-agent", "zz-away")) // joins, and is never connected
	seen := map[string]bool{}
	by, limit, reverse := contract.ListHostsParamsSortState, 250, false
	for _, reverse = range []bool{false, true} {
		clear(seen)
		var after *string
		for {
			l := get[contract.HostList](
				t,
				first(
					d.api.ListHosts(
						ctx,
						&contract.ListHostsParams{Sort: &by, Reverse: &reverse, Limit: &limit, After: after},
					),
				),
				nil,
			)
			assert.Equal(t, hosts+1, l.Total)
			for _, h := range l.Items {
				if len(seen) == 0 && !reverse {
					assert.Equal(t, "zz-away", h.Name, "what is worst comes first")
				}
				assert.False(t, seen[h.Name], h.Name)
				seen[h.Name] = true
			}
			if after = l.Next; after == nil {
				break
			}
		}
		assert.Len(t, seen, hosts+1)
	}
	out, code := d.cli("host", "list", "-o", "json")
	require.Zero(t, code)
	var all contract.HostList
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	assert.Len(t, all.Items, hosts+1, "a script gets all of them")
	out, _ = d.cli("host", "list", "--hosts", "site=s77")
	assert.Contains(t, out, "no host has site=s77")
	out, _ = d.cli("audit", "list", "--who", "ADM")
	assert.Contains(t, out, "host import")
}

// TestSmallWords: after going back the status does not wait for ever; a certificate that is not trusted names the pin;
// the line for who sets a secret has the address and the pin; a secret tells where it runs.
func TestSmallWords(t *testing.T) {
	t.Parallel()
	d := startDesk(t, "--tls-auto")
	ctx := context.Background()
	dir := t.TempDir()
	d.agent("h", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	out, code := d.cliIn("k3y", "secret", "set", "key")
	require.Zero(t, code, out)
	mask := "---\nmask: lane\nfind: 'line'\nfill: {hash: '${secret.key}'}\n"
	text := strings.Replace(
		linesCatalogue(dir+"/*.log", "https://127.0.0.1:9/in"),
		"format: raw",
		"format: raw\nsteps: [{mask: [lane]}]",
		1,
	) + mask
	d.publish(text)
	d.rollOut()
	out, code = d.cli("secret", "set", "key", "--dry-run")
	require.Zero(t, code, out)
	assert.Contains(t, out, "1 host would be pending for it, and get version 2 with the next rollout: mask lane")
	out, code = d.cli("secret", "set", "other", "--dry-run")
	require.Zero(t, code, out)
	assert.Contains(t, out, "No host needs other: nothing would change")
	out, _ = d.cli("secret", "show", "key")
	assert.Contains(t, out, "version 1 on 1 host")
	d.publish(text + "---\ndestination: other\ndeliver: {discard: {}}\n")
	out, _ = d.cli("status")
	assert.Contains(t, out, "not rolled out yet")
	d.rollOut()
	back := 1
	get[contract.Rollout](t, first(d.api.StartRollout(ctx, contract.NewRollout{Revision: &back, Plan: &oneWave})), nil)
	eventually(t, 20*time.Second, "revision 1 to be in force again", func() bool {
		return get[contract.Status](t, first(d.api.GetStatus(ctx)), nil).InForce == 1
	})
	out, _ = d.cli("status")
	assert.NotContains(t, out, "not rolled out yet")
	assert.Contains(t, out, "was rolled out, and revision 1 again after it")

	out, code = d.cli("secret", "grant", "key", "--to", "Ines, archive")
	require.Zero(t, code, out)
	assert.Contains(t, out, "SYNAXIS_URL="+d.url)
	assert.Contains(t, out, "SYNAXIS_PIN="+d.pin)
	out, _ = d.cli("audit", "list", "--who", "ines")
	assert.NotContains(t, out, "key", "she has done nothing yet")

	cmd := exec.Command(filepath.Join(bin, "synaxis"), "status")
	cmd.Env = append(os.Environ(), "SYNAXIS_URL="+d.url, "SYNAXIS_TOKEN="+d.token, "XDG_CONFIG_HOME="+dir)
	said, err := cmd.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(said), "use --pin")
	assert.Equal(t, 5, cmd.ProcessState.ExitCode())

	out, code = d.cli("host", "lines", "h", "/etc/hostname")
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "closed to the desk")
}

// TestFewFiles: an agent that may have 256 files open reads all of 400, and says that it does so in turns.
func TestFewFiles(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	r := newReceiver(t, nil)
	dir := t.TempDir()
	for i := range 400 {
		appendLines(t, filepath.Join(dir, fmt.Sprintf("%03d.log", i)), i*10, i*10+3)
	}
	agent := exec.Command(
		"sh",
		"-c",
		`ulimit -n 256; exec "$0" "$@"`,
		filepath.Join(bin, "synaxis-agent"),
		"--service",
		d.url,
		"--state",
		filepath.Join(dir, "state"),
		"--name",
		"h",
		"--report",
		"200ms",
	)
	agent.Env = append(os.Environ(), joinsBy(d.joinToken(1, nil))...)
	require.NoError(t, agent.Start())
	t.Cleanup(func() { _ = agent.Process.Kill(); _ = agent.Wait() })
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(dir+"/*.log", r.URL))
	d.rollOut()
	eventually(t, 60*time.Second, "all files", func() bool { n, _ := r.count(); return n == 1200 })
	for i := range 400 {
		appendLines(t, filepath.Join(dir, fmt.Sprintf("%03d.log", i)), 5000+i, 5001+i)
	}
	eventually(t, 60*time.Second, "all files again", func() bool { n, _ := r.count(); return n == 1600 })
	_, all := r.count()
	assert.Equal(t, 1600, all, "nothing twice")
	v := d.host("h").Sources[0].Verdict
	if assert.NotNil(t, v.Code) {
		assert.Equal(t, "too-few-descriptors", *v.Code)
	}
}
