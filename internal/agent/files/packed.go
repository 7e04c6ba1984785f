package files

import (
	"bytes"
	"io/fs"
	"os"
	"time"

	"synaxis/internal/agent/position"
)

// packedFile is a file that is compressed, as it was when that was seen.
type packedFile struct {
	size int64
	at   time.Time
}

// packedStarts are how compressed files begin: gzip (RFC 1952), zstd (RFC 8878), xz, bzip2.
var packedStarts = [][]byte{{0x1f, 0x8b}, {0x28, 0xb5, 0x2f, 0xfd}, {0xfd, '7', 'z', 'X', 'Z', 0}, []byte("BZh")}

// isPacked tells whether a file was seen to be compressed, and has not changed since.
func (r *Reader) isPacked(k position.Key, info fs.FileInfo) bool {
	p, ok := r.packed[k]
	return ok && p.size == info.Size() && p.at.Equal(info.ModTime())
}

// pack tells whether a file is compressed by its first bytes, and remembers it: such a file is not read.
func (r *Reader) pack(k position.Key, file *os.File, info fs.FileInfo) bool {
	var start [6]byte
	n, _ := file.ReadAt(start[:], 0)
	is := false
	for _, s := range packedStarts {
		is = is || bytes.HasPrefix(start[:n], s)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if !is {
		delete(r.packed, k)
		return false
	}
	if _, known := r.packed[k]; !known {
		r.Log.Info("a file is not read, since it is compressed", "path", file.Name())
	}
	r.packed[k] = packedFile{info.Size(), info.ModTime()}
	return true
}
