package listen

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/agent/input"
	"synaxis/internal/core/pipeline"
)

// nobody is a server for HTTP whose records nobody treats.
func nobody(t *testing.T) *server {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(l.Addr().String())
	l.Close()
	spec := &pipeline.Listener{Kind: "http", Transport: "tcp", Address: "127.0.0.1", Port: port, Path: "/",
		Connections: 10}
	in := &Input{Parts: input.Parts{Spec: pipeline.Source{Listen: spec}, Now: time.Now}, inbox: newInbox(),
		peers: newPeers(), rules: &rules{listener: spec, limit: 1 << 20}}
	s := newServer(in)
	t.Cleanup(s.close)
	return s
}

// push sends a line to a server, and answers what becomes of the request.
func (s *server) push() <-chan string {
	said := make(chan string, 1)
	go func() {
		c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
		resp, err := c.Post(fmt.Sprintf("http://127.0.0.1:%s/", s.listener.Port), "text/plain", strings.NewReader("a line\n"))
		if err != nil {
			said <- "cut: " + err.Error()
			return
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		said <- fmt.Sprint(resp.StatusCode, " ", string(text))
	}()
	return said
}

// TestUnsettledIsNeverAnsweredWell: a caller is told that its records are settled only when they are, whatever ends
// the wait: its own connection, the server, or an address that is left.
func TestUnsettledIsNeverAnsweredWell(t *testing.T) {
	t.Parallel()
	t.Run("its request ends", func(t *testing.T) {
		t.Parallel()
		s := nobody(t)
		ctx, cancel := context.WithCancel(context.Background())
		r := httptest.NewRequest(http.MethodPost, "/", strings.NewReader("a line\n")).WithContext(ctx)
		w := httptest.NewRecorder()
		time.AfterFunc(50*time.Millisecond, cancel)
		s.request(w, r)
		assert.Equal(t, http.StatusServiceUnavailable, w.Code)
		bytes, _ := s.in.Load().inbox.waits()
		assert.Positive(t, bytes, "it was taken, and waits")
	})
	for name, end := range map[string]func(*server){
		"the server closes": func(s *server) { s.close() },
		"the address is left": func(s *server) {
			s.retire()
			time.Sleep(200 * time.Millisecond)
			s.close()
		},
		"the agent ends": func(s *server) {
			ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
			defer cancel()
			s.drain(ctx)
			s.close()
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := nobody(t)
			s.start()
			said := s.push()
			require.Eventually(t, func() bool { n, _ := s.in.Load().inbox.waits(); return n > 0 }, 10*time.Second,
				time.Millisecond)
			end(s)
			select {
			case got := <-said:
				assert.Regexp(t, "^(503 |cut: )", got)
			case <-time.After(10 * time.Second):
				t.Fatal("nothing is answered")
			}
		})
	}
}

// TestRequestsGoOn: a request that is at work when the address is left, or the agent ends, is answered when its
// records are settled.
func TestRequestsGoOn(t *testing.T) {
	t.Parallel()
	for name, end := range map[string]func(*server){
		"the address is left": func(s *server) { s.retire() },
		"the agent ends": func(s *server) {
			go func() {
				ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
				defer cancel()
				s.drain(ctx)
				s.close()
			}()
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := nobody(t)
			s.start()
			said := s.push()
			p := s.in.Load().inbox.take(t.Context())
			end(s)
			time.Sleep(300 * time.Millisecond)
			require.Eventually(t, func() bool {
				l, err := net.Listen("tcp", "127.0.0.1:"+s.listener.Port)
				if err == nil {
					l.Close()
				}
				return err == nil
			}, 5*time.Second, 10*time.Millisecond, "the port is free")
			p.done()
			assert.Equal(t, "204 ", <-said)
		})
	}
}
