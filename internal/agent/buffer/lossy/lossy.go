// Package lossy is a file system in memory for tests of buffers: it knows what was synced, forgets the rest in a
// crash, and has only so much room.
package lossy

import (
	"bytes"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"synaxis/internal/agent/buffer"
)

// Disk is such a file system. It is safe for concurrent use.
type Disk struct {
	mu    sync.Mutex
	files map[string]*file
	room  int64 // 0 for any
}

type file struct {
	disk   *Disk
	now    []byte
	synced []byte
}

// New is an empty one.
func New() *Disk { return &Disk{files: map[string]*file{}} }

// Crash is what a machine finds after it lost power: of each file what was synced, and of what was not a part at most.
func (d *Disk) Crash(part func(n int) int) *Disk {
	d.mu.Lock()
	defer d.mu.Unlock()
	after := New()
	after.room = d.room
	for path, f := range d.files {
		data := bytes.Clone(f.synced)
		if len(f.now) > len(data) {
			data = append(data, f.now[len(data):len(data)+part(len(f.now)-len(data))]...)
		}
		after.files[path] = &file{after, data, bytes.Clone(data)}
	}
	return after
}

func (d *Disk) used() (n int64) {
	for _, f := range d.files {
		n += int64(len(f.now))
	}
	return n
}

// Names is that of buffer.Files.
func (d *Disk) Names(dir string) ([]string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	var out []string
	for path := range d.files {
		if rest, ok := strings.CutPrefix(path, dir+"/"); ok {
			name, _, _ := strings.Cut(rest, "/")
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

// Folder is that of buffer.Files.
func (d *Disk) Folder(string) error { return nil }

// SyncFolder is that of buffer.Files.
func (d *Disk) SyncFolder(string) error { return nil }

// SetRoom bounds how many bytes all files have; 0 for any, and -1 for no more than now.
func (d *Disk) SetRoom(bytes int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if bytes < 0 {
		bytes = max(1, d.used())
	}
	d.room = bytes
}

// Data is what a file holds, or nil.
func (d *Disk) Data(path string) []byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	if f := d.files[path]; f != nil {
		return bytes.Clone(f.now)
	}
	return nil
}

// Set puts data into a file, which is made when it is not there.
func (d *Disk) Set(path string, data []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.files[path] = &file{d, bytes.Clone(data), bytes.Clone(data)}
}

// Open is that of buffer.Files.
func (d *Disk) Open(path string, create bool) (buffer.File, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.files[path]
	if f == nil {
		if !create {
			return nil, fs.ErrNotExist
		}
		f = &file{disk: d}
		d.files[path] = f
	}
	return f, nil
}

// Remove is that of buffer.Files.
func (d *Disk) Remove(path string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.files, path)
	return nil
}

// Rename is that of buffer.Files.
func (d *Disk) Rename(from, to string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for path, f := range d.files {
		if path == from || strings.HasPrefix(path, from+"/") {
			delete(d.files, path)
			d.files[filepath.Join(to, strings.TrimPrefix(path, from))] = f
		}
	}
	return nil
}

func (f *file) ReadAt(p []byte, at int64) (int, error) {
	f.disk.mu.Lock()
	defer f.disk.mu.Unlock()
	if at >= int64(len(f.now)) {
		return 0, io.EOF
	}
	n := copy(p, f.now[at:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (f *file) WriteAt(p []byte, at int64) (int, error) {
	f.disk.mu.Lock()
	defer f.disk.mu.Unlock()
	end := int(at) + len(p)
	if grown := end - len(f.now); grown > 0 {
		if f.disk.room > 0 && f.disk.used()+int64(grown) > f.disk.room {
			return 0, syscall.ENOSPC
		}
		f.now = append(f.now, make([]byte, grown)...)
	}
	copy(f.now[at:], p)
	return len(p), nil
}

func (f *file) Truncate(size int64) error {
	f.disk.mu.Lock()
	defer f.disk.mu.Unlock()
	f.now = f.now[:min(size, int64(len(f.now)))]
	f.synced = f.synced[:min(len(f.synced), len(f.now))]
	return nil
}

func (f *file) Sync() error {
	f.disk.mu.Lock()
	defer f.disk.mu.Unlock()
	f.synced = bytes.Clone(f.now)
	return nil
}

func (f *file) Size() (int64, error) {
	f.disk.mu.Lock()
	defer f.disk.mu.Unlock()
	return int64(len(f.now)), nil
}

func (f *file) Close() error { return nil }

// Moved is the same disk with one folder in the place of another.
func (d *Disk) Moved(from, to string) *Disk {
	d.mu.Lock()
	defer d.mu.Unlock()
	for path, f := range d.files {
		if rest, ok := strings.CutPrefix(path, from+"/"); ok {
			delete(d.files, path)
			d.files[to+"/"+rest] = f
		}
	}
	return d
}
