package test

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

// TestBodiesAtTheirBounds: every body at its bound, and one byte above; and what is packed small and grows large takes
// little memory.
func TestBodiesAtTheirBounds(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	token := d.joinToken(1, nil)
	p := newPoller(t, d, token)
	p.join(description("synaxis-agent", "h"))
	_, status := p.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "h")})
	require.Equal(t, http.StatusOK, status)
	_, code := d.cliIn("x\n", "secret", "set", "door")
	require.Zero(t, code)
	grant := get[contract.CreatedGrant](
		t,
		first(d.api.GrantSecret(context.Background(), "door", contract.NewGrant{To: "Ines"})),
		nil,
	).Token
	post := func(method, path, bearer, encoding string, body []byte) int {
		req, err := http.NewRequest(method, d.url+path, bytes.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+bearer)
		req.Header.Set("Content-Type", "application/json")
		if encoding != "" {
			req.Header.Set("Content-Encoding", encoding)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		return resp.StatusCode
	}
	packed := func(b []byte) []byte {
		var out bytes.Buffer
		z := gzip.NewWriter(&out)
		_, err := z.Write(b)
		require.NoError(t, err)
		require.NoError(t, z.Close())
		return out.Bytes()
	}
	json := func(n int) []byte { return []byte(`{"token":"` + strings.Repeat("x", n-12) + `"}`) }
	unknown := func(n int) []byte { // a field that nobody knows, of n bytes in all
		out := protowire.AppendTag(nil, 999, protowire.BytesType)
		size := n - len(out) - 4
		for len(out)+protowire.SizeBytes(size) < n {
			size++
		}
		return protowire.AppendBytes(out, make([]byte, size))
	}
	before := d.peakMemory()
	for _, path := range []string{"/v1/metrics", "/v1/opamp"} {
		for range 20 {
			assert.Equal(
				t,
				http.StatusRequestEntityTooLarge,
				post("POST", path, p.bearer, "gzip", packed(bytes.Repeat([]byte{0x0a, 0x00}, 8<<20))),
				path,
			)
		}
		for range 20 {
			assert.Equal(
				t,
				http.StatusRequestEntityTooLarge,
				post("POST", path, p.bearer, "gzip", packed(bytes.Repeat([]byte{0x1a, 0x00, 0x0a, 0x00}, 250_000))),
				path,
			)
		}
	}
	t.Logf("%d MiB of memory at the peak before, %d after", before>>20, d.peakMemory()>>20)
	assert.Less(t, d.peakMemory()-before, int64(64<<20))
	for _, c := range []struct {
		method, path, bearer string
		most, within         int
		body                 func(int) []byte
	}{
		{"POST", "/api/v1/session", "", 4 << 10, http.StatusUnauthorized, json},
		{"PUT", "/api/v1/secrets/door", grant, 1 << 20, http.StatusForbidden, json},
		{"POST", "/api/v1/drafts", d.token, 64 << 20, http.StatusCreated, json},
		{"POST", "/v1/metrics", p.bearer, wire.MaxMetrics, http.StatusOK, unknown},
		{"POST", "/v1/opamp", p.bearer, wire.MaxPoll, http.StatusUnauthorized, unknown}, // it has no instance_uid
	} {
		assert.Equal(
			t,
			c.within,
			post(c.method, c.path, c.bearer, "", c.body(c.most)),
			"%s with as much as there may be",
			c.path,
		)
		assert.Equal(
			t,
			http.StatusRequestEntityTooLarge,
			post(c.method, c.path, c.bearer, "", c.body(c.most+1)),
			"%s with one byte more",
			c.path,
		)
		if strings.HasPrefix(c.path, "/v1/") {
			assert.Equal(
				t,
				c.within,
				post(c.method, c.path, c.bearer, "gzip", packed(c.body(c.most))),
				"%s, packed",
				c.path,
			)
			assert.Equal(
				t,
				http.StatusRequestEntityTooLarge,
				post(c.method, c.path, c.bearer, "gzip", packed(c.body(c.most+1))),
				"%s, packed, one byte more",
				c.path,
			)
		}
	}
}

// peakMemory is the most memory that the service had in use, in bytes.
func (d *desk) peakMemory() int64 {
	d.t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", d.cmd.Process.Pid))
	require.NoError(d.t, err)
	_, rest, ok := strings.Cut(string(text), "VmHWM:")
	require.True(d.t, ok)
	n, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
	require.NoError(d.t, err)
	return n << 10
}

// TestFewAtOnce: what one credential asks for at once is bounded, and those that wait are told so.
func TestFewAtOnce(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	p := newPoller(t, d, d.joinToken(1, nil))
	p.join(description("synaxis-agent", "h"))
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	whole := func() int {
		req, err := http.NewRequest(http.MethodPost, d.url+"/v1/metrics", strings.NewReader(""))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+p.bearer)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		return resp.StatusCode
	}
	begin := func() string {
		c, err := net.Dial("tcp", strings.TrimPrefix(d.url, "http://"))
		require.NoError(t, err)
		open = append(open, c)
		_, err = fmt.Fprintf(
			c,
			"POST /v1/metrics HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Length: 100\r\n\r\n",
			p.bearer,
		)
		require.NoError(t, err)
		_ = c.SetReadDeadline(time.Now().Add(500 * time.Millisecond))
		line, _ := bufio.NewReader(c).ReadString('\n')
		return line
	}
	for range 4 {
		assert.Equal(t, http.StatusOK, whole())
		assert.Empty(t, begin(), "it waits for the body")
	}
	assert.Equal(t, http.StatusTooManyRequests, whole())
	open[0].Close()
	eventually(t, 5*time.Second, "a place", func() bool { return whole() == http.StatusOK })
	for range 8 {
		ws, _, err := websocket.Dial(
			context.Background(),
			strings.Replace(d.url, "http", "ws", 1)+"/v1/opamp",
			&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + p.bearer}}},
		)
		require.NoError(t, err)
		defer ws.CloseNow()
	}
	_, resp, err := websocket.Dial(
		context.Background(),
		strings.Replace(d.url, "http", "ws", 1)+"/v1/opamp",
		&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + p.bearer}}},
	)
	require.Error(t, err)
	assert.Equal(t, http.StatusTooManyRequests, resp.StatusCode)
}

// TestOneAgentFillsNothing: one agent makes one newcomer, a token few from one address, and what is reported has
// bounds.
func TestOneAgentFillsNothing(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	p := newPoller(t, d, d.hostToken("h"))
	p.join(description("synaxis-agent", "h"))
	_, status := p.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "h")})
	require.Equal(t, http.StatusOK, status)
	newcomers := func() []contract.Newcomer {
		return get[contract.NewcomerList](t, first(d.api.ListNewcomers(ctx)), nil).Items
	}
	for i := range 60 {
		other := *p
		other.send(
			&protobufs.AgentToServer{
				AgentDescription: &protobufs.AgentDescription{
					NonIdentifyingAttributes: []*protobufs.KeyValue{
						kv("host.id", fmt.Sprint("machine ", i)),
						kv("host.name", strings.Repeat("<b>\x1b[2J", 400)),
					},
				},
			},
		)
	}
	list := newcomers()
	require.Len(t, list, 1)
	assert.LessOrEqual(t, len(*list[0].Name), 256)
	assert.NotContains(t, *list[0].Name, "\x1b")
	token := d.joinToken(0, nil)
	for range 60 {
		other := newPoller(t, d, token)
		_, status := other.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "h")})
		assert.Equal(t, http.StatusUnauthorized, status)
	}
	assert.LessOrEqual(t, len(newcomers()), 21)

	health := &protobufs.ComponentHealth{
		ComponentHealthMap: map[string]*protobufs.ComponentHealth{
			"source/" + strings.Repeat("n", 2000): {},
			"source/<script>":                     {},
			"../../etc":                           {},
		},
	}
	numbers := map[string]wire.Numbers{
		"../x":                    {Read: 1},
		"${secret.door@1}":        {Read: 1},
		strings.Repeat("n", 2000): {Read: 1},
	}
	for i := range 6000 {
		health.ComponentHealthMap[fmt.Sprintf("source/s%05d", i)] = &protobufs.ComponentHealth{
			Status:    "bad\x1b",
			LastError: strings.Repeat("why\x07\n", 2000),
		}
		numbers[fmt.Sprintf("s%05d", i)] = wire.Numbers{
			Read:       int64(i),
			Drops:      map[string]int64{"\x1b[31m": 1, "keep": 2},
			Deliveries: map[string]wire.DeliveryCounts{"a b": {}, "out": {Acknowledged: 1}},
		}
	}
	for name, h := range health.ComponentHealthMap { // within the bound of a message
		if len(h.LastError) > 0 && name > "source/s00100" {
			h.LastError = "why\x07"
		}
	}
	_, status = p.send(&protobufs.AgentToServer{Health: health})
	require.Equal(t, http.StatusOK, status)
	for from := range 3 { // as many reports as that takes
		some := map[string]wire.Numbers{}
		for name, n := range numbers {
			if len(name)%3 == from || len(name) == 6 && int(name[5])%3 == from {
				some[name] = n
			}
		}
		body, err := proto.Marshal(wire.EncodeNumbers("h", time.Now(), time.Now(), some))
		require.NoError(t, err)
		req, err := http.NewRequest(http.MethodPost, d.url+"/v1/metrics", bytes.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+p.bearer)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Contains(t, []int{http.StatusOK, http.StatusRequestEntityTooLarge}, resp.StatusCode)
	}
	h := d.host("h")
	assert.LessOrEqual(t, len(h.Sources), 6000)
	for _, s := range h.Sources {
		assert.Regexp(t, `^[a-z0-9._-]{1,63}$`, s.Name)
	}
	out, code := d.cli("host", "show", "h")
	assert.Zero(t, code)
	assert.False(t, strings.ContainsAny(out, "\x1b\x07"), "nothing of it reaches the terminal raw")
}

// TestFrameAtItsBound: a message over a WebSocket at its bound is read, one byte above ends the connection, and one of
// many small parts is refused.
func TestFrameAtItsBound(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	p := newPoller(t, d, d.joinToken(1, nil))
	p.join(description("synaxis-agent", "h"))
	answer := func(frame []byte) (string, error) {
		ws, _, err := websocket.Dial(
			ctx,
			strings.Replace(d.url, "http", "ws", 1)+"/v1/opamp",
			&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + p.bearer}}},
		)
		require.NoError(t, err)
		defer ws.CloseNow()
		_ = ws.Write(ctx, websocket.MessageBinary, frame) // who is cut off may learn it while writing
		_, text, err := ws.Read(ctx)
		if err != nil {
			return "", err
		}
		m := &protobufs.ServerToAgent{}
		require.NoError(t, wire.Unmarshal(text, m))
		return m.GetErrorResponse().GetErrorMessage(), nil
	}
	field := protowire.AppendTag([]byte{0}, 999, protowire.BytesType) // a frame begins with a zero
	at := func(n int) []byte {
		return protowire.AppendBytes(field[:len(field):len(field)], make([]byte, n-len(field)-4))
	}
	require.Len(t, at(wire.MaxMessage), wire.MaxMessage)
	said, err := answer(at(wire.MaxMessage))
	require.NoError(t, err)
	assert.Contains(t, said, "instance_uid", "it is read")
	_, err = answer(at(wire.MaxMessage + 1))
	assert.Error(t, err)
	said, err = answer(append([]byte{0}, bytes.Repeat([]byte{0x1a, 0x00}, 200_000)...))
	require.NoError(t, err)
	assert.Contains(t, said, "no OpAMP")
}
