package files

import (
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"synaxis/internal/agent/position"
)

// packedFile is a file that is packed, as it was when that was seen. Of one that is done nothing is left to read.
type packedFile struct {
	size int64
	at   time.Time
	done bool
}

// Bounds of unpacking.
const (
	mostUnpacked = 4 << 30          // bytes of one file
	packStill    = time.Second      // how long a packed file must have been still, since it is written piece by piece
	packBroken   = 30 * time.Second // the same, before one that cannot be unpacked to its end is taken as it is
)

// packings are how packed files begin, and what unpacks them: gzip (RFC 1952), zstd (RFC 8878), xz and bzip2.
var packings = []struct {
	start  []byte
	reader func(io.Reader) (io.Reader, error)
}{
	{[]byte{0x1f, 0x8b}, func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) }},
	{[]byte{0x28, 0xb5, 0x2f, 0xfd}, func(r io.Reader) (io.Reader, error) {
		return zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
	}},
	{[]byte{0xfd, '7', 'z', 'X', 'Z', 0}, func(r io.Reader) (io.Reader, error) {
		return xz.ReaderConfig{DictCap: 64 << 20}.NewReader(r)
	}},
	{[]byte("BZh"), func(r io.Reader) (io.Reader, error) { return bzip2.NewReader(r), nil }},
}

// packing is the place in packings of how a file is packed; -1 for not at all.
func packing(file io.ReaderAt) int {
	var start [6]byte
	n, _ := file.ReadAt(start[:], 0)
	for i, p := range packings {
		if bytes.HasPrefix(start[:n], p.start) {
			return i
		}
	}
	return -1
}

// isPacked tells whether nothing is to be done with a packed file, which has not changed since that was seen.
func (r *Reader) isPacked(k position.Key, info fs.FileInfo) bool {
	p, ok := r.packed[k]
	return ok && p.size == info.Size() && p.at.Equal(info.ModTime())
}

// pack remembers a packed file, so that it is not looked at again before it changes.
func (r *Reader) pack(k position.Key, info fs.FileInfo, done bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.packed[k] = packedFile{info.Size(), info.ModTime(), done}
}

// openPacked reads a packed file: once, from its start to its end. What was read of it before it was packed is not
// read again. It answers whether a file stays open.
func (r *Reader) openPacked(k position.Key, f found, file *os.File, info fs.FileInfo) (bool, error) {
	known, isKnown := r.Store.File(k)
	u := r.unpacking[k]
	if u != nil && (u.size != info.Size() || !u.at.Equal(info.ModTime())) { // it has changed meanwhile
		go u.drop()
		delete(r.unpacking, k)
		u = nil
	}
	if u == nil {
		return false, r.beginPacked(k, f, file, info, known, isKnown)
	}
	file.Close()
	select {
	case <-u.done:
	default:
		return false, nil
	}
	delete(r.unpacking, k)
	return r.readPacked(k, f, info, u)
}

// unpacking is a packed file that is being unpacked, beside what the reader does: a large one takes long.
type unpacking struct {
	size  int64 // packed
	at    time.Time
	done  chan struct{}
	plain *os.File // when done; nil where nothing could be unpacked
	bytes int64    // of it
	err   error
}

// drop waits for the end and lets go of what was unpacked.
func (u *unpacking) drop() {
	<-u.done
	if u.plain != nil {
		u.plain.Close()
	}
}

// beginPacked begins to unpack a file, where that is to be done and no other is under way.
func (r *Reader) beginPacked(
	k position.Key, f found, file *os.File, info fs.FileInfo, known position.File, isKnown bool,
) error {
	switch {
	case isKnown && known.Packed == info.Size(): // it was read to its end
		r.pack(k, info, true)
	case !isKnown && f.first && r.Spec.FirstRead == "now" && !r.Store.Reread():
		r.Store.Put(position.File{Source: r.Spec.Name, Path: f.path, Dev: k.Dev, Ino: k.Ino, Packed: info.Size()})
		r.pack(k, info, true)
	case r.Now().Sub(info.ModTime()) < packStill, len(r.unpacking) > 0:
	default:
		u := &unpacking{size: info.Size(), at: info.ModTime(), done: make(chan struct{})}
		r.unpacking[k] = u
		go func() {
			defer close(u.done)
			defer file.Close()
			u.plain, u.bytes, u.err = unpack(file, info, filepath.Join(r.Own, "unpacked"))
		}()
		return nil
	}
	return file.Close()
}

// readPacked begins to read what was unpacked. It answers whether a file stays open.
func (r *Reader) readPacked(k position.Key, f found, info fs.FileInfo, u *unpacking) (bool, error) {
	plain, size, err := u.plain, u.bytes, u.err
	if err != nil && r.Now().Sub(info.ModTime()) < packBroken { // it is being written
		if plain != nil {
			plain.Close()
		}
		return false, nil
	}
	if err != nil {
		r.Log.Warn("a packed file cannot be unpacked to its end; what could be is read", "path", f.path, "bytes", size,
			"error", err)
	}
	if plain == nil || size == 0 {
		if plain != nil {
			plain.Close()
		}
		r.pack(k, info, err == nil)
		return false, nil
	}
	from := r.before(k, plain, size)
	opened, err := r.begin(k, f.path, plain, size, from)
	if st := r.streams[k]; opened && st != nil {
		r.mu.Lock()
		st.packed = info.Size()
		r.mu.Unlock()
		r.pack(k, info, true)
	}
	return opened, err
}

// before is where reading an unpacked file begins: where its content was read to, under whatever name.
func (r *Reader) before(k position.Key, plain *os.File, size int64) start {
	for other, st := range r.streams { // it is open with all of this content, and is read to its end there
		if other == k || st.packed > 0 || st.size != size || st.info.HeadLen == 0 {
			continue
		}
		f := st.info
		f.Offset, f.Tail = st.read, hex.EncodeToString(st.tail)
		if f.Matches(plain, size) {
			return start{offset: size, known: true}
		}
	}
	if r.wasReadOn(plain, size) {
		return start{offset: size, known: true}
	}
	if known, ok := r.Store.File(k); ok && known.HeadLen > 0 && known.Matches(plain, size) { // it was begun before
		return start{offset: known.Offset, known: true, stream: known.Stream, ahead: known.Ahead}
	}
	best, from := start{}, position.Key{}
	known := slices.DeleteFunc(r.Store.Files(r.Spec.Name), func(f position.File) bool { return f.Dev == 0 })
	for _, gone := range r.gonePacked {
		known = append(known, gone.known)
	}
	for _, known := range known {
		other := known.Key()
		switch {
		case other == k, known.Packed > 0, known.Offset <= best.offset, !known.Matches(plain, size):
		case r.stays(known): // many logs begin alike; this one goes on by itself
			if known.Offset == size {
				return start{offset: size, known: true}
			}
		default:
			best = start{offset: known.Offset, known: true, stream: known.Stream, ahead: known.Ahead}
			from = other
		}
	}
	if best.known { // no other one goes on with it
		r.Store.Forget(from)
		r.gonePacked = slices.DeleteFunc(r.gonePacked, func(g goneFile) bool { return g.known.Key() == from })
	}
	return best
}

// stays tells whether a file is still there as it was, and not packed away: another may have its inode by now.
func (r *Reader) stays(known position.File) bool {
	k := known.Key()
	if r.streams[k] != nil {
		return true
	}
	f, ok := r.there[k]
	if !ok {
		return false
	}
	file, err := os.Open(f.path)
	if err != nil {
		return true
	}
	defer file.Close()
	info, err := file.Stat()
	return err != nil || known.Matches(file, info.Size())
}

// unpack writes what a file holds into one that has no name and goes when it is closed. With an error, what could be
// unpacked is there.
func unpack(file *os.File, info fs.FileInfo, dir string) (*os.File, int64, error) {
	in, err := packings[packing(file)].reader(io.NewSectionReader(file, 0, info.Size()))
	if err != nil {
		return nil, 0, err
	}
	if c, ok := in.(interface{ Close() }); ok {
		defer c.Close()
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, 0, err
	}
	plain, err := os.CreateTemp(dir, "file-")
	if err != nil {
		return nil, 0, err
	}
	if err := os.Remove(plain.Name()); err != nil {
		plain.Close()
		return nil, 0, err
	}
	size, err := io.Copy(plain, io.LimitReader(in, mostUnpacked+1))
	if size > mostUnpacked {
		plain.Close()
		return nil, 0, fmt.Errorf("%d bytes is the most that one file may have, unpacked", int64(mostUnpacked))
	}
	var noRoom *fs.PathError
	if errors.As(err, &noRoom) { // the disk, and not the file
		plain.Close()
		return nil, 0, err
	}
	at := syscall.NsecToTimeval(info.ModTime().UnixNano()) // which dates what has no year
	_ = syscall.Futimes(int(plain.Fd()), []syscall.Timeval{at, at})
	return plain, size, err
}

// packedDone lets go of packed files that are read and settled.
func (r *Reader) packedDone() {
	for k, st := range r.streams {
		if st.packed == 0 || st.read < st.size || !st.ledger.Idle() {
			continue
		}
		r.mu.Lock()
		st.info.Packed = st.packed
		r.mu.Unlock()
		r.Save()
		r.shut(k, st)
	}
}

// mostGone is of how many deleted files of a source is kept how they began.
const mostGone = 16

// packedNames are what the names of packed files end with.
var packedNames = []string{".gz", ".zst", ".xz", ".bz2"}

// goneFile is a deleted file of which is kept how it began and how far it was read.
type goneFile struct {
	known position.File // under a key of its own, since its inode is that of another soon
	last  []byte        // before where it was read to; nil where that is not known any more
}

// mostLast bounds what is kept of the content of a deleted file: what its program may have written after it was
// packed.
const mostLast = 64 << 10

// leastLast is what must be the same of it, or all.
const leastLast = 1 << 10

// ending is the last of what a file has before an offset.
func ending(file io.ReaderAt, offset int64) []byte {
	p := make([]byte, min(offset, mostLast))
	if n, err := file.ReadAt(p, offset-int64(len(p))); n < len(p) && err != nil {
		return nil
	}
	return p
}

// forget drops what is known of a file that was deleted, but for the last of what was read of it.
func (r *Reader) forget(k position.Key, last []byte) {
	known, ok := r.Store.File(k)
	r.Store.Forget(k)
	if ok {
		r.mayComePacked(known, last)
	}
}

// mayComePacked keeps for a while how a file began that is there no more, and how far it was read: where the patterns
// would take it packed, it may come again so.
func (r *Reader) mayComePacked(known position.File, last []byte) {
	if known.HeadLen == 0 || known.Offset == 0 || known.Packed > 0 {
		return
	}
	if !slices.ContainsFunc(packedNames, func(end string) bool { return r.wants(known.Path + end) }) {
		return
	}
	known.Dev, known.Ino, known.Moved, known.Missing = 0, known.Stream, true, 0
	if len(r.packed)+len(r.unpacking) > 0 { // over a restart too, where files are packed
		r.Store.Put(known)
	}
	if r.gonePacked = append(r.gonePacked, goneFile{known, last}); len(r.gonePacked) > mostGone {
		r.Store.Forget(r.gonePacked[0].known.Key())
		r.gonePacked = r.gonePacked[1:]
	}
}

// wasReadOn tells whether all of an unpacked file was read, and more: its program wrote on for a moment when it was
// packed already. A file that was deleted has that, or one that is still open.
func (r *Reader) wasReadOn(plain *os.File, size int64) bool {
	begins := func(f position.File) bool {
		if f.HeadLen == 0 || size < int64(f.HeadLen) {
			return false
		}
		n, sum, err := position.Head(plain, int64(f.HeadLen))
		return err == nil && n == f.HeadLen && sum == f.Head
	}
	for _, st := range r.streams {
		if st.packed == 0 && st.size > size && begins(st.info) &&
			bytes.Equal(ending(st.file, size), ending(plain, size)) {
			return true
		}
	}
	for i, gone := range r.gonePacked {
		before := gone.known.Offset - size // of which the packed one lacks
		if before <= 0 || before >= int64(len(gone.last)) || !begins(gone.known) {
			continue
		}
		same := gone.last[:int64(len(gone.last))-before]
		if int64(len(same)) >= min(size, leastLast) && bytes.HasSuffix(ending(plain, size), same) {
			r.Store.Forget(gone.known.Key()) // it is this one, and no other
			r.gonePacked = slices.Delete(r.gonePacked, i, i+1)
			return true
		}
	}
	return false
}
