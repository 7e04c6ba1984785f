package files

import (
	"path/filepath"
	"sync"
	"sync/atomic"

	"github.com/fsnotify/fsnotify"
)

// Hints tell readers at once that a file appeared or moved in a folder, where the system can say so, and which files
// were written. It is a hint only: folders are looked at regularly anyway, and so are the sizes of files.
type Hints struct {
	watcher *fsnotify.Watcher
	mu      sync.Mutex
	wanted  map[string]map[chan struct{}]*written // by folder
}

// written are the paths that were written since somebody asked.
type written struct {
	any   atomic.Bool
	mu    sync.Mutex
	paths map[string]bool
	fresh chan struct{} // one token when there are some; of size 1
}

func newWritten() *written { return &written{paths: map[string]bool{}, fresh: make(chan struct{}, 1)} }

func (w *written) add(path string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.paths) < 4096 { // what is left out is found a little later
		w.paths[path] = true
	}
	w.any.Store(true)
	select {
	case w.fresh <- struct{}{}:
	default:
	}
}

func (w *written) take() map[string]bool {
	if !w.any.Swap(false) {
		return nil
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	out := w.paths
	w.paths = map[string]bool{}
	return out
}

// NewHints begins to listen; without the system's help it hints at nothing.
func NewHints() *Hints {
	h := &Hints{wanted: map[string]map[chan struct{}]*written{}}
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
			switch {
			case e.Has(fsnotify.Create) || e.Has(fsnotify.Rename):
				h.wake(filepath.Dir(e.Name))
			case e.Has(fsnotify.Write):
				h.wrote(e.Name)
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

func (h *Hints) wrote(path string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, w := range h.wanted[filepath.Dir(path)] {
		w.add(path)
	}
}

// Watch wakes ch when something appears in a folder, and notes in w what is written there.
func (h *Hints) Watch(dir string, ch chan struct{}, w *written) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.watcher == nil || h.wanted[dir][ch] != nil {
		return
	}
	if h.wanted[dir] == nil {
		if h.watcher.Add(dir) != nil {
			return // not there yet, or no room for more watches: the regular look will do
		}
		h.wanted[dir] = map[chan struct{}]*written{}
	}
	h.wanted[dir][ch] = w
}

// Drop forgets a reader.
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

// Close ends it.
func (h *Hints) Close() {
	if h.watcher != nil {
		_ = h.watcher.Close()
	}
}
