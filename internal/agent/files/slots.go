package files

import (
	"sync/atomic"
	"time"

	"synaxis/internal/agent/position"
)

// Slots bound how many files all sources together have open. A nil Slots bounds nothing.
type Slots struct {
	Most int64
	used atomic.Int64
}

func (s *Slots) take() bool {
	if s == nil {
		return true
	}
	if s.used.Add(1) > s.Most {
		s.used.Add(-1)
		return false
	}
	return true
}

func (s *Slots) give() {
	if s != nil {
		s.used.Add(-1)
	}
}

// tight tells whether places are getting scarce, so that a file in which nothing happens must give its place away.
func (s *Slots) tight() bool { return s != nil && s.used.Load() >= s.Most*3/4 }

func (s *Slots) limit() int64 {
	if s == nil {
		return 0
	}
	return s.Most
}

// vacate closes files in which nothing happens, the quietest first, while places are scarce: some, so that there is
// room for what comes, or as many as there are files that wait for their turn. Their positions are kept, and they are
// opened again when they have grown.
func (r *Reader) vacate(now time.Time) {
	if !r.Slots.tight() {
		return
	}
	quiet := still
	if r.late > 0 {
		quiet = stillLate
	}
	for enough := min(r.Slots.Most*3/4, r.Slots.used.Load()-int64(r.inTurns)); r.Slots.used.Load() > enough; {
		var key position.Key
		var quietest *stream
		for k, st := range r.streams {
			if st.moved.IsZero() && st.read >= st.size && st.ledger.Idle() && now.Sub(st.grew) > quiet &&
				(quietest == nil || st.grew.Before(quietest.grew)) {
				key, quietest = k, st
			}
		}
		if quietest == nil {
			return
		}
		r.Save()
		r.shut(key, quietest)
	}
}

// scanPause returns how long the patterns are not looked at. It is shorter while files with something new wait for a
// place, since a look at the patterns is what gives places away.
func (r *Reader) scanPause() time.Duration {
	if r.late > 0 {
		return min(max(2*pollEvery, hintShare*r.scanCost), scanAtMost)
	}
	return min(max(scanEvery, scanShare*r.scanCost), scanAtMost)
}

// remember notes where to begin in a file for which there is no place yet, so that what comes until there is one is
// not passed over.
func (r *Reader) remember(k position.Key, f found) {
	opened, err := r.openHere(k, f, position.File{}, false)
	if err != nil || !opened {
		return
	}
	r.Save()
	st := r.streams[k]
	r.mu.Lock()
	st.file.Close()
	delete(r.streams, k)
	r.mu.Unlock()
}
