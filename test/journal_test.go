package test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// systemJournal is a journal of the system in a folder, which its own programs write and read.
type systemJournal struct {
	t     *testing.T
	dir   string
	path  string // PATH, with the program that reads it in front
	asked string // what that was told, a line each
	in    io.WriteCloser
	n     int
}

func newSystemJournal(t *testing.T) *systemJournal {
	j := &systemJournal{t: t, dir: t.TempDir()}
	j.asked = filepath.Join(t.TempDir(), "asked")
	script := "#!/bin/sh\necho \"$@\" >> " + j.asked + "\nexec " + peer(t, "journalctl") + " --directory=" + j.dir + " \"$@\"\n"
	bin := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(bin, "journalctl"), []byte(script), 0o755))
	j.path = bin + ":" + os.Getenv("PATH")
	cmd := exec.Command(peer(t, "systemd-journal-remote"), "--output="+filepath.Join(j.dir, "system.journal"), "-")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	j.in = in
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = in.Close()
		_ = cmd.Wait()
		if t.Failed() {
			t.Log(out.String())
		}
	})
	return j
}

// write writes an entry of a unit.
func (j *systemJournal) write(unit, message string, more ...string) {
	j.n++
	fields := append([]string{"__REALTIME_TIMESTAMP", fmt.Sprint(1932883509000000 + j.n), "__MONOTONIC_TIMESTAMP",
		fmt.Sprint(j.n), "_BOOT_ID", "0123456789abcdef0123456789abcdef", "_MACHINE_ID", "fedcba9876543210fedcba9876543210",
		"PRIORITY", "4", "_PID", "77", "_SYSTEMD_UNIT", unit, "MESSAGE", message}, more...)
	var b bytes.Buffer
	for i := 0; i < len(fields); i += 2 {
		if !strings.Contains(fields[i+1], "\n") && utf8.ValidString(fields[i+1]) {
			b.WriteString(fields[i] + "=" + fields[i+1] + "\n")
			continue
		}
		b.WriteString(fields[i] + "\n")
		b.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(fields[i+1]))))
		b.WriteString(fields[i+1] + "\n")
	}
	b.WriteString("\n")
	_, err := j.in.Write(b.Bytes())
	require.NoError(j.t, err)
}

// followed waits until it was asked for what comes so many times.
func (j *systemJournal) followed(times int) {
	j.t.Helper()
	eventually(j.t, time.Minute, "the journal to be followed", func() bool {
		text, _ := os.ReadFile(j.asked)
		return bytes.Count(text, []byte("--follow")) >= times
	})
}

// TestSystemJournal: entries that the journal's own programs keep and export arrive once: of units that say their
// first word after the agent began to listen for a pattern, and over a restart of the agent.
func TestSystemJournal(t *testing.T) {
	t.Parallel()
	j := newSystemJournal(t)
	d := startDesk(t)
	dir := t.TempDir()
	for i := range 5 {
		j.write("cron.service", fmt.Sprint("before ", i))
	}
	listed := func() string {
		text, _ := exec.Command("journalctl", "--directory="+j.dir, "--output=cat", "--no-pager").Output()
		return string(text)
	}
	eventually(t, time.Minute, "the journal", func() bool { return bytes.Count([]byte(listed()), []byte("\n")) == 5 })
	start := func() *program {
		return startWith(t, append(joinsBy(d.joinToken(2, nil)), "PATH="+j.path), "synaxis-agent", "--service", d.url, "--state",
			filepath.Join(dir, "state"), "--name", "gate-a", "--report", "200ms")
	}
	agent := start()
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	at := filepath.Join(dir, "out")
	source := func(name, read string) string {
		return fmt.Sprintf("---\nsource: %s\nhosts: all\nread: {%s}\nformat: raw\nsend: [out]\n", name, read)
	}
	d.publish("destination: out\ndeliver: {file: {path: " + at + "}}\nbatch: {wait: 50ms}\n" +
		source("all", "journal: {}, first-read: start") + source("gates", "journal: {units: [\"gate*\", tide]}") +
		source("one", "journal: {units: [gate-1]}"))
	d.rollOut()
	records := func() (out map[string][]map[string]any) {
		out = map[string][]map[string]any{}
		for _, r := range recordsIn(at) {
			source := fmt.Sprint(r["source"])
			out[source] = append(out[source], r)
		}
		return out
	}
	await := func(all, gates, one int) map[string][]map[string]any {
		t.Helper()
		var got map[string][]map[string]any
		eventually(t, time.Minute, "the entries", func() bool {
			got = records()
			return len(got["all"]) >= all && len(got["gates"]) >= gates && len(got["one"]) >= one
		})
		return got
	}
	await(5, 0, 0)
	j.followed(3)
	j.write("gate-1.service", "one\nand a line")
	j.write("gate-2.service", "not \xff text", "LANE", "4")
	j.write("tide.service", "three")
	j.write("cron.service", "four")
	got := await(9, 3, 1)
	assert.Equal(t, "one\nand a line", got["gates"][0]["body"])
	assert.Equal(t, "WARN", got["gates"][0]["level"])
	assert.Equal(t, "2031-04-02T08:05:09.000006000Z", got["gates"][0]["time"])
	assert.Equal(t, map[string]any{"journal.pid": 77.0, "journal.systemd_unit": "gate-2.service", "journal.lane": "4"},
		got["gates"][1]["fields"])
	assert.Equal(t, "three", got["gates"][2]["body"])
	assert.Equal(t, "one\nand a line", got["one"][0]["body"])
	eventually(t, time.Minute, "all to be settled", func() bool {
		n := int64(0)
		for _, s := range d.host("gate-a").Sources {
			for _, x := range s.Numbers.Destinations {
				n += x.Acknowledged
			}
		}
		return n == 13
	})
	agent.stop()
	for i := range 20 {
		j.write([]string{"gate-3.service", "cron.service"}[i%2], fmt.Sprint("away ", i))
	}
	start()
	await(29, 13, 1)
	j.write("gate-1.service", "the end")
	await(30, 14, 2)
	time.Sleep(500 * time.Millisecond)
	got = records()
	assert.Len(t, got["all"], 30, "each once")
	assert.Len(t, got["gates"], 14, "each once")
	assert.Len(t, got["one"], 2, "each once")
	for i, r := range got["gates"][3:13] {
		assert.Equal(t, fmt.Sprint("away ", 2*i), r["body"])
	}
}
