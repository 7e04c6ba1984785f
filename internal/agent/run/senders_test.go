package run

import (
	"fmt"
	"io"
	"net"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/wire"
)

// TestListenSenders: senders have labels, formats and zones of their own; unknown ones are kept or refused; one that
// is silent is told.
func TestListenSenders(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "udp")
	read := fmt.Sprintf("socket: {listen: {address: 127.0.0.1, port: %d, transport: udp}, allow: [127.0.0.0/16]}, senders: "+
		"[{name: bridge-a, from: 127.0.0.2, labels: {lane: a}, format: keyvalue, time: {zone: Asia/Kathmandu}}, "+
		"{name: bridges, from: 127.0.0.0/29, labels: {lane: any}}, {name: gone, from: 127.0.0.9, expect: {every: 1s}}]", port)
	require.NoError(t, b.Apply(b.listens(read, "    format: raw\n")))
	say := func(from, text string) {
		c, err := (&net.Dialer{LocalAddr: &net.UDPAddr{IP: net.ParseIP(from)}}).Dial("udp", fmt.Sprint("127.0.0.1:",
			port))
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, text)
		require.NoError(t, err)
		time.Sleep(5 * time.Millisecond)
	}
	say("127.0.0.2", "time=2031-04-02T06:15:09 weight=12")
	say("127.0.0.3", "plain")
	say("127.0.0.77", "stranger")
	say("127.3.0.1", "not let in")
	got := b.await1(3)
	assert.Equal(t, map[string]string{"site": "np", "lane": "a", "sender": "bridge-a"}, got[0].Labels)
	assert.Equal(t, 12.0, got[0].Fields["weight"])
	assert.Equal(t, "2031-04-02T00:30:09Z", got[0].Time.Format(time.RFC3339), "by the zone of the sender")
	assert.Equal(t, map[string]string{"site": "np", "lane": "any", "sender": "bridges"}, got[1].Labels)
	assert.Equal(t, map[string]string{"site": "np"}, got[2].Labels)
	require.Eventually(t, func() bool {
		n, _ := b.Numbers()
		return n["in"].TurnedAway["not-allowed"] == 1
	}, longest, 10*time.Millisecond)
	var names []string
	for _, s := range b.Senders("in") {
		names = append(names, s.Name+" "+s.Address)
	}
	assert.ElementsMatch(t, []string{"bridge-a 127.0.0.2", "bridges 127.0.0.3", "gone 127.0.0.9", " 127.0.0.77"},
		names)
	require.Eventually(t, func() bool { return b.Sources()[0].Code == "sender-silent" }, longest, 20*time.Millisecond)
	assert.Contains(t, b.Sources()[0].Reason, "sender gone is silent: it was never heard")

	require.NoError(t, b.Apply(b.listens(read+", unknown-senders: refuse", "    format: raw\n")))
	say("127.0.0.77", "stranger again")
	say("127.0.0.3", "known")
	assert.Equal(t, "known", b.await1(4)[3].Body)
	require.Eventually(t, func() bool {
		n, _ := b.Numbers()
		return n["in"].TurnedAway["unknown-sender"] == 1
	}, longest, 10*time.Millisecond)
}

// TestRecognise: the first lines of each sender say how it writes; what was found is used from then on, told with its
// share, and not changed by what comes later, nor by a restart.
func TestRecognise(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir)
	port := freePort(t, "udp")
	config := b.listens(fmt.Sprintf("socket: {listen: {address: 127.0.0.1, port: %d, transport: udp}}", port),
		"    format: recognise\n    time: {zone: UTC}\n")
	require.NoError(t, b.Apply(config))
	n := 0
	say := func(from string, lines ...string) {
		c, err := (&net.Dialer{LocalAddr: &net.UDPAddr{IP: net.ParseIP(from)}}).Dial("udp", fmt.Sprint("127.0.0.1:",
			port))
		require.NoError(t, err)
		defer c.Close()
		for _, l := range lines {
			_, err = io.WriteString(c, l)
			require.NoError(t, err)
			n++
		}
		b.await1(n)
	}
	for i := range 21 { // ten at a time
		var objects, pairs []string
		for k := range 10 {
			objects = append(objects, fmt.Sprintf(`{"time":"2031-04-02T06:15:09Z","level":"warn","message":"m","n":%d}`, 10*i+k))
			pairs = append(pairs, fmt.Sprintf("time=2031-04-02T06:15:09Z level=error msg=\"let in\" n=%d", 10*i+k))
		}
		say("127.0.0.2", objects...)
		say("127.0.0.3", pairs...)
	}
	last := func() (objects, pairs heard) {
		for _, r := range b.records() {
			if r.Sender == "127.0.0.2" {
				objects = r
			} else {
				pairs = r
			}
		}
		return objects, pairs
	}
	first := b.records()[0]
	assert.Empty(t, first.Fields, "until then the whole line is kept")
	objects, pairs := last()
	assert.Equal(t, 209.0, objects.Fields["n"])
	assert.Equal(t, "WARN", objects.Level)
	assert.Equal(t, 209.0, pairs.Fields["n"])
	assert.Equal(t, "let in", pairs.Body)
	formats := map[string]string{}
	for _, s := range b.Senders("") {
		formats[s.Address] = fmt.Sprint(s.Format, " ", s.Share)
	}
	assert.Equal(t, map[string]string{"127.0.0.2": "json 1", "127.0.0.3": "keyvalue 1"}, formats)
	for range 30 {
		say("127.0.0.2", "n=1 it writes otherwise now")
	}
	objects, _ = last()
	assert.Equal(t, map[string]any{"parsed": false}, objects.Notes)
	b.Stop()
	again := newBench(t, dir)
	defer again.Stop()
	require.NoError(t, again.Apply(config))
	b = again
	say("127.0.0.2", `{"time":"2031-04-02T06:15:09Z","n":7}`)
	objects, _ = last()
	assert.Equal(t, 7.0, objects.Fields["n"], "it is remembered")
}

// TestWhatWaitsOfSenders: what waits of each sender is told while its destination takes nothing, also after a restart,
// with why records were dropped and which mask found something; once all is taken nothing waits.
func TestWhatWaitsOfSenders(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	b := newBench(t, t.TempDir())
	port := freePort(t, "tcp")
	config := read(t, `sources:
  - source: in
    read:
      socket: {listen: {address: 127.0.0.1, port: %d, transport: tcp}}
      senders: [{name: bridge-a, from: 127.0.0.2}, {name: bridge-b, from: 127.0.0.3}, {name: quiet, from: 127.0.0.4}]
    format: raw
    steps: [{mask: [email]}, {drop: 'body.contains("idle")'}]
    send: [lake]
destinations:
  - destination: lake
    deliver: {http: {url: "%s/in"}}
`+quick, port, d.URL)
	require.NoError(t, b.Apply(config))
	began := time.Now()
	say := func(from string, lines ...string) {
		c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp",
			fmt.Sprint("127.0.0.1:", port))
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, strings.Join(lines, "\n")+"\n")
		require.NoError(t, err)
	}
	say("127.0.0.2", "a-1", "a-2 idle", "a-3 of ada.vos@whimbrel.example")
	say("127.0.0.3", "b-1")
	say("127.0.0.9", "stranger")
	waiting := map[string]int64{"lake/bridge-a": 2, "lake/bridge-b": 1}
	told := func(want map[string]int64) func() bool {
		return func() bool {
			all, _ := b.Numbers()
			return assert.ObjectsAreEqual(want, all["in"].SenderWaiting)
		}
	}
	eventually(t, "what waits", told(waiting))
	check := func() {
		all, _ := b.Numbers()
		n := all["in"]
		assert.Equal(t, waiting, n.SenderWaiting)
		for _, of := range []string{"lake/bridge-a", "lake/bridge-b"} {
			assert.WithinRange(t, time.Unix(0, n.SenderOldest[of]), began.Add(-time.Second), time.Now(), of)
		}
		assert.Len(t, n.SenderOldest, 2)
		assert.Equal(t, map[string]int64{"drop/bridge-a": 1}, n.SenderDrops)
		assert.Equal(t, map[string]int64{"email/bridge-a": 1}, n.SenderMasks)
	}
	check()
	b = b.again(config)
	check()
	d.open()
	eventually(t, "nothing to wait", told(map[string]int64{"lake/bridge-a": 0, "lake/bridge-b": 0}))
	all, _ := b.Numbers()
	assert.Empty(t, all["in"].SenderOldest)
	assert.Equal(t, map[string]int64{"lake/bridge-a": 2, "lake/bridge-b": 1}, all["in"].SenderAcknowledged)
	b.Stop()
}

// TestManyUnknownSenders: twelve thousand unknown senders over one socket: each record has the address of who sent it
// and none of another, what is kept of them is bounded, and the one that is known stays known. It runs alone, since it
// measures memory.
func TestManyUnknownSenders(t *testing.T) {
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "udp")
	require.NoError(t, b.Apply(b.listens(fmt.Sprintf("syslog: {listen: {address: 127.0.0.1, port: %d}}, senders: [{name: bridge-a, "+
		"from: 127.77.0.1}]", port), "    format: syslog\n    time: {zone: UTC}\n")))
	to := &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port}
	say := func(from net.IP) {
		c, err := net.DialUDP("udp", &net.UDPAddr{IP: from}, to)
		require.NoError(t, err)
		defer c.Close()
		_, err = fmt.Fprintf(c, "<13>Apr  2 06:15:09 gate prog: I am %s", from)
		require.NoError(t, err)
	}
	say(net.IPv4(127, 77, 0, 1))
	var before runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	const n = 12_000
	for i := range n {
		say(net.IPv4(127, 78, byte(i>>8), byte(i)))
		if i%100 == 99 { // not faster than it can be taken: what is tried here is how many there are
			require.Eventually(t, func() bool {
				have, _ := b.Numbers()
				return have["in"].Read+have["in"].Missed >= int64(i+2)
			}, longest, time.Millisecond)
		}
	}
	got := b.await1(n + 1)
	seen := map[string]bool{}
	for _, r := range got {
		require.Equal(t, "I am "+r.Sender, r.Body)
		seen[r.Sender] = true
	}
	assert.Len(t, seen, n+1)
	list := b.Senders("in")
	assert.LessOrEqual(t, len(list), wire.MaxSenders)
	assert.Equal(t, "bridge-a", list[0].Name)
	var after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(64<<20))
	have, _ := b.Numbers()
	assert.Equal(t, map[string]int64{"bridge-a": 1}, have["in"].Senders)
	assert.Zero(t, have["in"].Deliveries["out"].Difference())
}
