package buffer

import (
	"bytes"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
)

// memoryDisk is a file system in memory that knows what was synced, and has only so much room.
type memoryDisk struct {
	mu    sync.Mutex
	files map[string]*memoryFile
	room  int64 // 0 for any
}

type memoryFile struct {
	disk   *memoryDisk
	now    []byte
	synced []byte
}

func newMemoryDisk() *memoryDisk { return &memoryDisk{files: map[string]*memoryFile{}} }

// crash is what a machine finds after it lost power: of each file what was synced, and of what was not a part at most.
func (d *memoryDisk) crash(part func(n int) int) *memoryDisk {
	d.mu.Lock()
	defer d.mu.Unlock()
	after := newMemoryDisk()
	after.room = d.room
	for path, f := range d.files {
		data := bytes.Clone(f.synced)
		if len(f.now) > len(data) {
			data = append(data, f.now[len(data):len(data)+part(len(f.now)-len(data))]...)
		}
		after.files[path] = &memoryFile{after, data, bytes.Clone(data)}
	}
	return after
}

func (d *memoryDisk) used() (n int64) {
	for _, f := range d.files {
		n += int64(len(f.now))
	}
	return n
}

func (d *memoryDisk) Names(dir string) ([]string, error) {
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

func (d *memoryDisk) Folder(string) error     { return nil }
func (d *memoryDisk) SyncFolder(string) error { return nil }

func (d *memoryDisk) Open(path string, create bool) (File, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.files[path]
	if f == nil {
		if !create {
			return nil, fs.ErrNotExist
		}
		f = &memoryFile{disk: d}
		d.files[path] = f
	}
	return f, nil
}

func (d *memoryDisk) Remove(path string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.files, path)
	return nil
}

func (d *memoryDisk) Rename(from, to string) error {
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

func (f *memoryFile) ReadAt(p []byte, at int64) (int, error) {
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

func (f *memoryFile) WriteAt(p []byte, at int64) (int, error) {
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

func (f *memoryFile) Truncate(size int64) error {
	f.disk.mu.Lock()
	defer f.disk.mu.Unlock()
	f.now = f.now[:min(size, int64(len(f.now)))]
	f.synced = f.synced[:min(len(f.synced), len(f.now))]
	return nil
}

func (f *memoryFile) Sync() error {
	f.disk.mu.Lock()
	defer f.disk.mu.Unlock()
	f.synced = bytes.Clone(f.now)
	return nil
}

func (f *memoryFile) Size() (int64, error) {
	f.disk.mu.Lock()
	defer f.disk.mu.Unlock()
	return int64(len(f.now)), nil
}

func (f *memoryFile) Close() error { return nil }
