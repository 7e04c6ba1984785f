package buffer

import (
	"io"
	"os"
	"path/filepath"
	"syscall"
)

// Files is the part of a file system that buffers need. Tests put one in its place that forgets what was not synced,
// or that is full.
type Files interface {
	// Names are the files of a folder; of one that is not there, none.
	Names(dir string) ([]string, error)
	// Folder makes a folder and those above it, for the agent's eyes only.
	Folder(dir string) error
	// Open opens a file to read and write; with create it is made when it is not there.
	Open(path string, create bool) (File, error)
	Remove(path string) error
	Rename(from, to string) error
	// SyncFolder makes names in a folder safe.
	SyncFolder(dir string) error
}

// File is an open file.
type File interface {
	io.ReaderAt
	io.WriterAt
	io.Closer
	Size() (int64, error)
	Truncate(size int64) error
	Sync() error
}

// Disk is the file system of the host.
type Disk struct{}

// Names lists a folder.
func (Disk) Names(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if os.IsNotExist(err) {
		return nil, nil
	}
	names := make([]string, 0, len(entries))
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names, err
}

// Folder makes a folder.
func (Disk) Folder(dir string) error { return os.MkdirAll(dir, 0o700) }

// Open opens a file.
func (Disk) Open(path string, create bool) (File, error) {
	flags := os.O_RDWR
	if create {
		flags |= os.O_CREATE
	}
	f, err := os.OpenFile(path, flags, 0o600)
	if err != nil {
		return nil, err
	}
	return diskFile{f}, nil
}

// Remove removes a file.
func (Disk) Remove(path string) error { return os.Remove(path) }

// Rename renames a file or folder.
func (Disk) Rename(from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	return os.Rename(from, to)
}

// SyncFolder syncs a folder.
func (Disk) SyncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

type diskFile struct{ *os.File }

func (f diskFile) Size() (int64, error) {
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// Sync makes the data safe, and of what is known of the file only what reading it needs (fdatasync(2)).
func (f diskFile) Sync() error { return syscall.Fdatasync(int(f.Fd())) }
