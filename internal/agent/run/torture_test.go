package run

import (
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/agent/buffer/lossy"
)

// shore is a receiver that takes the deliveries of one life of an agent only, is down at times, and loses answers.
type shore struct {
	life   atomic.Int64
	calm   atomic.Bool
	mu     sync.Mutex
	bodies map[string]string // ids by body
	ids    map[string]string // and the other way round
	clash  []string
	calls  int
}

func (s *shore) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	text, err := io.ReadAll(r.Body)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls++
	switch {
	case err != nil, r.Header.Get("X-Life") != fmt.Sprint(s.life.Load()), !s.calm.Load() && s.calls/15%3 == 1:
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	for line := range bytes.Lines(text) {
		_, rest, _ := strings.Cut(string(line), `"body":"`)
		body, rest, _ := strings.Cut(rest, `"`)
		_, rest, _ = strings.Cut(rest, `"id":"`)
		id, _, _ := strings.Cut(rest, `"`)
		if had, ok := s.ids[id]; ok && had != body {
			s.clash = append(s.clash, id)
		}
		if had, ok := s.bodies[body]; ok && had != id {
			s.clash = append(s.clash, body)
		}
		s.ids[id], s.bodies[body] = body, id
	}
	if !s.calm.Load() && s.calls%7 == 0 { // taken, and the answer is lost
		if conn, _, err := w.(http.Hijacker).Hijack(); err == nil {
			conn.Close()
		}
	}
}

// taken is how many different lines have come that begin so.
func (s *shore) taken(begin string) (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for body := range s.bodies {
		if strings.HasPrefix(body, begin) {
			n++
		}
	}
	return n
}

// lacks is how many of some lines have not come.
func (s *shore) lacks(lines []string) (n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range lines {
		if _, ok := s.bodies[l]; !ok {
			n++
		}
	}
	return n
}

// caller pushes requests of ten lines to the listener of the life that is, until stop is closed, and keeps the lines
// that it was told are taken. What it is not told so of it sends again, as other lines.
type caller struct {
	life, port atomic.Int64 // of the agent; the life goes on before the power does
	taken      []string
	tries      int
}

func (c *caller) call(stop <-chan struct{}) {
	client := &http.Client{Timeout: 5 * time.Second}
	for {
		select {
		case <-stop:
			return
		case <-time.After(5 * time.Millisecond):
		}
		c.tries++
		var body strings.Builder
		for i := range 10 {
			fmt.Fprintf(&body, "pushed-%d-%d\n", c.tries, i)
		}
		life := c.life.Load() // before the port: a life has no other one's
		resp, err := client.Post(fmt.Sprintf("http://127.0.0.1:%d/", c.port.Load()), "text/plain",
			strings.NewReader(body.String()))
		if err != nil {
			client.CloseIdleConnections()
			continue
		}
		resp.Body.Close()
		// an answer that comes when the power is gone already is one of a life that is no more
		if resp.StatusCode == http.StatusNoContent && c.life.Load() == life {
			c.taken = append(c.taken, strings.Fields(body.String())...)
		}
	}
}

// TestPowerCuts lets an agent lose power again and again: of its buffers only what was synced is there afterwards, and
// a part of what was not. Meanwhile files rotate, the receiver is down at times and loses answers, and the disk is
// full at times. Nothing is lost of the files, and nothing that a listener has answered for; a record has one id, and
// the books balance.
func TestPowerCuts(t *testing.T) {
	t.Parallel()
	lives := 12
	if text := os.Getenv("SYNAXIS_TORTURE"); text != "" {
		lives = 500
	}
	rnd := rand.New(rand.NewPCG(9, 9))
	s := &shore{bodies: map[string]string{}, ids: map[string]string{}}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	dir := t.TempDir()
	logs := filepath.Join(dir, "log")
	require.NoError(t, os.MkdirAll(logs, 0o755))
	stop, wrote := make(chan struct{}), make(chan int)
	go func() {
		path := filepath.Join(logs, "a.log")
		for n, part := 0, 0; ; {
			select {
			case <-stop:
				wrote <- n
				return
			case <-time.After(2 * time.Millisecond):
			}
			f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
			if err != nil {
				continue
			}
			for range 5 {
				fmt.Fprintf(f, "line-%07d\n", n)
				n++
			}
			f.Close()
			if n%3000 == 0 {
				part++
				_ = os.Rename(path, fmt.Sprintf("%s.%d", path, part))
			}
		}
	}()
	var pushed caller
	called := make(chan struct{})
	go func() {
		defer close(called)
		pushed.call(stop)
	}()
	disk := lossy.New()
	var old sync.WaitGroup
	var e *Engine
	for life := range lives {
		state := filepath.Join(dir, fmt.Sprintf("state-%d", life))
		require.NoError(t, os.MkdirAll(state, 0o700))
		if e != nil { // the power goes: what is on disk now is what the next one finds
			pushed.port.Store(0) // the one before still answers
			pushed.life.Add(1)
			e.saving.Lock()
			names, err := filepath.Glob(filepath.Join(e.dir, "positions*"))
			require.NoError(t, err)
			for _, name := range names {
				text, err := os.ReadFile(name)
				require.NoError(t, err)
				require.NoError(t, os.WriteFile(filepath.Join(state, filepath.Base(name)), text, 0o600))
			}
			disk = disk.Crash(func(n int) int { return rnd.IntN(n + 1) }).Moved(e.dir, state)
			s.life.Store(int64(life))
			e.saving.Unlock()
			before := e
			old.Go(before.Stop)
		}
		disk.SetRoom(0)
		next, err := newEngine(state, "id", false, disk, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		e = next
		port := freePort(t, "tcp")
		require.NoError(t, e.Apply(read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n"+
			"    format: raw\n    send: [out]\n  - source: pushed\n    read: {http: {listen: {address: 127.0.0.1, port: %d}}}\n"+
			"    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n    deliver: {http: {url: %q, "+
			"headers: {X-Life: \"%d\"}}}\n"+quick, filepath.Join(logs, "*.log*"), port, server.URL, life)))
		pushed.port.Store(int64(port))
		until := time.Now().Add(time.Duration(200+rnd.IntN(600)) * time.Millisecond)
		for time.Now().Before(until) {
			time.Sleep(20 * time.Millisecond)
			if disk.SetRoom(0); rnd.IntN(6) == 0 {
				disk.SetRoom(-1)
			}
			all, _ := e.Numbers()
			for _, name := range []string{"lines", "pushed"} {
				require.Zero(t, all[name].Deliveries["out"].Difference(), "%s: %+v", name, all[name].Deliveries["out"])
			}
		}
	}
	close(stop)
	total := <-wrote
	<-called
	disk.SetRoom(0)
	s.calm.Store(true)
	last, since := 0, time.Now()
	for s.taken("line-") < total || s.lacks(pushed.taken) > 0 {
		if n := s.taken(""); n > last {
			last, since = n, time.Now()
		}
		require.Less(t, time.Since(since), longest, "%d of %d lines, without %d of %d that were pushed", s.taken("line-"),
			total, s.lacks(pushed.taken), len(pushed.taken))
		time.Sleep(10 * time.Millisecond)
	}
	assert.Equal(t, total, s.taken("line-"))
	assert.NotEmpty(t, pushed.taken)
	assert.Empty(t, s.clash, "a record has one id, whenever it comes")
	eventually(t, "the books to be closed", func() bool {
		all, _ := e.Numbers()
		waiting := int64(0)
		for _, name := range []string{"lines", "pushed"} {
			c := all[name].Deliveries["out"]
			require.Zero(t, c.Difference())
			require.Zero(t, c.Discarded, "nothing was lost on disk")
			waiting += c.Waiting()
		}
		return waiting == 0
	})
	e.Stop()
	old.Wait()
	t.Logf("%d lives, %d lines, %d of %d that were pushed are answered for", lives, total, len(pushed.taken),
		10*pushed.tries)
}
