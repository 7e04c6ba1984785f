package run

import (
	"maps"
	"strings"
	"sync"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/wire"
)

// books are the accounts of all readings, by the name of the source, or by reading where a destination is read for
// alone. They have a lock of their own, since destinations count while they hold theirs.
type books struct {
	mu  sync.Mutex
	all settle.Books
	of  map[string]*settle.Book
	was map[string]string // the new names of sources that were renamed
}

// open is the book of a reading, begun with what was written down.
func (b *books) open(key string, store *position.Store) *settle.Book {
	b.mu.Lock()
	defer b.mu.Unlock()
	book := b.of[key]
	if book == nil {
		book = b.all.Open(store.Numbers(key))
		b.of[key] = book
	}
	return book
}

// at is the book in which a source's records at a destination are counted.
func (b *books) at(destination, source string) *settle.Book {
	b.mu.Lock()
	defer b.mu.Unlock()
	if now, renamed := b.was[source]; renamed && b.of[source] == nil {
		source = now
	}
	if book := b.of[reading(source, destination)]; book != nil {
		return book
	}
	book := b.of[source]
	if book == nil {
		book = b.all.Open(wire.Numbers{})
		b.of[source] = book
	}
	return book
}

// each is all of them, by their keys.
func (b *books) each() map[string]*settle.Book {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(b.of)
}

// move gives a book another key, unless there is one.
func (b *books) move(was, now string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if book := b.of[was]; book != nil && b.of[now] == nil {
		b.of[now] = book
		delete(b.of, was)
		b.was[was] = now
	}
}

// join counts what a reading of its own had counted of a destination into the book of the source.
func (b *books) join(source, destination string, store *position.Store) {
	own := b.open(reading(source, destination), store)
	all := b.open(source, store)
	all.Take(own, destination)
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.of, reading(source, destination))
}

// openBooks begins the books of sources of which something is on disk, and holds them against what is really there.
// waits is what is there of senders that are known by their names.
func (e *Engine) openBooks(waits map[buffer.Key]map[string]*settle.Waits) {
	for _, k := range e.buffers.Keys() {
		key := k.Source
		if len(e.store.Numbers(reading(k.Source, k.Destination)).Deliveries) > 0 {
			key = reading(k.Source, k.Destination)
		}
		e.books.open(key, e.store)
	}
	onDisk := map[buffer.Key]int64{}
	for _, k := range e.buffers.Keys() {
		onDisk[k] = e.buffers.Lane(k).State().Records
	}
	for key, book := range e.books.each() {
		source, only, own := strings.Cut(key, ">")
		for destination := range book.Live().Deliveries {
			if !own || only == destination {
				k := buffer.Key{Destination: destination, Source: source}
				book.OnDisk(destination, onDisk[k], waits[k])
			}
		}
		for k, n := range onDisk {
			if k.Source == source && (!own || only == k.Destination) && e.books.at(k.Destination, source) == book {
				book.OnDisk(k.Destination, n, waits[k])
			}
		}
	}
}

// numbers are what was counted of each source, with its readings for destinations alone.
func (e *Engine) numbers() map[string]wire.Numbers {
	all := map[string]wire.Numbers{}
	books := e.books.each()
	for key, book := range books {
		if !strings.Contains(key, ">") {
			all[key] = book.Live()
		}
	}
	for key, book := range books {
		source, only, own := strings.Cut(key, ">")
		if !own {
			continue
		}
		n := all[source]
		if n.Deliveries == nil {
			n.Deliveries = map[string]wire.DeliveryCounts{}
		}
		live := book.Live()
		n.Deliveries[only] = live.Deliveries[only]
		n.TakeSendersAt(only, live)
		all[source] = n
	}
	return all
}
