package run

import (
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/agent/trial"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/wire"
)

// TestTrialOfAllInputs: a trial treats what listeners get, what programs print, what is made up, and files that a
// program names, both ways, each sender as its definition says, and disturbs nothing of what runs.
func TestTrialOfAllInputs(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	tcp, udp, free := freePort(t, "tcp"), freePort(t, "udp"), freePort(t, "tcp")
	b.write("named.log", "")
	tide := b.script("tide", fmt.Sprintf("while [ ! -e %[1]s/go ]; do sleep 0.02; done; for i in 1 2 3; do echo level=$i; done; "+
		"exec sleep 600\n", b.dir))
	which := b.script("which", "echo "+filepath.Join(b.dir, "named.log")+"\n")
	config := func(steps, own, more string) hostconfig.Config {
		c, err := hostconfig.Read(fmt.Appendf(nil, `synaxis: 1
host: h
sources:
  - source: bridges
    read: {syslog: {listen: {address: 127.0.0.1, port: %[1]d, transport: udp}}, senders: [{name: a, from: 127.0.0.3%[7]s}]}
    format: syslog
    steps: [%[6]s]
    send: [out]
  - source: cranes
    read: {socket: {listen: {address: 127.0.0.1, port: %[2]d}}}
    format: recognise
    steps: [%[6]s]
    send: [out]
  - source: tides
    read: {command: {run: [%[3]s]}}
    format: keyvalue
    steps: [%[6]s]
    send: [out]
  - source: made
    read: {generate: {rate: 50/s, template: "n={n}"}}
    format: keyvalue
    steps: [%[6]s]
    send: [out]
  - source: lists
    read: {files-from: {command: [%[4]s], every: 100ms}}
    format: keyvalue
    steps: [%[6]s]
    send: [out]
%[8]sdestinations:
  - destination: out
    deliver: {file: {path: %[5]q}}
    batch: {wait: 5ms}
`, udp, tcp, tide, which, filepath.Join(b.dir, "out"), steps, own, more), hostconfig.Runs)
		require.NoError(t, err)
		c.Secrets = map[string]string{}
		return c
	}
	now := config("", ", format: keyvalue", "")
	require.NoError(t, b.Apply(now))
	then := config(`{drop: 'body.contains("2")'}`, ", format: json", fmt.Sprintf("  - source: new\n    read: {http: "+
		"{listen: {address: 127.0.0.1, port: %d}}}\n    format: json\n    send: [out]\n", free))
	crane := dial(t, "tcp", tcp)
	var lines strings.Builder
	for i := range 200 { // until it is known how it writes
		fmt.Fprintf(&lines, "{\"crane\":%d}\n", i)
	}
	_, err := crane.Write([]byte(lines.String()))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		s := b.Senders("cranes")
		return len(s) == 1 && s[0].Format == "json"
	}, longest, 10*time.Millisecond)
	require.Eventually(t, func() bool { return b.Takes(filepath.Join(b.dir, "named.log")) }, longest,
		10*time.Millisecond)

	tr, err := trial.Start("x", b.tried(), then, time.Minute)
	require.NoError(t, err)
	defer tr.Stop()
	b.write("go", "")
	time.Sleep(300 * time.Millisecond) // files are read from where they end when the trial looks first
	for i := range 10 {
		_, err = fmt.Fprintf(crane, "{\"crane\":%d}\n", i)
		require.NoError(t, err)
	}
	sender, err := net.DialUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 3)}, &net.UDPAddr{IP: net.IPv4(127, 0, 0,
		1),
		Port: udp})
	require.NoError(t, err)
	defer sender.Close()
	other, err := net.Dial("udp", fmt.Sprint("127.0.0.1:", udp))
	require.NoError(t, err)
	defer other.Close()
	for i := range 4 {
		_, err = fmt.Fprintf(sender, "weight=%d", i)
		require.NoError(t, err)
		_, err = fmt.Fprintf(other, "<13>1 2031-04-02T06:00:0%dZ quay bridge - - - weight %d", i, i)
		require.NoError(t, err)
	}
	b.write("named.log", "row=1\nrow=2\n")
	find := func(name string) (s wire.TrialSource) {
		for _, s := range tr.Report().Sources {
			if s.Name == name {
				return s
			}
		}
		return s
	}
	for name, n := range map[string]int64{"bridges": 8, "cranes": 10, "tides": 3, "lists": 2} {
		require.Eventually(t, func() bool { s := find(name); return s.Now.Read == n && s.Then.Read == n }, longest,
			10*time.Millisecond, name)
	}
	s := find("bridges")
	assert.Equal(t, [2]int64{0, 4}, [2]int64{s.Now.Unparsed, s.Then.Unparsed}, "the sender's own format")
	assert.Contains(t, s.Now.Fields, "weight")
	assert.Contains(t, s.Now.Fields, "syslog.hostname")
	s = find("cranes")
	assert.Zero(t, s.Now.Unparsed+s.Then.Unparsed)
	assert.Equal(t, int64(10), s.Now.Fields["crane"]["int"], "what was recognised counts")
	assert.Equal(t, int64(1), s.Then.Dropped)
	assert.Equal(t, int64(1), s.Differ)
	s = find("tides")
	assert.Equal(t, [2]int64{0, 1}, [2]int64{s.Now.Dropped, s.Then.Dropped})
	assert.Equal(t, wire.TrialSent{Records: 2, Bytes: s.Then.Destinations["out"].Bytes}, s.Then.Destinations["out"])
	s = find("lists")
	assert.Equal(t, [2]int64{0, 1}, [2]int64{s.Now.Dropped, s.Then.Dropped})
	require.Eventually(t, func() bool { s := find("made"); return s.Then.Read > 30 && s.Then.Dropped > 0 }, longest,
		10*time.Millisecond)
	s = find("new")
	assert.Nil(t, s.Now)
	assert.Contains(t, s.Note, "a trial binds no ports and runs no programs: it reads by http")
	have, _ := b.Numbers()
	assert.Equal(t, int64(8), have["bridges"].Read, "what runs goes on untouched")
	assert.Zero(t, have["bridges"].Dropped)

	tr.Stop()
	require.Eventually(t, func() bool { return tr.Report().Ended }, longest, 10*time.Millisecond)
	was := find("made").Then.Read
	time.Sleep(200 * time.Millisecond)
	assert.Equal(t, was, find("made").Then.Read, "it takes no more copies")
}
