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

func (s *shore) taken() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.bodies)
}

// TestPowerCuts lets an agent lose power again and again: of its buffers only what was synced is there afterwards, and
// a part of what was not. Meanwhile files rotate, the receiver is down at times and loses answers, and the disk is
// full at times. Nothing is lost, a record has one id, and the books balance.
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
	disk := lossy.New()
	var old sync.WaitGroup
	var e *Engine
	for life := range lives {
		state := filepath.Join(dir, fmt.Sprintf("state-%d", life))
		require.NoError(t, os.MkdirAll(state, 0o700))
		if e != nil { // the power goes: what is on disk now is what the next one finds
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
		require.NoError(t, e.Apply(read(t, "sources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n"+
			"    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n    deliver: {http: {url: %q, "+
			"headers: {X-Life: \"%d\"}}}\n"+quick, filepath.Join(logs, "*.log*"), server.URL, life)))
		until := time.Now().Add(time.Duration(200+rnd.IntN(600)) * time.Millisecond)
		for time.Now().Before(until) {
			time.Sleep(20 * time.Millisecond)
			if disk.SetRoom(0); rnd.IntN(6) == 0 {
				disk.SetRoom(-1)
			}
			all, _ := e.Numbers()
			require.Zero(t, all["lines"].Deliveries["out"].Difference(), "%+v", all["lines"].Deliveries["out"])
		}
	}
	close(stop)
	total := <-wrote
	disk.SetRoom(0)
	s.calm.Store(true)
	last, since := 0, time.Now()
	for s.taken() < total {
		if n := s.taken(); n > last {
			last, since = n, time.Now()
		}
		require.Less(t, time.Since(since), longest, "%d of %d lines", s.taken(), total)
		time.Sleep(10 * time.Millisecond)
	}
	assert.Equal(t, total, s.taken())
	assert.Empty(t, s.clash, "a record has one id, whenever it comes")
	eventually(t, "the books to be closed", func() bool {
		all, _ := e.Numbers()
		c := all["lines"].Deliveries["out"]
		require.Zero(t, c.Difference())
		require.Zero(t, c.Discarded, "nothing was lost on disk")
		return c.Waiting() == 0
	})
	e.Stop()
	old.Wait()
	t.Logf("%d lives, %d lines", lives, total)
}
