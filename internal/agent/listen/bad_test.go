package listen

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	"golang.org/x/sys/unix"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/agent/input"
	"synaxis/internal/core/framing"
	"synaxis/internal/core/pipeline"
)

// bounded is how long a message of the servers of these tests may be.
const bounded = 4096

// served is a server of a kind whose messages are kept, by who sent them, and settled at once.
type served struct {
	*server
	mu   sync.Mutex
	took map[netip.Addr][]string
	done chan struct{}
}

func serving(t testing.TB, l pipeline.Listener) *served {
	l.Address, l.Path = "127.0.0.1", "/"
	if l.Connections == 0 {
		l.Connections = 100
	}
	in := &Input{Parts: input.Parts{Spec: pipeline.Source{Listen: &l}, Now: time.Now}, inbox: newInbox(),
		peers: newPeers(), rules: &rules{listener: &l, limit: bounded, senders: l.Known()}}
	s := &served{server: newServer(in), took: map[netip.Addr][]string{}, done: make(chan struct{})}
	go func() {
		defer close(s.done)
		for {
			p := in.inbox.take(s.ctx)
			if p == nil {
				return
			}
			s.mu.Lock()
			for _, m := range p.messages {
				s.took[p.peer.addr] = append(s.took[p.peer.addr], string(p.arena[m.Text.Off:m.Text.Off+m.Text.Len]))
			}
			s.mu.Unlock()
			if p.done != nil {
				p.done()
			}
		}
	}()
	t.Cleanup(func() {
		s.close()
		<-s.done
	})
	return s
}

// messagesOf are what was taken from an address, when nothing waits any more.
func (s *served) messagesOf(a netip.Addr) []string {
	inbox := s.in.Load().inbox
	for {
		if n, _ := inbox.waits(); n == 0 {
			break
		}
		time.Sleep(time.Millisecond)
	}
	last := make(chan struct{}) // when it has come through, what was taken before it is kept
	if inbox.deliver(&parcel{peer: &peer{}, done: func() { close(last) }}) {
		<-last
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.took[a]...)
}

// connect serves one end of a connection that is not of the system, and answers the other.
func (s *served) connect(from netip.Addr) (other net.Conn, ended chan struct{}) {
	here, there := net.Pipe()
	c := &conn{Conn: here, addr: from, since: time.Now()}
	s.server.mu.Lock()
	s.conns[c] = true
	s.server.mu.Unlock()
	ended = make(chan struct{})
	s.work.Go(func() {
		defer close(ended)
		s.serve(c)
	})
	return there, ended
}

// wanted are the messages of a connection by the cutter alone, which gets everything at once.
func wanted(kind framing.Kind, data []byte) (out []string) {
	c := framing.New(kind, bounded)
	for len(data) > 0 {
		p, ok, err := c.Next(data, true)
		if err != nil || !ok {
			break
		}
		if p.Body > 0 {
			out = append(out, string(data[p.Skip:p.Skip+p.Body]))
		}
		data = data[p.Size:]
	}
	return out
}

// FuzzStreams: two senders whose bytes come in pieces and in turns give the messages that each sent, and none of the
// other, whatever they send.
func FuzzStreams(f *testing.F) {
	f.Add([]byte("<13>one\n7 <13>two<14>three\n"), []byte("x\x00y\n\n12 abc"), byte(0), byte(3))
	f.Add([]byte("5 hello99999999999 x"), []byte("0 \n1 2"), byte(1), byte(1))
	f.Add(bytes.Repeat([]byte("long "), 3000), []byte("4 a\nb\n"), byte(2), byte(200))
	f.Add([]byte("\r\n\r\n\x00\x00"), []byte(strings.Repeat("y", bounded)+"\n"), byte(3), byte(17))
	kinds := []framing.Kind{framing.Syslog, framing.Newline, framing.Null, framing.OctetCount}
	f.Fuzz(func(t *testing.T, one, two []byte, kind, piece byte) {
		one, two = one[:min(len(one), 3*bounded)], two[:min(len(two), 3*bounded)]
		k := kinds[int(kind)%len(kinds)]
		s := serving(t, pipeline.Listener{Kind: "socket", Transport: "tcp", Framing: k})
		a, b := netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("198.51.100.2")
		var all sync.WaitGroup
		for from, data := range map[netip.Addr][]byte{a: one, b: two} {
			c, ended := s.connect(from)
			all.Go(func() {
				for n := max(1, int(piece)); len(data) > 0; {
					n = min(n, len(data))
					if _, err := c.Write(data[:n]); err != nil {
						break // it was cut
					}
					data = data[n:]
				}
				c.Close()
				<-ended
			})
		}
		all.Wait()
		assert.Equal(t, wanted(k, one), s.messagesOf(a))
		assert.Equal(t, wanted(k, two), s.messagesOf(b))
	})
}

// FuzzDatagrams: datagrams of two senders in any order give the messages that each sent.
func FuzzDatagrams(f *testing.F) {
	f.Add([]byte("<13>one|two\nthree|\x00|4 four"), uint16(0b1010), byte(0))
	f.Add([]byte("7 <13>two|7 <13>t|99999999999 x"), uint16(0b11), byte(3))
	kinds := []framing.Kind{framing.Packet, framing.Newline, framing.Null, framing.OctetCount}
	f.Fuzz(func(t *testing.T, text []byte, who uint16, kind byte) {
		k := kinds[int(kind)%len(kinds)]
		s := serving(t, pipeline.Listener{Kind: "socket", Transport: "udp", Framing: k})
		senders := []netip.AddrPort{netip.MustParseAddrPort("198.51.100.1:5"), netip.MustParseAddrPort("198.51.100.2:6")}
		want := map[netip.Addr][]string{}
		var got []packet
		for i, data := range bytes.Split(text, []byte("|")) {
			if i == atOnce {
				break
			}
			from := senders[who>>(i%16)&1]
			got = append(got, packet{from, data})
			if k == framing.Packet {
				if n := min(len(data), bounded); n > 0 {
					want[from.Addr()] = append(want[from.Addr()], string(data[:n]))
				}
				continue
			}
			want[from.Addr()] = append(want[from.Addr()], wanted(k, data)...)
		}
		s.server.take(s.in.Load(), got, time.Now())
		for _, from := range senders {
			have := []string{}
			for _, m := range s.messagesOf(from.Addr()) {
				if m != "" { // an empty datagram is a blank record
					have = append(have, m)
				}
			}
			assert.ElementsMatch(t, want[from.Addr()], have)
			assert.Equal(t, strings.Join(want[from.Addr()], "|"), strings.Join(have, "|"), "in order")
		}
	})
}

// inBody is what a body holds by other readers than ours: the records, and whether it can be read at all.
func inBody(kind, contentType string, body []byte) (n int, ok bool) {
	if kind == "otlp" {
		var req collogs.ExportLogsServiceRequest
		err := proto.Unmarshal(body, &req)
		if contentType == "application/json" {
			err = protojson.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(body, &req)
		}
		for _, r := range req.ResourceLogs {
			for _, s := range r.GetScopeLogs() {
				n += len(s.GetLogRecords())
			}
		}
		return n, err == nil
	}
	if contentType == "text/plain" {
		for _, line := range bytes.Split(body, []byte("\n")) {
			if len(bytes.TrimRight(line, "\r")) > 0 {
				n++
			}
		}
		return n, true
	}
	var list []json.RawMessage
	text := bytes.Trim(body, " \t\r\n")
	if len(text) > 0 && text[0] == '[' {
		err := json.Unmarshal(body, &list)
		return len(list), err == nil
	}
	for d := json.NewDecoder(bytes.NewReader(body)); ; n++ {
		var value any
		if err := d.Decode(&value); errors.Is(err, io.EOF) {
			return n, true
		} else if err != nil {
			return 0, false
		}
	}
}

// FuzzBodies: a request is answered well when its body can be read, and then all of its records are there; else in
// words, and nothing of it is.
func FuzzBodies(f *testing.F) {
	packed, err := proto.Marshal(&collogs.ExportLogsServiceRequest{ResourceLogs: []*logs.ResourceLogs{{
		ScopeLogs: []*logs.ScopeLogs{{LogRecords: []*logs.LogRecord{{TimeUnixNano: 1, Body: &common.AnyValue{
			Value: &common.AnyValue_StringValue{StringValue: "x"}}}, {}}}}}}})
	require.NoError(f, err)
	for i := range byte(4) {
		f.Add([]byte(`[{"n":1},{"n":[2]}]`), i, byte(0))
		f.Add([]byte("{\"n\":1}\n{\"n\":2}\r\n\n"), i, byte(1))
		f.Add([]byte(`{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"x"}},{}]}]}]}`), i,
			byte(2))
		f.Add(packed, i, byte(2))
		f.Add([]byte(`[{"n":1}`), i, byte(0))
		f.Add([]byte("\x1f\x8b\x08 no gzip"), i, byte(3))
		f.Add([]byte("[1] [2]"), i, byte(0))
	}
	types := []struct{ kind, contentType string }{{"http", "application/json"}, {"http", "text/plain"},
		{"otlp", "application/x-protobuf"}, {"otlp", "application/json"}}
	z, err := zstd.NewWriter(nil)
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, body []byte, kind, pack byte) {
		x := types[int(kind)%len(types)]
		s := serving(t, pipeline.Listener{Kind: x.kind, Transport: "tcp"})
		wire, encoding, torn := body, "", false
		switch pack % 4 {
		case 1:
			var b bytes.Buffer
			w := gzip.NewWriter(&b)
			_, _ = w.Write(body)
			w.Close()
			wire, encoding = b.Bytes(), "gzip"
		case 2:
			wire, encoding = z.EncodeAll(body, nil), "zstd"
		case 3:
			encoding = "gzip" // which it may be, or not
			r, err := gzip.NewReader(bytes.NewReader(body))
			if torn = err != nil; err == nil {
				body, err = io.ReadAll(io.LimitReader(r, mostBody+1))
				torn = err != nil || len(body) > mostBody
			}
		}
		path := "/"
		if x.kind == "otlp" {
			path = logsPath
		}
		r := httptest.NewRequest(http.MethodPost, path, bytes.NewReader(wire))
		r.Header.Set("Content-Type", x.contentType)
		r.Header.Set("Content-Encoding", encoding)
		w := httptest.NewRecorder()
		s.request(w, r)
		n, ok := inBody(x.kind, x.contentType, body)
		from, _, _ := net.SplitHostPort(r.RemoteAddr)
		have := len(s.messagesOf(netip.MustParseAddr(from)))
		switch {
		case torn || !ok:
			assert.Contains(t, []int{http.StatusBadRequest, http.StatusRequestEntityTooLarge}, w.Code, w.Body.String())
			assert.NotEmpty(t, w.Body.String())
			assert.Zero(t, have, "nothing of it is taken")
		case w.Code/100 == 2:
			assert.Equal(t, n, have)
		default:
			assert.Equal(t, http.StatusRequestEntityTooLarge, w.Code, "%s", w.Body.String())
			assert.Zero(t, have)
		}
	})
}

// TestSlowConnections: connections that are slow, silent or without end, each by itself, in virtual time: what they
// sent is taken when it is due, and they are cut when they must be.
func TestSlowConnections(t *testing.T) {
	t.Parallel()
	from := netip.MustParseAddr("198.51.100.1")
	every := func(c net.Conn, text string, pause time.Duration, n int) (cut bool) {
		for range n {
			if _, err := io.WriteString(c, text); err != nil {
				return true
			}
			time.Sleep(pause)
		}
		return false
	}
	for name, x := range map[string]struct {
		kind framing.Kind
		run  func(t *testing.T, s *served, c net.Conn, ended chan struct{})
	}{
		"one that says nothing for a day stays, and is heard then": {framing.Newline,
			func(t *testing.T, s *served, c net.Conn, _ chan struct{}) {
				time.Sleep(24 * time.Hour)
				_, err := io.WriteString(c, "here\n")
				require.NoError(t, err)
				synctest.Wait()
				assert.Equal(t, []string{"here"}, s.messagesOf(from))
			}},
		"a message without its end is one after a while": {framing.Newline,
			func(t *testing.T, s *served, c net.Conn, _ chan struct{}) {
				_, err := io.WriteString(c, "no end")
				require.NoError(t, err)
				time.Sleep(unfinished - time.Millisecond)
				assert.Empty(t, s.messagesOf(from))
				time.Sleep(2 * time.Millisecond)
				synctest.Wait()
				assert.Equal(t, []string{"no end"}, s.messagesOf(from))
			}},
		"one that sends a byte now and then sends one message": {framing.Newline,
			func(t *testing.T, s *served, c net.Conn, _ chan struct{}) {
				assert.False(t, every(c, "x", 4*time.Second, 50))
				_, err := io.WriteString(c, "\n")
				require.NoError(t, err)
				synctest.Wait()
				assert.Equal(t, []string{strings.Repeat("x", 50)}, s.messagesOf(from))
			}},
		"a message without end is given in pieces": {framing.Null,
			func(t *testing.T, s *served, c net.Conn, _ chan struct{}) {
				assert.False(t, every(c, strings.Repeat("x", 1000), time.Second, 20))
				synctest.Wait()
				got := s.messagesOf(from)
				assert.Len(t, got, 20_000/bounded)
				for _, m := range got {
					assert.Len(t, m, bounded)
				}
			}},
		"a message of known length that stays away is cut after a minute": {framing.OctetCount,
			func(t *testing.T, s *served, c net.Conn, ended chan struct{}) {
				_, err := io.WriteString(c, "1000 only this")
				require.NoError(t, err)
				time.Sleep(patient - 10*time.Second)
				assert.Empty(t, s.messagesOf(from), "it is waited for")
				time.Sleep(20 * time.Second)
				<-ended
				assert.Equal(t, []string{"only this"}, s.messagesOf(from), "what came of it is kept")
			}},
		"a length that is none is cut at once": {framing.OctetCount,
			func(t *testing.T, s *served, c net.Conn, ended chan struct{}) {
				_, err := io.WriteString(c, "3 one99999999999 two")
				require.NoError(t, err)
				<-ended
				assert.Equal(t, []string{"one"}, s.messagesOf(from))
				_, turned := s.in.Load().peers.counted()
				assert.Equal(t, map[string]int64{badFraming: 1}, turned)
			}},
		"one whose other side closes in the middle is heard to there": {framing.Syslog,
			func(t *testing.T, s *served, c net.Conn, ended chan struct{}) {
				_, err := io.WriteString(c, "<13>one\n<13>tw")
				require.NoError(t, err)
				c.Close()
				<-ended
				assert.Equal(t, []string{"<13>one", "<13>tw"}, s.messagesOf(from))
			}},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := serving(t, pipeline.Listener{Kind: "socket", Transport: "tcp", Framing: x.kind})
				c, ended := s.connect(from)
				x.run(t, s, c, ended)
				c.Close()
				<-ended
			})
		})
	}
}

// pipes is a listener of connections that are not of the system.
type pipes struct {
	come chan net.Conn
	once sync.Once
}

func (p *pipes) Accept() (net.Conn, error) {
	c, ok := <-p.come
	if !ok {
		return nil, net.ErrClosed
	}
	return c, nil
}
func (p *pipes) Close() error   { p.once.Do(func() { close(p.come) }); return nil }
func (p *pipes) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 1} }

// addressed is a connection with an address, which a pipe has none of.
type addressed struct{ net.Conn }

func (addressed) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.IPv4(198, 51, 100, 1), Port: 9} }

// TestSlowRequests: heads, bodies, handshakes and idle connections of HTTP that are slow or have no end are cut in
// time, and nothing of them is taken.
func TestSlowRequests(t *testing.T) {
	t.Parallel()
	const head = "POST / HTTP/1.1\r\nHost: x\r\nContent-Type: text/plain\r\n"
	for name, x := range map[string]struct {
		first, then string        // at first, and then every two seconds
		within      time.Duration // it is cut, or answered
		answer      string
	}{
		"nothing at all":        {"", "", headerFor, ""},
		"half a head":           {"POST / HT", "", headerFor, "400"},
		"a head without end":    {head, "X-More: y\r\n", headerFor, ""},
		"a body that stays out": {head + "Content-Length: 100\r\n\r\nsome", "", bodyFor, "400"},
		"a body byte by byte":   {head + "Content-Length: 1000\r\n\r\n", "x", bodyFor, "400"},
		"pieces without end":    {head + "Transfer-Encoding: chunked\r\n\r\n", "1\r\nx\r\n", bodyFor, "400"},
		"a wrong length":        {head + "Content-Length: -5\r\n\r\nsome", "", time.Second, "400"},
		"two lengths":           {head + "Content-Length: 5\r\nContent-Length: 6\r\n\r\nsome", "", time.Second, "400"},
		"a large head":          {head + "X: " + strings.Repeat("y", 100<<10) + "\r\n\r\n", "", headerFor, "431"},
		"no HTTP":               {"<13>Apr  2 06:15:09 gate a message of syslog\n\n", "", headerFor, "400"},
		"silence after one":     {head + "Content-Length: 0\r\n\r\n", "", idleFor, "204"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s := serving(t, pipeline.Listener{Kind: "http", Transport: "tcp"})
				p := &pipes{come: make(chan net.Conn)}
				bound := s.serveHTTP(p)
				defer bound()
				here, there := net.Pipe()
				defer there.Close()
				p.come <- addressed{here}
				began := time.Now()
				var writer sync.WaitGroup
				writer.Go(func() {
					_, err := io.WriteString(there, x.first)
					for err == nil && x.then != "" {
						time.Sleep(2 * time.Second)
						_, err = io.WriteString(there, x.then)
					}
				})
				said, _ := io.ReadAll(there)
				took := time.Since(began)
				there.Close()
				writer.Wait()
				assert.LessOrEqual(t, took, x.within+2*time.Second)
				if x.answer == "" {
					assert.Empty(t, string(said))
				} else {
					assert.Contains(t, string(said), "HTTP/1.1 "+x.answer)
				}
				assert.Empty(t, s.messagesOf(netip.MustParseAddr("198.51.100.1")))
				s.server.mu.Lock()
				left := len(s.conns)
				s.server.mu.Unlock()
				assert.Zero(t, left, "nothing is left of it")
			})
		})
	}
}

// TestEndlessConnections: many connections that never end are bounded, and one of another address finds a place.
func TestEndlessConnections(t *testing.T) {
	t.Parallel()
	s := serving(t, pipeline.Listener{Kind: "socket", Transport: "tcp", Framing: framing.Newline, Connections: 20})
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.server.mu.Lock()
	s.bound = func() { l.Close() }
	s.server.mu.Unlock()
	s.work.Go(func() { s.accept(l) })
	for range 300 {
		c, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		defer c.Close()
		_, _ = io.WriteString(c, "never ends")
	}
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 7)}}
	other, err := d.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer other.Close()
	_, err = io.WriteString(other, "a message\n")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(s.messagesOf(netip.MustParseAddr("127.0.0.7"))) == 1 },
		10*time.Second,
		10*time.Millisecond)
	s.server.mu.Lock()
	have := len(s.conns)
	for c := range s.conns { // so that one whose other side is gone without a word ends some day
		raw, err := c.Conn.(*net.TCPConn).SyscallConn()
		require.NoError(t, err)
		require.NoError(t, raw.Control(func(fd uintptr) {
			on, err := unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_KEEPALIVE)
			assert.True(t, err == nil && on == 1)
			idle, err := unix.GetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_KEEPIDLE)
			assert.True(t, err == nil && idle == int(keepAlive.Seconds()))
		}))
	}
	s.server.mu.Unlock()
	assert.LessOrEqual(t, have, 20)
	_, turned := s.in.Load().peers.counted()
	assert.Equal(t, fmt.Sprint(301-20), fmt.Sprint(turned[tooMany]))
}
