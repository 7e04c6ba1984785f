package files

import (
	"errors"
	"io"
	"os"
	"syscall"

	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
)

// open begins to read a file that is not open yet.
func (r *Reader) open(k position.Key, f found) error {
	known, isKnown := r.Store.File(k)
	if r.isPacked(k, f.info) {
		return nil
	}
	if isKnown && !known.Moved && known.Offset == f.info.Size() && r.Slots.tight() { // nothing is new in it
		r.inTurns++
		return nil
	}
	if !r.Slots.take() {
		r.late++
		if r.inTurns++; !isKnown {
			r.remember(k, f)
		}
		return nil
	}
	opened, err := r.openHere(k, f, known, isKnown)
	if !opened {
		r.Slots.give()
	}
	return err
}

// openHere is open, with a place for the file; it answers whether that is taken.
func (r *Reader) openHere(k position.Key, f found, known position.File, isKnown bool) (bool, error) {
	file, err := os.OpenFile(
		f.path,
		os.O_RDONLY|syscall.O_NONBLOCK,
		0,
	) // what took its place since is closed again below
	if err != nil {
		return false, err
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return false, err
	}
	if dev, ino := position.Identity(info); dev != k.Dev || ino != k.Ino {
		file.Close()
		return false, nil // replaced since; the next scan sees the new one
	}
	if !f.probe && packing(file) >= 0 {
		return r.openPacked(k, f, file, info)
	}
	size := info.Size()
	if f.probe {
		return r.begin(k, f.path, file, size, start{probe: true})
	}
	if isKnown && !known.Moved && known.Offset > 0 && !r.cut[k] && !known.Matches(file, size) {
		r.cut[k] = true
		file.Close()
		return false, nil
	}
	if isKnown && (known.Matches(file, size) || !known.Moved) {
		offset := int64(0)
		if known.Matches(file, size) {
			offset = known.Offset
		} else if known.Offset > 0 {
			r.shrank(f.path, known.Offset, size)
			r.mayComePacked(known, nil)
		}
		from := start{offset: offset, known: true}
		if offset > 0 || known.Offset == 0 && known.Matches(file, size) {
			from.stream, from.ahead = known.Stream, known.Ahead
		}
		return r.begin(k, f.path, file, size, from)
	}
	offset := int64(0)
	if f.first && r.Spec.FirstRead == "now" && !r.Store.Reread() {
		offset = lineStart(file, size)
	}
	if c, waited := r.copies[k]; waited { // it is none: it begins where it would have begun when it was found
		offset = c.offset
	}
	if verdict, from := r.copyOf(k, file, size, offset); verdict == copyYes {
		delete(r.copies, k)
		return r.inherit(k, f.path, file, size, from)
	} else if verdict == copyWait {
		file.Close()
		return false, nil
	}
	delete(r.copies, k)
	return r.begin(k, f.path, file, size, start{offset: offset})
}

// start is where reading a file begins.
type start struct {
	offset int64
	ledger *settle.Ledger // that goes on; nil for a new one
	known  bool           // it is not read for the first time
	stream uint64         // 0 for a new one
	ahead  []position.Ahead
	probe  bool
}

// begin reads an open file. It answers whether the file stays open.
func (r *Reader) begin(k position.Key, path string, file *os.File, size int64, from start) (bool, error) {
	offset := from.offset
	if from.ledger == nil {
		from.ledger = r.Book.Ledger(cursorAt(offset), cursorsOf(from.ahead))
	}
	st := &stream{file: file, read: offset, ledger: from.ledger, origin: r.Origin(path), grew: r.Now(),
		info: position.File{
			Source: r.Spec.Name,
			Path:   path,
			Dev:    k.Dev,
			Ino:    k.Ino,
		}, size: size, first: size, begun: from.known, probe: from.probe}
	r.name(st, from.stream)
	var err error
	if st.info.HeadLen, st.info.Head, err = position.Head(file, size); err == nil {
		st.tail = make([]byte, min(offset, position.TailSize))
		_, err = file.ReadAt(st.tail, offset-int64(len(st.tail)))
	}
	if err != nil && !errors.Is(err, io.EOF) {
		file.Close()
		return false, err
	}
	if offset < size {
		st.marks = []mark{{size, st.since(r.Now())}}
	}
	if info, err := file.Stat(); err == nil {
		st.wrote = info.ModTime()
	}
	r.mu.Lock()
	r.streams[k] = st
	delete(r.missing, k)
	r.mu.Unlock()
	return true, nil
}
