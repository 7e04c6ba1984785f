package buffer

import "slices"

// ranges are numbers that are done: all below prefix, and some beyond.
type ranges struct {
	prefix uint64
	beyond [][2]uint64 // from, to; in order, apart from each other
	count  int64       // of the numbers beyond
}

// add notes that the numbers from one up to before another are done. It answers how many were not before.
func (r *ranges) add(from, to uint64) (fresh int64) {
	from = max(from, r.prefix)
	if from >= to {
		return 0
	}
	fresh = int64(to - from)
	at, _ := slices.BinarySearchFunc(r.beyond, from, func(x [2]uint64, from uint64) int {
		if x[1] < from {
			return -1
		}
		return 1
	})
	last := at
	for last < len(r.beyond) && r.beyond[last][0] <= to {
		x := r.beyond[last]
		if a, b := max(x[0], from), min(x[1], to); a < b {
			fresh -= int64(b - a)
		}
		from, to = min(from, x[0]), max(to, x[1])
		last++
	}
	r.beyond = slices.Replace(r.beyond, at, last, [2]uint64{from, to})
	r.count += fresh
	if r.beyond[0][0] <= r.prefix {
		r.count -= int64(r.beyond[0][1] - r.prefix)
		r.prefix = r.beyond[0][1]
		r.beyond = r.beyond[1:]
	}
	return fresh
}

// has tells whether a number is done.
func (r *ranges) has(n uint64) bool {
	if n < r.prefix {
		return true
	}
	for _, x := range r.beyond {
		if n < x[0] {
			return false
		}
		if n < x[1] {
			return true
		}
	}
	return false
}
