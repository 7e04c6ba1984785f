package files

import (
	"bytes"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"synaxis/internal/agent/position"
	"synaxis/internal/core/wire"
)

type copyVerdict uint8

const (
	copyNo copyVerdict = iota
	copyWait
	copyYes
)

// copyOf tells whether a new file is a copy of one that is read, made to truncate that one: it is at least as long as
// what was read, begins and continues the same, and the old file shrank or vanished. While the old file is still
// whole, the copy waits a little for that to happen.
func (r *Reader) copyOf(k position.Key, file *os.File, size, offset int64) (copyVerdict, position.Key) {
	for ok, st := range r.streams {
		if st.read > 0 && size < st.read && begins(st.file, file, size) { // perhaps a copy that is being written
			if _, waiting := r.copies[k]; !waiting {
				r.copies[k] = waitingCopy{r.Now(), offset}
			}
			if r.Now().Sub(r.copies[k].since) < holdBegun {
				return copyWait, ok
			}
		}
		if st.read == 0 || st.info.HeadLen == 0 || !st.mark().Matches(file, size) {
			continue
		}
		now, err := st.file.Stat()
		if err != nil || !st.mark().Matches(st.file, now.Size()) {
			return copyYes, ok
		}
		if _, waiting := r.copies[k]; !waiting {
			r.copies[k] = waitingCopy{r.Now(), offset}
		}
		if r.Now().Sub(r.copies[k].since) < holdCopy {
			return copyWait, ok
		}
	}
	// After a restart the old one is only in the store.
	for _, known := range r.Store.Files(r.Spec.Name) {
		if r.streams[known.Key()] != nil || known.Offset == 0 || known.HeadLen == 0 || !known.Matches(file, size) ||
			known.Dev == 0 { // it was deleted, and may come packed only
			continue
		}
		if old, err := os.OpenFile(known.Path, os.O_RDONLY|syscall.O_NONBLOCK, 0); err == nil {
			info, err := old.Stat()
			intact := false
			if err == nil {
				dev, ino := position.Identity(info)
				intact = dev == known.Dev && ino == known.Ino && known.Matches(old, info.Size())
			}
			old.Close()
			if intact {
				continue
			}
		}
		return copyYes, known.Key()
	}
	return copyNo, position.Key{}
}

// begins tells whether a file holds, as far as it goes, what another begins with.
func begins(old, file io.ReaderAt, size int64) bool {
	n := int(min(size, position.HeadSize))
	a, b := make([]byte, n), make([]byte, n)
	if _, err := file.ReadAt(a, 0); err != nil && !errors.Is(err, io.EOF) {
		return false
	}
	got, _ := old.ReadAt(b, 0)
	return got == n && bytes.Equal(a, b)
}

// inherit continues a truncated file in its copy.
func (r *Reader) inherit(k position.Key, path string, file *os.File, size int64, from position.Key) (bool, error) {
	if st := r.streams[from]; st != nil {
		s := start{offset: st.read, ledger: st.ledger, known: true, stream: st.info.Stream}
		r.anew(st, 0)
		return r.begin(k, path, file, size, s)
	}
	known, ok := r.Store.File(from)
	if !ok {
		return r.begin(k, path, file, size, start{known: true})
	}
	r.Store.Forget(from)
	return r.begin(k, path, file, size,
		start{offset: known.Offset, known: true, stream: known.Stream, ahead: known.Ahead})
}

// look sees whether an open file grew, or was truncated and began anew.
func (r *Reader) look(st *stream) {
	info, err := st.file.Stat()
	if err != nil {
		return
	}
	size := info.Size()
	if st.shrunk || size < st.read || size != st.size && !st.continues() {
		switch {
		case !r.inScan:
			r.scan()
			return
		case !st.shrunk:
			st.shrunk = true
			r.lastScan = time.Time{} // look again at once
			return
		}
		r.shrank(st.info.Path, st.read, size)
		r.anew(st, size)
		return
	}
	if size != st.size {
		r.grow(st, size)
	}
	st.looked = r.Now()
	if st.info.HeadLen < position.HeadSize && int64(st.info.HeadLen) < size {
		if n, sum, err := position.Head(st.file, size); err == nil {
			r.mu.Lock()
			st.info.HeadLen, st.info.Head = n, sum
			r.mu.Unlock()
		}
	}
}

// continues tells whether the file still has what was there when it was read: its beginning, and the bytes before
// the read position.
func (st *stream) continues() bool {
	var buf [position.TailSize]byte
	tail := buf[:len(st.tail)]
	if n, err := st.file.ReadAt(tail, st.read-int64(len(tail))); err != nil && n < len(tail) ||
		!bytes.Equal(tail, st.tail) {
		return false
	}
	if st.info.HeadLen == 0 {
		return true
	}
	n, sum, err := position.Head(st.file, int64(st.info.HeadLen))
	return err == nil && n == st.info.HeadLen && sum == st.info.Head
}

// anew reads a truncated file from its beginning.
func (r *Reader) anew(st *stream, size int64) {
	was := st.info
	was.Offset, was.Tail = st.read, hex.EncodeToString(st.tail)
	r.mayComePacked(was, nil)
	r.mu.Lock()
	defer r.mu.Unlock()
	st.read, st.tail, st.ledger = 0, nil, r.Book.Ledger(cursorAt(0), nil)
	r.name(st, 0)
	st.saved, st.shrunk, st.first, st.marks = position.File{}, false, 0, nil
	st.size, st.grew = size, r.Now()
	st.wrote = st.grew
	if size > 0 {
		st.marks = []mark{{size, st.grew}}
	}
	n, sum, err := position.Head(st.file, size)
	if err != nil {
		n, sum = 0, ""
	}
	st.info.HeadLen, st.info.Head = n, sum
}

func (r *Reader) shrank(path string, was, now int64) {
	r.Book.Note(wire.Numbers{Truncated: 1})
	r.Log.Warn(
		"a file was truncated; lines written just before may be lost unless a copy is collected too",
		"path",
		path,
		"read",
		was,
		"size",
		now,
	)
}

// findRotated opens files that were renamed while the agent was down and have records that nobody read: their paths
// match no pattern any more, but their inode is still in the folder.
func (r *Reader) findRotated() {
	folders := map[string][]fs.DirEntry{}
	for _, known := range r.Store.Files(r.Spec.Name) {
		if r.streams[known.Key()] != nil || known.Moved {
			continue
		}
		dir := filepath.Dir(known.Path)
		entries, ok := folders[dir]
		if !ok {
			entries, _ = os.ReadDir(dir)
			folders[dir] = entries
		}
		for _, e := range entries {
			info, err := e.Info()
			if err != nil || !info.Mode().IsRegular() {
				continue
			}
			if dev, ino := position.Identity(info); dev != known.Dev || ino != known.Ino ||
				info.Size() <= known.Offset {
				continue
			}
			path := filepath.Join(dir, e.Name())
			file, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_NOFOLLOW, 0)
			if err != nil {
				continue
			}
			if !known.Matches(file, info.Size()) {
				file.Close()
				continue
			}
			if !r.Slots.take() {
				file.Close()
				continue
			}
			from := start{offset: known.Offset, known: true, stream: known.Stream, ahead: known.Ahead}
			if ok, _ := r.begin(known.Key(), path, file, info.Size(), from); ok {
				r.streams[known.Key()].moved = r.Now()
			} else {
				r.Slots.give()
			}
		}
	}
}
