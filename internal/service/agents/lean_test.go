package agents

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEarlyFrames: frames that come together with the request for a connection are read like any other, of any length
// about that of the buffers, and those that come after them too.
func TestEarlyFrames(t *testing.T) {
	t.Parallel()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ws, err := websocket.Accept(lean{w}, r, nil)
		if err != nil {
			return
		}
		defer ws.CloseNow()
		for {
			kind, text, err := ws.Read(r.Context())
			if err != nil || ws.Write(r.Context(), kind, fmt.Appendf(nil, "%d", len(text))) != nil {
				return
			}
		}
	}))
	defer s.Close()
	frame := func(n int) []byte { // RFC 6455, masked by zeros
		head := []byte{0x82, 0x80 | byte(n)}
		if n > 125 {
			head = []byte{0x82, 0x80 | 126, byte(n >> 8), byte(n)}
		}
		return append(append(head, 0, 0, 0, 0), make([]byte, n)...)
	}
	for _, n := range []int{0, 1, 100, 490, 505, 506, 507, 511, 512, 513, 600, 2000, 4000, 5000, 30000} {
		conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(time.Minute)))
		_, err = conn.Write(append([]byte("GET / HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"+
			"Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"), frame(n)...))
		require.NoError(t, err)
		in := bufio.NewReader(conn)
		resp, err := http.ReadResponse(in, nil)
		require.NoError(t, err)
		require.Equal(t, http.StatusSwitchingProtocols, resp.StatusCode)
		said := func() string {
			head := make([]byte, 2)
			_, err := io.ReadFull(in, head)
			require.NoError(t, err)
			text := make([]byte, head[1])
			_, err = io.ReadFull(in, text)
			require.NoError(t, err)
			return string(text)
		}
		assert.Equal(t, fmt.Sprint(n), said())
		_, err = conn.Write(frame(7))
		require.NoError(t, err)
		assert.Equal(t, "7", said())
		conn.Close()
	}
}
