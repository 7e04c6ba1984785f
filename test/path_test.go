package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestFromFileToReceiver is the whole job from the command line, over TLS with a pin.
func TestFromFileToReceiver(t *testing.T) {
	t.Parallel()
	d := startDesk(t, "--tls-auto")
	require.NotEmpty(t, d.pin)
	dir := t.TempDir()
	recv := newReceiver(t, nil)

	out, code := d.cli("login", d.url, "--token-file", filepath.Join(d.dir, "admin.token"), "--pin", d.pin)
	require.Zero(t, code, out)
	out, code = d.cli("join-token", "create", "--label", "role=gate", "--uses", "2", "-o", "json")
	require.Zero(t, code, out)
	var token contract.CreatedJoinToken
	require.NoError(t, json.Unmarshal([]byte(out), &token))
	assert.Contains(t, token.Agent, "--pin "+d.pin)
	for _, name := range []string{"gate-a", "gate-b"} {
		out, code = d.cli("host", "show", name)
		assert.Equal(t, 1, code, "not there yet: %s", out)
		startWith(
			t,
			joinsBy(token.Token),
			"synaxis-agent",
			"--service",
			d.url,
			"--pin",
			d.pin,
			"--state",
			filepath.Join(dir, name),
			"--name",
			name,
			"--report",
			"200ms",
		)
		eventually(t, 15*time.Second, "the host to join", func() bool {
			out, code := d.cli("host", "show", name, "-o", "json")
			return code == 0 && strings.Contains(out, `"connected": true`)
		})
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "log", name), 0o755))
		out, code = d.cli("host", "set", name, "root="+filepath.Join(dir, "log", name))
		require.Zero(t, code, out)
	}
	file := filepath.Join(dir, "cat.yaml")
	text := fmt.Sprintf(
		"source: gates\nhosts: {role: gate}\nread: {files: [\"${setting.root}/*.log\"], first-read: start}\nformat: "+
			"gate\nsend: [{to: out}]\n---\nformat: gate\ntemplate: '{n:int} {what:token}'\nsamples: [{line: '4 x', "+
			"gives: {n: 4}}]\n---\ndestination: out\ndeliver: {http: {url: %q}}\nbatch: {wait: 50ms}\n",
		recv.URL,
	)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, "to: out", "to: outt", 1)), 0o644))
	out, code = d.cli("check", file)
	assert.Equal(t, 3, code)
	assert.Contains(t, out, `cat.yaml:5:13: there is no destination "outt"`)
	assert.Contains(t, out, "Not made, since they need the hosts")
	out, code = d.cli("draft", "load", file)
	assert.Equal(t, 3, code, "the draft is kept, and says that it cannot be published so")
	assert.Contains(t, out, "did you mean \"out\"?")
	out, code = d.cli("draft", "check", "1")
	assert.Equal(t, 3, code, out)
	out, code = d.cli("draft", "publish", "1")
	assert.Equal(t, 3, code, out)
	_, code = d.cli("draft", "discard", "1")
	assert.Zero(t, code)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	out, code = d.cli("draft", "load", file, "-o", "json")
	require.Zero(t, code, out)
	var draft contract.Draft
	require.NoError(t, json.Unmarshal([]byte(out), &draft))
	assert.Empty(t, draft.Findings)
	out, code = d.cli("draft", "diff", strconv.Itoa(draft.Id))
	require.Zero(t, code)
	assert.Contains(t, out, "2 hosts would change, 0 stay as they are")
	assert.Contains(t, out, "+   - source: gates  # revision 1")
	for _, name := range []string{"gate-a", "gate-b"} {
		require.NoError(
			t,
			os.WriteFile(filepath.Join(dir, "log", name, "x.log"), []byte("1 a\n2 b\nnot a gate\n"), 0o644),
		)
	}
	out, code = d.cli("draft", "publish", strconv.Itoa(draft.Id), "-m", "gates", "-o", "json")
	require.Zero(t, code, out)
	out, code = d.cli("rollout", "start", "--watch")
	require.Zero(t, code, out)
	assert.Contains(t, out, "2 confirmed")
	eventually(t, 15*time.Second, "the lines", func() bool { _, all := recv.count(); return all == 6 })
	eventually(t, 10*time.Second, "the numbers", func() bool {
		out, _ := d.cli("host", "show", "gate-a", "-o", "json")
		var h contract.Host
		return json.Unmarshal([]byte(out), &h) == nil && len(h.Sources) == 1 &&
			h.Sources[0].Numbers.Acknowledged == 3 &&
			h.Sources[0].Numbers.Unparsed == 1
	})
	out, code = d.cli("status")
	require.Zero(t, code)
	assert.Contains(t, out, "in force   revision 1")
	assert.Contains(t, out, "2 healthy")

	// What each noun and verb prints is read here once; that it is right is held by the tests of the API.
	for _, args := range [][]string{{"join-token", "list"}, {"host", "list"}, {"host", "config", "gate-a"}, {"host",
		"config", "gate-a", "--only", "effective"}, {"draft", "list"}, {"draft", "show", "2"},
		{"catalogue", "list"}, {"catalogue", "show", "source", "gates"}, {"revision", "list"}, {"revision", "show",
			"1"}, {"rollout", "list"}, {"rollout", "show", "1"}, {"rollout", "watch", "1"}, {"audit", "list"}, {
			"secret", "list"}, {"newcomer", "list"}, {"reference"}, {"reference", "mask"}, {"reference",
			"zone-missing"}} {
		table, code := d.cli(args...)
		require.Zero(t, code, "%v: %s", args, table)
		for line := range strings.Lines(table) {
			if args[0] != "host" && args[0] != "draft" && args[0] != "audit" {
				assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, " \n"))), 100, "%v: %s", args, line)
			}
		}
		for _, form := range []string{"json", "yaml"} {
			out, code := d.cli(append(args, "-o", form)...)
			require.Zero(t, code, out)
			require.NotEqual(t, table, out)
			if form == "json" {
				require.True(t, json.Valid([]byte(out)), "%v: %s", args, out)
			}
		}
	}
	out, code = d.cli("host", "explain", "gate-a", "gates")
	require.Zero(t, code)
	assert.Contains(t, out, "gate-a gets gates by revision 1:\n  ✓ label role is gate, as it asks\n")
	for _, form := range []string{"csv", "yaml", "json"} {
		hosts := filepath.Join(dir, "hosts."+form)
		out, code = d.cli("host", "export", hosts)
		require.Zero(t, code, out)
		out, code = d.cli("host", "import", hosts)
		require.Zero(t, code, out)
		assert.Contains(t, out, "0 added, 0 changed, 2 the same")
	}
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, "more.csv"), []byte("host,label.role\ngate-a,kiosk\ngate-z,gate\n"), 0o644),
	)
	out, code = d.cli("host", "import", filepath.Join(dir, "more.csv"), "--dry-run")
	require.Zero(t, code)
	assert.Contains(t, out, "changed  gate-a  role=kiosk (was gate)")
	assert.Contains(t, out, "Dry run: 1 would be added, 1 changed, 0 the same")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "more.csv"), []byte("host,colour\na,b\n"), 0o644))
	out, code = d.cli("host", "import", filepath.Join(dir, "more.csv"))
	assert.Equal(t, 3, code)
	assert.Contains(t, out, `column "colour" is not known`)
	export := filepath.Join(dir, "export")
	_, code = d.cli("catalogue", "export", export)
	require.Zero(t, code)
	back, err := os.ReadFile(filepath.Join(export, "cat.yaml"))
	require.NoError(t, err)
	assert.Equal(t, text, string(back), "what was loaded comes back byte for byte")
	out, code = d.cli("join-token", "revoke", token.Id)
	require.Zero(t, code, out)
	out, _ = d.cli("__complete", "host", "show", "")
	assert.Contains(t, out, "gate-a\ngate-b\n", "completion knows the names")
	d.stop()
	assert.Equal(t, 0, d.cmd.ProcessState.ExitCode())
	out, code = d.cli("status")
	assert.Equal(t, 5, code, out)
}

func TestExitCodes(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	for code, list := range map[int][][]string{
		1: {{"host", "show", "nobody"}, {"draft", "show", "7"}, {"rollout", "start"}},
		2: {{"host", "shout"}, {"status", "-o", "xml"}, {"draft", "publish", "x"}, {"host", "label", "a", "b"}, {
			"host", "list", "--state", "blue"}},
	} {
		for _, args := range list {
			out, got := d.cli(args...)
			assert.Equal(t, code, got, "%v: %s", args, out)
			assert.Contains(t, out, "synaxis: ")
		}
	}
	d.token = "wrong"
	out, code := d.cli("status")
	assert.Equal(t, 5, code)
	assert.Contains(t, out, "the API token is not known here")
}

// TestLabelsWaitForTheNextRollout: a changed setting is shown as pending and goes out with the next rollout; a host
// that was away catches up.
func TestPendingAndCatchUp(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	recv := newReceiver(t, nil)
	token := d.joinToken(0, map[string]string{"role": "gate"})
	a, b := d.agent("a", filepath.Join(dir, "a"), token), d.agent("b", filepath.Join(dir, "b"), token)
	eventually(t, 15*time.Second, "both to join", func() bool { return d.connected("a") && d.connected("b") })
	set := map[string]string{"root": filepath.Join(dir, "one")}
	for _, name := range []string{"a", "b"} {
		resp, err := d.api.EditHostSettings(context.Background(), name, nil, contract.MapEdit{Set: &set})
		get[contract.Host](t, resp, err)
	}
	d.publish(linesCatalogue("${setting.root}/*.log", recv.URL))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	assert.Nil(t, d.host("a").Pending)

	set["root"] = filepath.Join(dir, "two")
	resp, err := d.api.EditHostSettings(context.Background(), "a", nil, contract.MapEdit{Set: &set})
	get[contract.Host](t, resp, err)
	eventually(
		t,
		5*time.Second,
		"pending: settings",
		func() bool { p := d.host("a").Pending; return p != nil && *p == "settings" },
	)
	assert.Nil(t, d.host("b").Pending)
	resp, err = d.api.GetHostConfig(context.Background(), "a")
	cfg := get[contract.HostConfig](t, resp, err)
	assert.True(t, cfg.Same, "what runs is still what was assigned")
	assert.NotEmpty(t, cfg.PendingDiff)
	resp, err = d.api.GetStatus(context.Background())
	assert.Equal(t, []string{"a"}, get[contract.Status](t, resp, err).PendingInventory)

	b.stop()
	eventually(t, 5*time.Second, "b to be away", func() bool { return !d.connected("b") })
	assert.Equal(t, contract.Offline, d.host("b").Verdict.State)
	r := d.rollOut()
	assert.Equal(t, contract.RolloutStateDone, r.State)
	assert.Equal(t, map[string]int{"confirmed": 1, "deferred": 1}, r.Counts)
	assert.Nil(t, d.host("a").Pending)
	d.agent("b", filepath.Join(dir, "b"), "")
	eventually(t, 15*time.Second, "b to catch up", func() bool {
		resp, err := d.api.GetRollout(context.Background(), r.Id)
		return get[contract.Rollout](t, resp, err).Counts["confirmed"] == 2
	})
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "two"), 0o755))
	appendLines(t, filepath.Join(dir, "two", "x.log"), 0, 10)
	eventually(t, 15*time.Second, "lines from the new place", func() bool { n, _ := recv.count(); return n == 10 })

	// A host that joins later gets what is in force at once.
	d.agent("c", filepath.Join(dir, "c"), token)
	eventually(t, 15*time.Second, "c to join", func() bool { return d.connected("c") })
	eventually(t, 10*time.Second, "c to say what it lacks", func() bool {
		why := d.host("c").Verdict.Reason
		return why != nil &&
			strings.Contains(*why, "source lines is left out: ${setting.root} is not defined on this host")
	})
	a.stop()
}

// TestSystemLog reads a log that this machine's package manager wrote (a made one where there is none) into a receiver
// of a few lines for Node: as many records as the file has lines.
func TestSystemLog(t *testing.T) {
	t.Parallel()
	node, err := exec.LookPath("node")
	require.NoError(t, err, "the console is built with Node, so it is here")
	dir := t.TempDir()
	file := "/var/log/dpkg.log"
	text, err := os.ReadFile(file)
	if err != nil || strings.Count(string(text), "\n") < 10 {
		file = filepath.Join(dir, "made.log")
		text = []byte(strings.Repeat("2031-04-02 06:15:09 status installed sailcloth:all 1.2-3\n", 500))
		require.NoError(t, os.WriteFile(file, text, 0o644))
	}
	want := 0
	for line := range strings.Lines(string(text)) {
		if strings.TrimSpace(line) != "" {
			want++
		}
	}
	script := `const http = require('http'); let n = 0
http.createServer((q, s) => { let b = ''; q.on('data', (d) => (b += d)); q.on('end',
	() => { if (q.url === '/count') return s.end(String(n)); n += b.split('\n').filter(Boolean).map(JSON.parse).length; s.end() }) }).listen(+process.argv[1], '127.0.0.1')`
	address := freePort(t)
	recv := exec.Command(node, "-e", script, strings.Split(address, ":")[1])
	require.NoError(t, recv.Start())
	t.Cleanup(func() { _ = recv.Process.Kill(); _ = recv.Wait() })
	count := func() int {
		resp, err := http.Get("http://" + address + "/count")
		if err != nil {
			return -1
		}
		defer resp.Body.Close()
		var n int
		_, _ = fmt.Fscan(resp.Body, &n)
		return n
	}
	d := startDesk(t)
	d.agent("this-machine", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("this-machine") })
	eventually(t, 15*time.Second, "the receiver", func() bool { return count() == 0 })
	d.publish(linesCatalogue(file, "http://"+address+"/in"))
	require.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	eventually(t, 30*time.Second, "all records", func() bool { return count() >= want })
	time.Sleep(time.Second)
	assert.Equal(t, want, count(), "no more, no less")
	eventually(
		t,
		5*time.Second,
		"the numbers",
		func() bool { return d.host("this-machine").Sources[0].Numbers.Acknowledged == int64(want) },
	)
}

func TestDemoOnce(t *testing.T) {
	t.Parallel()
	out, err := exec.Command(filepath.Join(bin, "synaxis-demo"), "--once", "--records", "200").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(
		t,
		string(out),
		"What was written was dropped by a rule or acknowledged, and that is what was received, 0 twice.",
	)
	assert.Contains(t, string(out), "The books of every source and destination balance.")
	assert.Regexp(t, `petrel is at sea: [1-9]\d+ records wait on its disk, its rotated files are deleted`, string(out))
	assert.Regexp(
		t,
		`[1-9]\d+ pieces of private data were written on the hosts; none arrived at a receiver`,
		string(out),
	)
	assert.GreaterOrEqual(t, strings.Count(string(out), "healthy"), 12)
}
