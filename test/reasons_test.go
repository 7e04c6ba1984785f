package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// reasoned waits until a source of a host has a reason, and answers its verdict.
func (d *desk) reasoned(host, source, code string) (v contract.Verdict) {
	d.t.Helper()
	last := ""
	eventually(d.t, 2*time.Minute, source+" to be "+code, func() bool {
		for _, s := range d.host(host).Sources {
			if s.Name == source {
				v = s.Verdict
			}
		}
		have := ""
		if v.Code != nil {
			have = *v.Code
		}
		if have != last {
			d.t.Logf("%s: %s %s", source, v.State, have)
			last = have
		}
		return have == code
	})
	return v
}

// TestReasons: a source that falls silent, one whose times are of another zone than it says, one whose files are gone,
// and a host that is away as it may be, each with a real agent.
func TestReasons(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	agent := d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	source := func(name, more string) string {
		return fmt.Sprintf("---\nsource: %s\nhosts: all\nread: {files: [\"%s/%s.log\"], first-read: start}\n%s"+
			"send: [nowhere]\n", name, dir, name, more)
	}
	d.publish("destination: nowhere\ndeliver: {discard: {}}\n---\nagents: vessels\nhosts: all\naway: 1h\n" +
		"---\nformat: stamped\ntemplate: '{ts:time} {word:token}'\n" +
		"time: {field: ts, layout: '%Y-%m-%d %H:%M:%S.%f', zone: Asia/Kathmandu}\n" +
		source("silent", "format: raw\nexpect: {every: 3s}\n") + source("steady", "format: raw\nexpect: {every: 20s}\n") +
		source("zoned", "format: stamped\n") + source("gone", "format: raw\n") +
		source("seldom", "format: keyvalue\nexpect: {filled: {lane: 90%}}\n") +
		"---\nsource: lanes\nhosts: all\nread: {files: [\"" + dir + "/lane-*.log\"]}\nformat: raw\n" +
		"expect: {every: 3s, per: file}\nsend: [nowhere]\n")
	write := func(name, line string) {
		f, err := os.OpenFile(filepath.Join(dir, name+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		defer f.Close()
		_, err = fmt.Fprintln(f, line)
		require.NoError(t, err)
	}
	write("gone", "here")
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	writing := make(chan struct{})
	go func() {
		defer close(writing)
		for ctx.Err() == nil {
			write("zoned", time.Now().UTC().Format("2006-01-02 15:04:05.000")+" boarded")
			write("steady", "here")
			write("lane-1", "here")
			write("seldom", "word=here")
			write("seldom", "word=here lane=4")
			time.Sleep(300 * time.Millisecond)
		}
	}()
	write("silent", "here")
	write("lane-2", "here")
	d.rollOut()
	v := d.reasoned("gate-a", "silent", "silent")
	assert.Equal(t, contract.Degraded, v.State)
	assert.Contains(t, *v.Reason, "a record is expected every 3 s")
	v = d.reasoned("gate-a", "zoned", "zone-wrong")
	assert.Contains(t, *v.Reason, "its times are 5 h 45 min behind")
	assert.Contains(t, *v.Reason, "they look like UTC, and are read as Asia/Kathmandu", "which its format says")
	d.reasoned("gate-a", "steady", "")
	v = d.reasoned("gate-a", "lanes", "silent")
	assert.Equal(t, contract.Degraded, v.State)
	assert.Regexp(t, `lane-2\.log grew last at .* each file is expected to every 3 s; 1 of 2 files are silent`,
		*v.Reason)
	v = d.reasoned("gate-a", "seldom", "field-seldom-filled")
	assert.Equal(t, contract.Degraded, v.State)
	assert.Regexp(t, `the field lane is in (4\d|5\d)(\.\d)? % of the last \d+ records; 90 % are expected`, *v.Reason)
	write("silent", "here again")
	write("lane-2", "here again")
	d.reasoned("gate-a", "lanes", "")
	d.reasoned("gate-a", "silent", "")
	require.NoError(t, os.Remove(filepath.Join(dir, "gone.log")))
	v = d.reasoned("gate-a", "gone", "files-gone")
	assert.Contains(t, *v.Reason, "the last record was read at")
	stop()
	<-writing
	agent.stop()
	eventually(t, 2*time.Minute, "it to be away", func() bool {
		v := d.host("gate-a").Verdict
		return v.Code != nil && *v.Code == "away-as-usual" && v.State == contract.Waiting
	})
	causes := get[contract.CauseList](t, first(d.api.ListCauses(context.Background(), nil)), nil)
	assert.Empty(t, causes.Items, "what is as usual is in no list of what is wrong")
}
