package service

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSlowBodies: a body that does not come is cut, also when nobody reads it; one that comes, and an answer that
// lasts, are not.
func TestSlowBodies(t *testing.T) {
	t.Parallel()
	const patience = 300 * time.Millisecond
	mux := http.NewServeMux()
	mux.HandleFunc("POST /read", func(w http.ResponseWriter, r *http.Request) {
		text, err := io.ReadAll(r.Body)
		if err != nil {
			http.Error(w, "cut", http.StatusRequestTimeout)
			return
		}
		select { // work that lasts, once the body is there
		case <-r.Context().Done():
			return
		case <-time.After(3 * patience):
		}
		fmt.Fprintf(w, "%d bytes", len(text))
	})
	mux.HandleFunc(
		"POST /ignore",
		func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) },
	)
	mux.HandleFunc("GET /lasts", func(w http.ResponseWriter, r *http.Request) {
		for range 4 {
			select {
			case <-r.Context().Done():
				return
			case <-time.After(patience):
			}
			fmt.Fprint(w, ".")
			_ = http.NewResponseController(w).Flush()
		}
	})
	server := httptest.NewServer(pacedAt(mux, patience))
	t.Cleanup(server.Close)

	raw := func(path string, pieces int) string {
		c, err := net.Dial("tcp", server.Listener.Addr().String())
		require.NoError(t, err)
		defer c.Close()
		require.NoError(t, c.SetDeadline(time.Now().Add(10*time.Second)))
		_, err = fmt.Fprintf(c, "POST %s HTTP/1.1\r\nHost: x\r\nContent-Length: 1000\r\n\r\n", path)
		require.NoError(t, err)
		go func() {
			for range pieces {
				if _, err := c.Write([]byte("x")); err != nil {
					return
				}
				time.Sleep(patience / 3)
			}
		}()
		text, err := io.ReadAll(c)
		if errors.Is(err, syscall.ECONNRESET) && pieces > 0 { // it was closed while we wrote
			return "reset"
		}
		require.NoError(t, err, "the connection is closed from the other side")
		return string(text)
	}
	for path, want := range map[string]string{"/read": "408", "/ignore": "401"} {
		began := time.Now()
		assert.Contains(t, raw(path, 0), want, "nothing comes")
		assert.Regexp(t, want+"|reset", raw(path, 100), "a byte now and then")
		assert.Less(t, time.Since(began), 10*patience)
	}
	resp, err := http.Post(server.URL+"/read", "text/plain", strings.NewReader(strings.Repeat("x", 1<<20)))
	require.NoError(t, err)
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, "1048576 bytes", string(text))
	resp, err = http.Get(server.URL + "/lasts")
	require.NoError(t, err)
	text, err = io.ReadAll(resp.Body)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, "....", string(text))
}
