package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// fleet is a desk with agents that read lines which keep coming.
type fleet struct {
	*desk
	dir    string
	names  []string
	agents map[string]*program
}

func newFleet(t *testing.T, names ...string) *fleet {
	f := &fleet{desk: startDesk(t), dir: t.TempDir(), names: names, agents: map[string]*program{}}
	token := f.joinToken(0, nil)
	for _, n := range names {
		require.NoError(t, os.MkdirAll(filepath.Join(f.dir, "log", n), 0o755))
		f.agents[n] = f.agent(n, filepath.Join(f.dir, "state", n), token)
	}
	for _, n := range names {
		eventually(t, 20*time.Second, n+" to join", func() bool { return f.connected(n) })
	}
	ctx, cancel := context.WithCancel(context.Background())
	t.Cleanup(cancel)
	go func() {
		for i := 0; ctx.Err() == nil; i++ {
			for _, n := range names {
				w, err := os.OpenFile(filepath.Join(f.dir, "log", n, "x.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY,
					0o644)
				if err == nil {
					fmt.Fprintf(w, "%d boarded\n", i)
					w.Close()
				}
			}
			time.Sleep(40 * time.Millisecond)
		}
	}()
	return f
}

// catalogue reads the lines by a template, and has plans that are quick.
func (f *fleet) catalogue(template string) string {
	return fmt.Sprintf(`source: gates
hosts: all
read: {files: ["%s/log/${host.name}/*.log"]}
format: gate
send: [out]
---
format: gate
template: %q
---
destination: out
deliver: {file: {path: "%s/out"}}
batch: {wait: 50ms}
---
plan: quick
waves: [1 host, 50%%, rest]
soak: 2s
stop-when: failing > 0 || unparsed_share > 0.2
on-stop: go-back
---
plan: by-hand
waves: [1 host, rest]
soak: 0s
approve: [2]
`, f.dir, template, f.dir)
}

// busy is one more plan, to be put behind a catalogue.
const busy = "---\nplan: busy\nwaves: [1 host, rest]\nsoak: 1m\nstop-when: cpu_share > 0.9\n"

func (f *fleet) rollout(id int) contract.Rollout {
	return get[contract.Rollout](f.t, first(f.api.GetRollout(context.Background(), id)), nil)
}

// TestBadRevisionIsTakenBack: a revision whose format reads no line is stopped by the gate of its first wave and taken
// back by itself; no other host sees it. A good one goes through all waves.
func TestBadRevisionIsTakenBack(t *testing.T) {
	t.Parallel()
	f := newFleet(t, "gate-a", "gate-b", "gate-c", "gate-d")
	f.publish(f.catalogue("{n:int} boarded"))
	require.Equal(t, contract.RolloutStateDone, f.rollOut().State)
	eventually(t, 20*time.Second, "records", func() bool {
		h := f.host("gate-a")
		return len(h.Sources) == 1 && h.Sources[0].Numbers.Acknowledged > 20
	})
	eventually(t, time.Minute, "the agent to tell what it uses", func() bool {
		share := f.host("gate-a").CpuShare
		return share != nil && *share >= 0 && *share < 1
	})
	draft := f.load(f.catalogue("{n:int} left") + busy)
	out, code := f.cli("rollout", "preview", "--draft", fmt.Sprint(draft), "--plan", "busy")
	require.Zero(t, code, out)
	assert.Contains(t, out, "4 hosts change for revision")
	assert.Contains(t, out, "cpu_share > 0.9", "a plan of the draft")
	out, code = f.cli("preflight", "run", fmt.Sprint(draft), "--wave", "1")
	require.Zero(t, code, out)
	assert.Contains(t, out, "1 host rehearsed", "the first wave of the draft")
	assert.Equal(t, 2, f.publish(f.catalogue("{n:int} left")))
	out, code = f.cli("rollout", "preview", "--plan", "quick")
	require.Zero(t, code, out)
	assert.Contains(t, out, "4 hosts change for revision")
	assert.Contains(t, out, "takes it back by itself")
	out, code = f.cli("preflight", "run", "--wave", "1")
	require.Zero(t, code, out)
	assert.Contains(t, out, "1 host rehearsed", "the first wave")
	out, code = f.cli("rollout", "start", "--plan", "quick", "--watch", "--timeout", "60s")
	require.Equal(t, 4, code, out)
	r := f.rollout(2)
	assert.Equal(t, contract.RolloutStateStopped, r.State)
	told := 0
	for _, h := range r.Hosts {
		if h.Told {
			told++
			assert.Equal(t, "gate-a", h.Host)
		}
	}
	assert.Equal(t, 1, told, "no other host saw it")
	require.NotNil(t, r.TakenBackBy)
	gate := r.Decisions[len(r.Decisions)-2]
	assert.Equal(t, "gate", gate.What)
	assert.Greater(t, (*gate.Numbers)["unparsed_share"], 0.2)
	eventually(t, 30*time.Second, "it to be taken back", func() bool {
		return f.rollout(*r.TakenBackBy).State == contract.RolloutStateDone
	})
	back := f.rollout(*r.TakenBackBy)
	assert.Equal(t, 2, *back.TakesBack)
	assert.Equal(t, 1, back.Revision)
	assert.Equal(t, "plan quick", back.Author)
	assert.Len(t, back.Hosts, 1)
	status := get[contract.Status](t, first(f.api.GetStatus(context.Background())), nil)
	assert.Equal(t, 1, status.InForce)

	// Mended, it goes through.
	f.publish(f.catalogue("{n:int} {word}"))
	out, code = f.cli("rollout", "start", "--plan", "quick", "--first", "gate-c", "--watch", "--timeout", "90s")
	require.Zero(t, code, out)
	r = f.rollout(4)
	waves := map[int][]string{}
	for _, h := range r.Hosts {
		waves[h.Wave] = append(waves[h.Wave], h.Host)
	}
	assert.Equal(t, []string{"gate-c"}, waves[1])
	assert.Len(t, waves[2], 2)
	assert.Contains(t, out, "Done: 4 confirmed")

	out, code = f.cli("host", "history", "gate-a")
	require.Zero(t, code, out)
	assert.Equal(t, 5, strings.Count(out, "\n"), "two revisions, back, and the mended one: %s", out)
	out, code = f.cli("host", "history", "gate-a", "--at", time.Now().Format(time.RFC3339))
	require.Zero(t, code, out)
	assert.Contains(t, out, "- source: gates")
	assert.Contains(t, out, "revision  3")
	out, code = f.cli("host", "history", "gate-a", "--at", "2001-01-01")
	assert.Equal(t, 1, code, out)
}

// TestLivingWithARollout: what persons decide of it, each in its turn, and what they are told when it cannot be.
func TestLivingWithARollout(t *testing.T) {
	t.Parallel()
	f := newFleet(t, "gate-a", "gate-b", "gate-c")
	f.publish(f.catalogue("{n:int} boarded"))
	require.Equal(t, contract.RolloutStateDone, f.rollOut().State)
	f.publish(f.catalogue("{n:int} {word}"))
	must := func(words string, args ...string) {
		t.Helper()
		out, code := f.cli(args...)
		require.Zero(t, code, out)
		assert.Contains(t, out, words)
	}
	refused := func(words string, args ...string) {
		t.Helper()
		out, code := f.cli(args...)
		assert.Equal(t, 1, code, out)
		assert.Contains(t, strings.Join(strings.Fields(out), " "), words)
	}
	must("Rollout 2 of revision 2 to 3 hosts by plan by-hand", "rollout", "start", "--plan", "by-hand")
	eventually(t, 20*time.Second, "it to ask",
		func() bool { return f.rollout(2).Phase == contract.RolloutPhaseAsking })
	refused("another rollout comes first: rollout 2 of revision 2 is running", "rollout", "start")
	refused("does not soak", "rollout", "skip-soak", "2")
	refused("so there is nothing to resume", "rollout", "resume", "2")
	must("paused", "rollout", "pause", "2", "--reason", "lunch")
	refused("is paused; paused: no more host is told: lunch", "rollout", "approve", "2")
	must("resumed", "rollout", "resume", "2")
	must("left out", "rollout", "leave-out", "2", "gate-b", "--reason", "it is being repaired")
	must("stopped", "rollout", "stop", "2")
	f.publish(f.catalogue("{n:int} {word} "))
	refused("rollout 2 of revision 2 was stopped, and what comes later contains its change", "rollout", "start")
	must("Goes back to revision 1 on 1 host; 0 away", "rollout", "back", "2", "--dry-run")
	must("Done: 1 confirmed", "rollout", "back", "2", "--watch", "--reason", "not today")
	refused("is taken back by rollout 3 already", "rollout", "back", "2")

	// A change that stays on one host for a while.
	must("Done: 1 confirmed", "rollout", "start", "--hosts", `host.name == "gate-b"`, "--plan", "one-wave", "--watch")
	status := get[contract.Status](t, first(f.api.GetStatus(context.Background())), nil)
	assert.Equal(t, 1, status.InForce, "what is in force stays")
	assert.False(t, status.RolledOut, "a rollout for some hosts does not roll a revision out")
	out, _ := f.cli("host", "show", "gate-b")
	assert.Contains(t, out, "pinned")
	must("1 host is left as it is: pinned", "rollout", "preview")
	must("gets what is in force", "host", "let-go", "gate-b")
	eventually(t, 20*time.Second, "it to run that", func() bool {
		h := f.host("gate-b")
		return h.Pinned == nil && h.Revision == 1 && h.RunningHash != nil && *h.RunningHash == *h.AssignedHash
	})
	refused("is not pinned", "host", "let-go", "gate-b")

	// A host that is away is told when it comes back, and not before.
	f.agents["gate-c"].stop()
	eventually(t, 20*time.Second, "it to be away", func() bool { return !f.connected("gate-c") })
	must("Done: 2 confirmed, 1 away and catching up later", "rollout", "start", "--plan", "one-wave", "--watch")
	assert.Equal(t, 1, f.host("gate-c").Revision)
	f.agent("gate-c", filepath.Join(f.dir, "state", "gate-c"), "")
	eventually(t, 30*time.Second, "it to catch up", func() bool {
		return f.rollout(5).Counts["confirmed"] == 3
	})

	// An edit says what it would do before it is made.
	must("would get another config with the same sources", "host", "label", "gate-a", "lane=4", "--dry-run")
	text := strings.Replace(f.catalogue("{n:int} {word} "), "hosts: all", "hosts: 'labels.off == \"\"'", 1)
	f.publish(text)
	require.Equal(t, contract.RolloutStateDone, f.rollOut().State)
	must("gate-a, gate-b, gate-c would lose their only source, gates", "host", "label", "--hosts", "all",
		"off=yes", "--dry-run")
	must("No host would run anything else", "host", "set", "gate-a", "unused=x", "--dry-run")
	f.publish(f.catalogue("{n:int} {word} "))
	require.Equal(t, contract.RolloutStateDone, f.rollOut().State)

	// What is pending says why, and can go alone.
	must("", "host", "label", "gate-a", "lane=4")
	must("", "host", "label", "gate-b", "lane=5")
	eventually(t, 10*time.Second, "it to be pending", func() bool {
		h := f.host("gate-a")
		return h.Pending != nil && *h.Pending == "labels"
	})
	f.publish(f.catalogue("{n:int} {what}"))
	must("2 hosts change for labels", "rollout", "preview", "--only", "labels", "--revision", "5")
	must("1 host is left as it is: changes for revision", "rollout", "preview", "--only", "labels")
	out, code := f.cli("rollout", "start", "--only", "labels", "--revision", "5", "--plan", "one-wave", "--watch",
		"-o", "json")
	require.Zero(t, code, out)
	var r contract.Rollout
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	assert.Equal(t, 3, r.Counts["confirmed"])
}

// follow runs the commands of a page as they stand, and answers how many. Around each it calls what is given.
func (f *fleet) follow(page string, before func(command string), after func(command, out string)) (ran int) {
	for _, block := range strings.Split(page, "```sh\n")[1:] {
		block, _, _ = strings.Cut(block, "```")
		for line := range strings.Lines(block) {
			command, _, _ := strings.Cut(line, " #")
			cmd := exec.Command("sh", "-c", command)
			cmd.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "SYNAXIS_URL="+f.url,
				"SYNAXIS_TOKEN="+f.token)
			if before != nil {
				before(command)
			}
			out, err := cmd.CombinedOutput()
			require.NoError(f.t, err, "%s\n%s", command, out)
			if after != nil {
				after(command, string(out))
			}
			ran++
		}
	}
	return ran
}

// TestRollingOutPage: the commands of docs/rolling-out.md run as they stand.
func TestRollingOutPage(t *testing.T) {
	t.Parallel()
	f := newFleet(t, "gate-a", "gate-b", "gate-c")
	f.publish(f.catalogue("{n:int} boarded"))
	require.Equal(t, contract.RolloutStateDone, f.rollOut().State)
	path := filepath.Join(t.TempDir(), "all.yaml")
	require.NoError(t, os.WriteFile(path, []byte(f.catalogue("{n:int} {word}")), 0o600))
	out, code := f.cli("draft", "load", path)
	require.Zero(t, code, out)
	page, err := os.ReadFile("../docs/rolling-out.md")
	require.NoError(t, err)
	ran := f.follow(string(page), func(command string) {
		if strings.Contains(command, "approve") || strings.Contains(command, "pause") {
			eventually(t, 20*time.Second, "it to ask",
				func() bool { return f.rollout(2).Phase == contract.RolloutPhaseAsking })
		}
	}, nil)
	assert.Greater(t, ran, 18)
	assert.Contains(t, f.rollout(2).Counts, "left out")
}

// TestAgentGoesBack: a config with which an agent can deliver nothing any more is given up by the agent itself within
// a minute; the rollout hears of it, and records go on as before.
func TestAgentGoesBack(t *testing.T) {
	t.Parallel()
	f := newFleet(t, "gate-a")
	recv := newReceiver(t, nil)
	text := func(url string) string {
		return strings.Replace(f.catalogue("{n:int} {word}"), fmt.Sprintf("deliver: {file: {path: \"%s/out\"}}",
			f.dir),
			fmt.Sprintf("deliver: {http: {url: %q}}", url), 1)
	}
	f.publish(text(recv.URL))
	require.Equal(t, contract.RolloutStateDone, f.rollOut().State)
	eventually(t, 20*time.Second, "records", func() bool { _, all := recv.count(); return all > 20 })
	before := *f.host("gate-a").RunningHash
	f.publish(text("http://" + freePort(t) + "/in"))
	f.rollOut()
	eventually(t, 50*time.Second, "the agent to go back",
		func() bool { return *f.host("gate-a").RunningHash == before })
	eventually(t, 10*time.Second, "the rollout to hear of it", func() bool {
		h := f.rollout(2).Hosts[0]
		return h.State == "refused" && strings.Contains(*h.Reason, "nothing could be delivered that could be before")
	})
	assert.Equal(t, contract.Failing, f.host("gate-a").Verdict.State)
	_, had := recv.count()
	eventually(t, 20*time.Second, "records again", func() bool { _, all := recv.count(); return all > had+20 })
}
