package run

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/wire"
	"synaxis/test/certs"
)

// freePort is a port that nobody has now.
func freePort(t testing.TB, network string) int {
	if network == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		defer c.Close()
		return c.LocalAddr().(*net.UDPAddr).Port
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// listens is a config with the read of one source, into a file.
func (b *bench) listens(read, more string) hostconfig.Config {
	b.t.Helper()
	c, err := hostconfig.Read(fmt.Appendf(nil, "synaxis: 1\nhost: h\nlabels: {site: np}\nsources:\n  - source: in\n    read: {%s}\n"+
		"%s    send: [out]\ndestinations:\n  - destination: out\n    deliver: {file: {path: %q}}\n    batch: {wait: 5ms}\n", read, more,
		filepath.Join(b.dir, "out")), hostconfig.Runs)
	require.NoError(b.t, err)
	c.Secrets = map[string]string{}
	return c
}

// heard is a record as it arrived.
type heard struct {
	Time, Observed              time.Time
	Level, Body, Sender, Source string
	Host, ID                    string
	Fields                      map[string]any
	Labels                      map[string]string
	Notes                       map[string]any
}

// records are those that arrived, in order.
func (b *bench) records() (out []heard) {
	text, _ := os.ReadFile(filepath.Join(b.dir, "out"))
	for line := range bytes.Lines(text) {
		var r heard
		if json.Unmarshal(line, &r) == nil {
			out = append(out, r)
		}
	}
	return out
}

func (b *bench) await1(n int) []heard {
	b.t.Helper()
	require.Eventually(b.t, func() bool { return len(b.records()) >= n }, longest, 10*time.Millisecond)
	time.Sleep(50 * time.Millisecond)
	out := b.records()
	require.Len(b.t, out, n)
	return out
}

func bodies(list []heard) (out []string) {
	for _, r := range list {
		out = append(out, r.Body)
	}
	return out
}

// dial connects to a port until somebody listens there.
func dial(t testing.TB, network string, port int) net.Conn {
	var c net.Conn
	require.Eventually(t, func() (ok bool) {
		var err error
		c, err = net.Dial(network, fmt.Sprintf("127.0.0.1:%d", port))
		return err == nil
	}, longest, 5*time.Millisecond)
	t.Cleanup(func() { c.Close() })
	return c
}

// TestListeners: messages over each transport and framing arrive, once, in order, with who sent them.
func TestListeners(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		kind, transport, more string
		send                  []string
		want                  []string
	}{
		"syslog over UDP": {"syslog", "udp", "", []string{"<13>one\ntwo", "<14>three"}, []string{"one\ntwo", "three"}},
		"ends over UDP": {"syslog", "udp", "", []string{"<13>one\n", "<14>two\r\n", "<14>three\n\x00", "<14>four\n\n\x00\x00",
			"<14>five "}, []string{"one", "two", "three", "four", "five "}},
		"syslog over TCP": {"syslog", "tcp", "", []string{"<13>one\n7 <13>two<1", "4>three\n"}, []string{"one", "two", "three"}},
		"ends over TCP": {"syslog", "tcp", "", []string{"<13>one\r\n9 <13>two\r\n\n10 <14>three\x00"},
			[]string{"one", "two", "three"}},
		"syslog with nulls over TCP": {"syslog", "tcp", "", []string{"<13>one\x00<14>two\nmore\x00<14>thr", "ee\n\x00"},
			[]string{"one", "two\nmore", "three"}},
		"digits over TCP": {"syslog", "tcp", "", []string{"2031-04-02T06:15:09Z one\n4 ti", "mes\n"}, []string{"one", "4 times"}},
		"lines over TCP":  {"socket", "tcp", "", []string{"one\r\ntw", "o\nthree\n"}, []string{"one", "two", "three"}},
		"lines over UDP":  {"socket", "udp", "", []string{"one\ntwo\n", "three"}, []string{"one", "two", "three"}},
		"nulls over TCP":  {"socket", "tcp", ", framing: 'null'", []string{"one\ntwo\x00thr", "ee\x00"}, []string{"one\ntwo", "three"}},
		"packets":         {"socket", "udp", ", framing: packet", []string{"one\ntwo\n"}, []string{"one\ntwo\n"}},
		"counted":         {"socket", "tcp", ", framing: octet-count", []string{"3 one5 tw", "o\n\n"}, []string{"one", "two\n\n"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, t.TempDir())
			defer b.Stop()
			port := freePort(t, c.transport)
			format := map[string]string{"syslog": "syslog", "socket": "raw"}[c.kind]
			require.NoError(t, b.Apply(b.listens(fmt.Sprintf("%s: {listen: {address: 127.0.0.1, port: %d, transport: %s}%s}", c.kind,
				port, c.transport, c.more), "    format: "+format+"\n")))
			conn := dial(t, c.transport, port)
			for _, s := range c.send {
				_, err := io.WriteString(conn, s)
				require.NoError(t, err)
				time.Sleep(5 * time.Millisecond)
			}
			got := b.await1(len(c.want))
			assert.Equal(t, c.want, bodies(got))
			ids := map[string]bool{}
			for _, r := range got {
				assert.Equal(t, "127.0.0.1", r.Sender)
				assert.Equal(t, map[string]string{"site": "np"}, r.Labels)
				ids[r.ID] = true
			}
			assert.Len(t, ids, len(got), "each has an id of its own")
			require.Eventually(t, func() bool {
				n, _ := b.Numbers()
				d := n["in"].Deliveries["out"]
				return n["in"].Read == int64(len(c.want)) && d.Acknowledged == n["in"].Read && d.Difference() == 0
			}, longest, 10*time.Millisecond, "the books balance")
			senders := b.Senders("")
			require.Len(t, senders, 1)
			assert.Equal(t, "127.0.0.1", senders[0].Address)
			assert.Equal(t, int64(len(c.want)), senders[0].Messages)
		})
	}
}

// TestListenTLS: TLS is agreed on; clear text and garbage are cut and counted; a certificate that changes counts for
// the next connection, and closes no other.
func TestListenTLS(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "tcp")
	config := func() (hostconfig.Config, *tls.Config) {
		c := b.listens(fmt.Sprintf("syslog: {listen: {address: 127.0.0.1, port: %d, transport: tls, certificate: "+
			"'${secret.c@1}', key: '${secret.k@1}'}}", port), "    format: syslog\n")
		cert, key := certs.Loopback(t)
		c.Secrets = map[string]string{"c@1": cert, "k@1": key}
		pool := x509.NewCertPool()
		pool.AppendCertsFromPEM([]byte(cert))
		return c, &tls.Config{RootCAs: pool}
	}
	c, trust := config()
	require.NoError(t, b.Apply(c))
	garbage := dial(t, "tcp", port)
	_, _ = io.WriteString(garbage, "GET / HTTP/1.1\r\n\r\n")
	_ = garbage.SetReadDeadline(time.Now().Add(longest))
	_, err := io.ReadAll(garbage)
	assert.False(t, os.IsTimeout(err), "it is cut")
	first, err := tls.Dial("tcp", fmt.Sprint("127.0.0.1:", port), trust)
	require.NoError(t, err)
	defer first.Close()
	_, err = io.WriteString(first, "<13>Apr  2 06:15:09 gate prog: one\n")
	require.NoError(t, err)
	b.await1(1)

	c, other := config()
	require.NoError(t, b.Apply(c))
	_, err = tls.Dial("tcp", fmt.Sprint("127.0.0.1:", port), trust)
	assert.Error(t, err, "the certificate is another one")
	second, err := tls.Dial("tcp", fmt.Sprint("127.0.0.1:", port), other)
	require.NoError(t, err)
	defer second.Close()
	_, err = io.WriteString(first, "<13>Apr  2 06:15:10 gate prog: two\n")
	require.NoError(t, err)
	b.await1(2)
	_, err = io.WriteString(second, "<13>Apr  2 06:15:11 gate prog: three\n")
	require.NoError(t, err)
	got := b.await1(3)
	assert.Equal(t, []string{"one", "two", "three"}, bodies(got))
	require.Eventually(t, func() bool {
		n, _ := b.Numbers()
		return n["in"].TurnedAway["tls"] >= 2
	}, longest, 10*time.Millisecond)
}

// TestRebind: a change of a definition closes nothing that it does not reach; another port is bound and the old one is
// free at once; connections to it go on for a while.
func TestRebind(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port, next := freePort(t, "tcp"), freePort(t, "tcp")
	config := func(port int, more string) hostconfig.Config {
		return b.listens(fmt.Sprintf("socket: {listen: {address: 127.0.0.1, port: %d}}", port),
			"    format: raw\n"+more)
	}
	require.NoError(t, b.Apply(config(port, "")))
	conn := dial(t, "tcp", port)
	n := 0
	say := func(c net.Conn) {
		n++
		_, err := fmt.Fprintf(c, "line %d\n", n)
		require.NoError(t, err)
	}
	for i := range 20 { // while it is swapped again and again
		say(conn)
		require.NoError(t, b.Apply(config(port, fmt.Sprintf("    labels: {turn: t%d}\n", i))))
		say(conn)
	}
	require.NoError(t, b.Apply(config(next, "")))
	say(conn)
	say(dial(t, "tcp", next))
	l, err := net.Listen("tcp", fmt.Sprint("127.0.0.1:", port))
	require.NoError(t, err, "the old port is free")
	l.Close()
	got := b.await1(n)
	seen := map[string]bool{}
	for _, r := range got {
		seen[r.Body] = true
	}
	assert.Len(t, seen, n, "each once")
}

// TestWhoHasCalled: who has connected and said something when an address is left or the agent ends, and was not let in
// yet, is heard: the system has taken what it said.
func TestWhoHasCalled(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	ports := []int{freePort(t, "tcp"), freePort(t, "tcp"), freePort(t, "tcp"), freePort(t, "tcp")}
	n := 0
	for _, port := range ports {
		require.NoError(t, b.Apply(b.listens(fmt.Sprintf("socket: {listen: {address: 127.0.0.1, port: %d}}", port),
			"    format: raw\n")))
		for range 30 {
			n++
			_, err := fmt.Fprintf(dial(t, "tcp", port), "line %d\n", n)
			require.NoError(t, err)
		}
	}
	assert.Len(t, b.await1(n), n)
}

// TestPortIsHeld: a port that another program has is told with its name; when it is free, it is bound.
func TestPortIsHeld(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	require.NoError(t, b.Apply(b.listens(fmt.Sprintf("socket: {listen: {address: 127.0.0.1, port: %d}}", port), "    format: raw\n")))
	require.Eventually(t, func() bool { return b.Sources()[0].Code == "cannot-listen" }, longest, 20*time.Millisecond)
	assert.Contains(t, b.Sources()[0].Reason, fmt.Sprintf("cannot bind tcp port %d", port))
	assert.Contains(t, b.Sources()[0].Reason, "of this agent holds it")
	l.Close()
	require.Eventually(t, func() bool { return b.Sources()[0].Code == "" }, longest, 20*time.Millisecond)
	_, err = io.WriteString(dial(t, "tcp", port), "here\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"here"}, bodies(b.await1(1)))
}

// TestFloodsAndConnections: one that floods fills its own share; a newcomer finds a connection though another has them
// all.
func TestFloodsAndConnections(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "tcp")
	require.NoError(t, b.Apply(b.listens(fmt.Sprintf("socket: {listen: {address: 127.0.0.1, port: %d}, connections: 4}", port),
		"    format: raw\n")))
	first := dial(t, "tcp", port)
	_, err := io.WriteString(first, "first\n")
	require.NoError(t, err)
	b.await1(1)
	for range 3 {
		c := dial(t, "tcp", port)
		_, err := io.WriteString(c, "more\n")
		require.NoError(t, err)
	}
	b.await1(4)
	c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP("127.0.0.5")}}).Dial("tcp", fmt.Sprint("127.0.0.1:", port))
	require.NoError(t, err)
	defer c.Close()
	_, err = io.WriteString(c, "newcomer\n")
	require.NoError(t, err)
	got := b.await1(5)
	assert.Equal(t, "127.0.0.5", got[4].Sender)
	_ = first.SetReadDeadline(time.Now().Add(longest))
	_, err = first.Read(make([]byte, 1))
	assert.ErrorIs(t, err, io.EOF, "the longest silent one of who had most is closed")
	require.Eventually(t, func() bool {
		n, _ := b.Numbers()
		return n["in"].TurnedAway["connections"] == 1
	}, longest, 10*time.Millisecond)
	var _ wire.Sender
}

// TestOtherKindOfInput: a source that listened and reads files now gives its port back, and the other way round.
func TestOtherKindOfInput(t *testing.T) {
	t.Parallel()
	b := newBench(t, t.TempDir())
	defer b.Stop()
	port := freePort(t, "tcp")
	listens := b.listens(fmt.Sprintf("socket: {listen: {address: 127.0.0.1, port: %d}}", port), "    format: raw\n")
	reads := b.listens(fmt.Sprintf("files: [%q], first-read: start", filepath.Join(b.dir, "*.log")), "    format: raw\n")
	for range 3 {
		require.NoError(t, b.Apply(listens))
		dial(t, "tcp", port)
		require.NoError(t, b.Apply(reads))
		l, err := net.Listen("tcp", fmt.Sprint("127.0.0.1:", port))
		require.NoError(t, err, "the port is free")
		l.Close()
	}
	b.write("a.log", "here\n")
	assert.Equal(t, []string{"here"}, bodies(b.await1(1)))
}

// TestStopTreatsWhatCame: what a listener has taken is settled before the agent stops, and none of it is lost.
func TestStopTreatsWhatCame(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir)
	port, dead := freePort(t, "tcp"), freePort(t, "tcp")
	text := func(to string) hostconfig.Config {
		c, err := hostconfig.Read(fmt.Appendf(nil, "synaxis: 1\nhost: h\nsources:\n  - source: in\n    read: {socket: {listen: "+
			"{address: 127.0.0.1, port: %d}}}\n    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n"+
			"    deliver: {%s}\n    batch: {wait: 5ms}\n", port, to), hostconfig.Runs)
		require.NoError(t, err)
		return c
	}
	require.NoError(t, b.Apply(text(fmt.Sprintf("http: {url: \"http://127.0.0.1:%d/\"}", dead))))
	conn := dial(t, "tcp", port)
	const n = 50_000
	var all bytes.Buffer
	for i := range n {
		fmt.Fprintf(&all, "line %d of many that come at once\n", i)
	}
	_, err := conn.Write(all.Bytes())
	require.NoError(t, err)
	b.Stop()
	again := newBench(t, dir)
	defer again.Stop()
	require.NoError(t, again.Apply(text(fmt.Sprintf("file: {path: %q}", filepath.Join(dir, "out")))))
	require.Eventually(t, func() bool { return len(again.arrived()) == n }, longest, 20*time.Millisecond,
		"what was written to the connection is there")
}
