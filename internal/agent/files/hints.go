package files

import (
	"path/filepath"
	"sync"

	"github.com/fsnotify/fsnotify"
)

// Hints tells readers that something appeared in a folder, so that they look at once. It is a help only: where the
// system gives no events, or too many, the regular look finds the same.
type Hints struct {
	watcher *fsnotify.Watcher
	mu      sync.Mutex
	wanted  map[string]map[chan struct{}]bool
}

// NewHints begins to listen. Without a watcher of the system it gives no hints.
func NewHints() *Hints {
	h := &Hints{wanted: map[string]map[chan struct{}]bool{}}
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return h
	}
	h.watcher = w
	go h.run(w)
	return h
}

func (h *Hints) run(w *fsnotify.Watcher) {
	for {
		select {
		case e, ok := <-w.Events:
			if !ok {
				return
			}
			if e.Has(fsnotify.Create) || e.Has(fsnotify.Rename) {
				h.wake(filepath.Dir(e.Name))
			}
		case _, ok := <-w.Errors:
			if !ok {
				return
			}
		}
	}
}

func (h *Hints) wake(dir string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.wanted[dir] {
		select {
		case ch <- struct{}{}:
		default:
		}
	}
}

// Watch asks for hints about a folder on a channel.
func (h *Hints) Watch(dir string, ch chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.watcher == nil || h.wanted[dir][ch] {
		return
	}
	if h.wanted[dir] == nil {
		if h.watcher.Add(dir) != nil {
			return // not there yet, or no room for more watches: the regular look will do
		}
		h.wanted[dir] = map[chan struct{}]bool{}
	}
	h.wanted[dir][ch] = true
}

// Drop ends the hints on a channel.
func (h *Hints) Drop(ch chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for dir, list := range h.wanted {
		if delete(list, ch); len(list) == 0 {
			delete(h.wanted, dir)
			_ = h.watcher.Remove(dir)
		}
	}
}

// Close ends all hints.
func (h *Hints) Close() {
	if h.watcher != nil {
		_ = h.watcher.Close()
	}
}
