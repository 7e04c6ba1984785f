package files

import (
	"time"

	"synaxis/internal/core/wire"
)

// mark says that a file had been written up to end at a time. The marks of a file are in order.
type mark struct {
	end int64
	at  time.Time
}

// Bounds of the marks of a file: how far apart they are, and how many there are before each second one goes.
const (
	markEvery = 200 * time.Millisecond
	maxMarks  = 512
)

// grow notes that a file has another size.
func (r *Reader) grow(st *stream, size int64) {
	now := r.Now()
	r.mu.Lock()
	defer r.mu.Unlock()
	st.size, st.grew, st.wrote, st.tried = size, now, now, time.Time{}
	if n := len(st.marks); n > 0 && now.Sub(st.marks[n-1].at) < markEvery {
		st.marks[n-1].end = size
		return
	}
	if len(st.marks) >= 16 {
		settled, n := offsetOf(st.ledger.Settled()), 0
		for n < len(st.marks) && st.marks[n].end <= settled {
			n++
		}
		st.marks = append(st.marks[:0], st.marks[n:]...)
	}
	if len(st.marks) >= maxMarks { // of two that become one, the earlier time stays
		for i := range len(st.marks) / 2 {
			st.marks[i] = mark{st.marks[2*i+1].end, st.marks[2*i].at}
		}
		st.marks = st.marks[:len(st.marks)/2]
	}
	st.marks = append(st.marks, mark{size, now})
}

// waitsSince is when the byte at an offset was written, as far as was seen.
func (st *stream) waitsSince(offset int64) time.Time {
	for _, m := range st.marks {
		if m.end > offset {
			return m.at
		}
	}
	return st.grew
}

// firstTime tells whether what a file held when it was found is being read for the first time.
func (st *stream) firstTime(offset int64) bool { return !st.begun && offset < st.first }

// Waiting tells how much waits to be read and how old the oldest is that is not settled, and how many files are left
// out. What is read for the first time has no age here: it is as old as it is.
func (r *Reader) Waiting() (n wire.Numbers) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, p := range r.packed {
		if !p.done {
			n.Packed++
		}
	}
	for _, st := range r.streams {
		if st.hole {
			continue
		}
		unread := max(0, st.size-st.read)
		n.Unread += unread
		settled := offsetOf(st.ledger.Settled())
		if st.firstTime(settled) {
			n.FirstRead += unread
			continue
		}
		if settled < st.size {
			if at := st.waitsSince(settled).UnixNano(); n.Oldest == 0 || at < n.Oldest {
				n.Oldest = at
			}
		}
	}
	return n
}
