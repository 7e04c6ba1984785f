package settle

import "time"

// mostMarks bounds what is kept of the ages of what waits of one sender.
const mostMarks = 32

// Waits are records of a sender that wait for a destination, with about when they were read. Those that were read
// first are taken first. A moment is never too late: the oldest of what waits is as old as it says or younger.
type Waits struct {
	Records int64
	marks   []mark
}

// mark are records that were read at a moment or after it, and before the next mark.
type mark struct {
	at      int64 // Unix seconds
	records int64
}

// Add adds records that were read at a moment.
func (w *Waits) Add(at time.Time, records int64) {
	if records <= 0 {
		return
	}
	w.Records += records
	second := at.Unix()
	if n := len(w.marks); n > 0 && second <= w.marks[n-1].at { // also while the clock is set back
		w.marks[n-1].records += records
		return
	}
	if len(w.marks) == mostMarks {
		w.join()
	}
	w.marks = append(w.marks, mark{second, records})
}

// join puts the two marks together that lie closest for their age.
func (w *Waits) join() {
	last := w.marks[len(w.marks)-1].at
	best, least := 1, 2.0
	for i := 1; i < len(w.marks); i++ {
		if share := float64(w.marks[i].at-w.marks[i-1].at) / float64(last-w.marks[i-1].at+1); share < least {
			best, least = i, share
		}
	}
	w.marks[best-1].records += w.marks[best].records
	w.marks = append(w.marks[:best], w.marks[best+1:]...)
}

// Take takes records that wait no more.
func (w *Waits) Take(records int64) {
	records = min(records, w.Records)
	if records <= 0 {
		return
	}
	w.Records -= records
	i := 0
	for ; records > 0; i++ {
		if w.marks[i].records > records {
			w.marks[i].records -= records
			break
		}
		records -= w.marks[i].records
	}
	w.marks = w.marks[i:]
	if len(w.marks) == 0 {
		w.marks = nil
	}
}

// Oldest is since when the oldest waits, in Unix nanoseconds; 0 where nothing waits.
func (w *Waits) Oldest() int64 {
	if len(w.marks) == 0 {
		return 0
	}
	return w.marks[0].at * int64(time.Second)
}

// merge adds what waits by another account, and leaves that one empty.
func (w *Waits) merge(from *Waits) {
	marks := append(append([]mark(nil), w.marks...), from.marks...)
	*w = Waits{}
	for len(marks) > 0 { // at most twice mostMarks
		first := 0
		for i, m := range marks {
			if m.at < marks[first].at {
				first = i
			}
		}
		w.Add(time.Unix(marks[first].at, 0), marks[first].records)
		marks = append(marks[:first], marks[first+1:]...)
	}
	*from = Waits{}
}
