package files

import (
	"os"
	"path/filepath"
	"time"

	"synaxis/internal/agent/position"
)

// miss looks for files that are known and not open, and forgets those that are gone. Only time counts in which this
// reader ran and saw the folder without the file: a machine that was off, and a clock that was set, forget nothing.
func (r *Reader) miss(at map[position.Key]found, now time.Time) {
	if r.lastMiss.IsZero() {
		r.lastMiss = now
	}
	ran := now.Sub(r.lastMiss) // by the monotonic clock
	if ran < missEvery {
		return
	}
	r.lastMiss = now
	ran = min(ran, 2*missEvery) // the machine may have slept
	inodes := map[string]map[uint64]bool{}
	for _, known := range r.Store.Files(r.Spec.Name) {
		k := known.Key()
		if _, there := at[k]; there || r.streams[k] != nil {
			continue
		}
		dir := filepath.Dir(known.Path)
		there, looked := inodes[dir]
		if known.Dev == 0 { // of one that may come again, packed
			there = map[uint64]bool{}
		} else if !looked {
			there = inodesOf(dir, known.Dev)
			inodes[dir] = there
		}
		if there == nil { // not to be seen, or another file system is there
			continue
		}
		r.mu.Lock()
		if there[known.Ino] {
			delete(r.missing, k)
			r.mu.Unlock()
			continue
		}
		before := time.Duration(known.Missing) * time.Second
		total := max(r.missing[k], before) + ran
		r.missing[k] = total
		r.mu.Unlock()
		if total >= position.KeepMissing {
			r.Store.Forget(k)
			delete(r.missing, k)
		} else if total-before >= time.Hour { // now and then, since it is worth little
			known.Missing = int64(total / time.Second)
			r.Store.Put(known)
		}
	}
}

// inodesOf are the inodes of a folder, or none where it is gone and the folder above it is there; nil when it cannot
// be seen, or is on another device than the file was, as where a file system is not mounted.
func inodesOf(dir string, dev uint64) map[uint64]bool {
	out := map[uint64]bool{}
	info, err := os.Stat(dir)
	for os.IsNotExist(err) && dir != "/" && dir != "." {
		dir = filepath.Dir(dir)
		if info, err = os.Stat(dir); err == nil {
			if d, _ := position.Identity(info); d == dev {
				return out
			}
			return nil
		}
	}
	if err != nil {
		return nil
	}
	if d, _ := position.Identity(info); d != dev {
		return nil
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			_, ino := position.Identity(info)
			out[ino] = true
		}
	}
	return out
}
