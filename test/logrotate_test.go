package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rotated is a log that a program writes while another of Debian rotates it.
type rotated struct {
	dir   string
	keeps bool // its program keeps the file open, and nothing is written while it is copied and truncated
	mu    sync.Mutex
	n     int
}

// write writes lines until stop is closed. Its program finds out now and then that its file is another.
func (l *rotated) write(t *testing.T, stop chan struct{}) {
	path := filepath.Join(l.dir, "app.log")
	open := func() *os.File {
		f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		assert.NoError(t, err)
		return f
	}
	f := open()
	for turn := 0; ; turn++ {
		select {
		case <-stop:
			f.Close()
			return
		case <-time.After(5 * time.Millisecond):
		}
		l.mu.Lock()
		for range 10 {
			_, err := fmt.Fprintf(f, "n=%d of a log that is rotated while it is written\n", l.n)
			assert.NoError(t, err)
			l.n++
		}
		l.mu.Unlock()
		if !l.keeps && turn%4 == 0 {
			f.Close()
			f = open()
		}
	}
}

// TestLogrotate: each line comes once, whatever Debian's program for it does with a log: renames it, packs it at once
// or a turn later, by names with numbers or with the time, or copies and truncates it; and the packed ones are read
// too.
func TestLogrotate(t *testing.T) {
	t.Parallel()
	ways := map[string]string{
		"packed-at-once": "compress\ncreate", "packed-later": "compress\ndelaycompress\ncreate",
		"by-time": "compress\ncreate\ndateext\ndateformat -%s", "by-xz": "compress\ncompresscmd /usr/bin/xz\ncompressext .xz\ncreate",
		"truncated": "compress\ncopytruncate",
	}
	d := startDesk(t)
	dir := t.TempDir()
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	at := filepath.Join(dir, "out")
	text := "destination: out\ndeliver: {file: {path: " + at + "}}\nbatch: {wait: 50ms}\n"
	logs := map[string]*rotated{}
	stop := make(chan struct{})
	var writers, turns sync.WaitGroup
	for name := range ways {
		l := &rotated{dir: filepath.Join(dir, "log", name), keeps: name == "truncated"}
		require.NoError(t, os.MkdirAll(l.dir, 0o755))
		logs[name] = l
		text += fmt.Sprintf("---\nsource: %s\nhosts: all\nread: {files: [%q], first-read: start}\nformat: raw\nsend: [out]\n", name,
			filepath.Join(l.dir, "app.log*"))
	}
	d.publish(text)
	d.rollOut()
	for name, way := range ways {
		l := logs[name]
		writers.Go(func() { l.write(t, stop) })
		conf := filepath.Join(dir, name+".conf")
		require.NoError(t, os.WriteFile(conf, fmt.Appendf(nil, "%s/app.log {\nrotate 100\nsize 1\nnomail\nmissingok\n%s\n}\n", l.dir,
			way), 0o644))
		turns.Go(func() {
			for range 5 {
				time.Sleep(1500 * time.Millisecond)
				if l.keeps {
					l.mu.Lock()
				}
				run(t, "", "logrotate", "--state", conf+".state", conf)
				if l.keeps {
					l.mu.Unlock()
				}
			}
		})
	}
	turns.Wait()
	close(stop)
	writers.Wait()
	var came map[string]map[int]int
	eventually(t, time.Minute, "all lines", func() bool {
		came = map[string]map[int]int{}
		for _, r := range recordsIn(at) {
			source, body, n := fmt.Sprint(r["source"]), fmt.Sprint(r["body"]), 0
			if _, err := fmt.Sscanf(body, "n=%d of a log", &n); err != nil {
				t.Errorf("a line of %s that nobody wrote: %q", source, body)
			}
			if came[source] == nil {
				came[source] = map[int]int{}
			}
			came[source][n]++
		}
		for name, l := range logs {
			if len(came[name]) < l.n {
				return false
			}
		}
		return true
	})
	time.Sleep(4 * time.Second) // until the last packed ones were looked at
	for _, s := range d.host("gate-a").Sources {
		assert.Equal(t, int64(logs[s.Name].n), s.Numbers.Read, "%s: each once", s.Name)
		packed, err := filepath.Glob(filepath.Join(logs[s.Name].dir, "*.[gx]z"))
		require.NoError(t, err)
		assert.GreaterOrEqual(t, len(packed), 4, strings.Join(packed, " "))
		assert.NotEqual(t, "red", string(s.Verdict.State), s.Verdict.Reason)
	}
}
