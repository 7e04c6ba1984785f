package deliver

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Rejects keeps records that destinations refused for good: a folder for each destination, and in it files of JSON
// lines, the oldest first. What is over the bounds of a destination, or of all together, goes, oldest first, and is
// counted.
type Rejects struct {
	Dir string
	Log *slog.Logger
	// Most is how many bytes those of all destinations may have together now; nil for any.
	Most func() int64

	mu     sync.Mutex
	of     map[string]*kept // of destinations that were looked at
	unread map[string]int64 // bytes of the others; nil before they were counted
}

// kept is what is kept of one destination.
type kept struct {
	files  []*rejectFile
	bytes  int64
	gone   int64 // records that went by the bounds
	number int64 // of the last line
}

// rejectFile is one file; its lines are in the order of their numbers.
type rejectFile struct {
	path   string
	bytes  int64
	newest time.Time
	last   int64 // number of its last line
	groups map[RejectCause]*RejectGroup
}

// RejectCause is what rejects are grouped by.
type RejectCause struct {
	Cause  string // in short, such as 422
	Source string
	Shape  string // of the destination's answer
}

// RejectGroup is how many there are of a cause.
type RejectGroup struct {
	RejectCause
	Reason         string // the last answer, in words
	Records, Bytes int64
	First, Last    time.Time
}

// Reject is a record that was refused.
type Reject struct {
	Number   int64           `json:"number"`
	Rejected time.Time       `json:"rejected"`
	Cause    string          `json:"cause"`
	Reason   string          `json:"reason"`
	Source   string          `json:"source"`
	Record   json.RawMessage `json:"record,omitempty"` // a record in NDJSON
	OTLP     []byte          `json:"otlp,omitempty"`   // an ExportLogsServiceRequest with this record
}

// Bounds of the files: the share of the room that one takes, and the least and most of it.
const (
	rejectShare   = 16
	rejectFileMin = 64 << 10
	rejectFileMax = 8 << 20
)

func (r *Rejects) folder(destination string) string { return filepath.Join(r.Dir, destination) }

// at is what is kept of a destination, read from disk when it is asked for first. The rejects are locked.
func (r *Rejects) at(destination string) (*kept, error) {
	if k := r.of[destination]; k != nil {
		return k, nil
	}
	dir := r.folder(destination)
	old := dir + ".ndjson" // of a version that kept one file
	if _, err := os.Stat(old); err == nil {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return nil, err
		}
		if err := os.Rename(old, filepath.Join(dir, fmt.Sprintf("%020d.ndjson", 0))); err != nil {
			return nil, err
		}
	}
	names, err := filepath.Glob(filepath.Join(dir, "*.ndjson"))
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	k := &kept{}
	for _, path := range names {
		f := &rejectFile{path: path, groups: map[RejectCause]*RejectGroup{}}
		err := eachReject(path, func(x Reject, size int64) bool {
			f.note(x, size)
			k.number = max(k.number, x.Number)
			return true
		})
		if err != nil {
			return nil, err
		}
		k.files = append(k.files, f)
		k.bytes += f.bytes
	}
	if r.of == nil {
		r.of = map[string]*kept{}
	}
	r.of[destination] = k
	delete(r.unread, destination)
	return k, nil
}

func (f *rejectFile) note(x Reject, size int64) {
	c := RejectCause{x.Cause, x.Source, wire.Shape(x.Reason)}
	g := f.groups[c]
	if g == nil {
		g = &RejectGroup{RejectCause: c, First: x.Rejected}
		f.groups[c] = g
	}
	g.Records++
	g.Bytes += size
	g.Last, g.Reason = x.Rejected, x.Reason
	f.bytes += size
	f.newest = x.Rejected
	f.last = max(f.last, x.Number)
}

// records is how many lines a file has.
func (f *rejectFile) records() (n int64) {
	for _, g := range f.groups {
		n += g.Records
	}
	return n
}

// eachReject reads the lines of a file until do answers false. A last line that a crash tore off is passed over, and
// so is what is no reject.
func eachReject(path string, do func(x Reject, size int64) bool) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	in := bufio.NewReaderSize(f, 256<<10)
	for {
		line, err := in.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		var x Reject
		if json.Unmarshal(line, &x) == nil && !do(x, int64(len(line))) {
			return nil
		}
	}
}

// Add appends the records of a batch with the reason.
func (r *Rejects) Add(spec delivery.Spec, batch []piece, cause, why string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	k, err := r.at(spec.Name)
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	var lines []byte
	var all []Reject
	var sizes []int64
	number := k.number
	for _, p := range batch {
		for i := p.from; i < p.to; i++ {
			one := piece{p.item, i, i + 1}.bytes()
			number++
			x := Reject{Number: number, Rejected: now, Cause: cause, Reason: why, Source: p.item.Encoded.Origin.Source}
			if p.item.Encoded.Encoding == record.OTLP {
				x.OTLP = record.AppendResourceLogs(nil, p.item.Encoded.Origin, one)
			} else {
				x.Record = bytes.TrimSpace(one)
			}
			text, err := json.Marshal(x)
			if err != nil {
				return err
			}
			lines = append(append(lines, text...), '\n')
			all, sizes = append(all, x), append(sizes, int64(len(text)+1))
			x.Record, x.OTLP = nil, nil
		}
	}
	if len(all) == 0 {
		return nil
	}
	k.number = number
	if room, err := r.makeRoom(int64(len(lines))); err != nil || !room {
		k.gone += int64(len(all))
		return err
	}
	keep := spec.Rejects.Keep
	if keep <= 0 {
		keep = delivery.DefaultRejects.Keep
	}
	if r.Most != nil {
		keep = min(keep, r.Most())
	}
	f := k.newest(max(rejectFileMin, min(rejectFileMax, keep/rejectShare)))
	if f == nil {
		if err := os.MkdirAll(r.folder(spec.Name), 0o700); err != nil {
			return err
		}
		f = &rejectFile{path: filepath.Join(r.folder(spec.Name), fmt.Sprintf("%020d.ndjson", all[0].Number)),
			groups: map[RejectCause]*RejectGroup{}}
	}
	if err := appendSynced(f.path, lines); err != nil {
		return err
	}
	if len(k.files) == 0 || k.files[len(k.files)-1] != f {
		k.files = append(k.files, f)
	}
	for i, x := range all {
		f.note(x, sizes[i])
	}
	k.bytes += int64(len(lines))
	return r.prune(k, spec.Rejects, now)
}

// makeRoom removes the oldest files of all destinations until so many bytes more are under the ceiling; false when
// that is not enough. The rejects are locked.
func (r *Rejects) makeRoom(more int64) (bool, error) {
	for r.Most != nil && r.bytes()+more > r.Most() {
		for name := range r.unread {
			if _, err := r.at(name); err != nil {
				return false, err
			}
		}
		var oldest *kept
		for _, k := range r.of {
			if len(k.files) > 0 && (oldest == nil || k.files[0].newest.Before(oldest.files[0].newest)) {
				oldest = k
			}
		}
		if oldest == nil {
			return false, nil
		}
		if err := oldest.drop(); err != nil {
			return false, err
		}
	}
	return true, nil
}

// drop removes the oldest file, and counts what was in it.
func (k *kept) drop() error {
	f := k.files[0]
	if err := os.Remove(f.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	k.files = k.files[1:]
	k.bytes -= f.bytes
	k.gone += f.records()
	return nil
}

// newest is the file that is appended to, or nil when there must be another one.
func (k *kept) newest(most int64) *rejectFile {
	if n := len(k.files); n > 0 && k.files[n-1].bytes < most {
		return k.files[n-1]
	}
	return nil
}

func appendSynced(path string, lines []byte) error {
	f, err := openFile(path)
	if err != nil {
		return err
	}
	defer f.Close()
	at, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	if _, err = f.Write(lines); err == nil {
		err = f.Sync()
	}
	if err != nil {
		_ = f.Truncate(at)
	}
	return err
}

// prune removes the oldest files while there is too much, or while they are too old. The rejects are locked.
func (r *Rejects) prune(k *kept, bounds delivery.Rejects, now time.Time) error {
	for len(k.files) > 0 {
		f := k.files[0]
		over := bounds.Keep > 0 && k.bytes > bounds.Keep && len(k.files) > 1
		if !over && (bounds.For <= 0 || now.Sub(f.newest) <= bounds.For) {
			return nil
		}
		if err := k.drop(); err != nil {
			return err
		}
	}
	return nil
}

// Prune removes what is over the bounds of a destination.
func (r *Rejects) Prune(spec delivery.Spec, now time.Time) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	k, err := r.at(spec.Name)
	if err != nil {
		return err
	}
	return r.prune(k, spec.Rejects, now)
}

// Rename gives the rejects of a destination its new name.
func (r *Rejects) Rename(was, now string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if _, err := r.at(was); err != nil { // also moves what a version before kept otherwise
		return err
	}
	if _, err := os.Stat(r.folder(now)); err == nil {
		return nil
	}
	err := os.Rename(r.folder(was), r.folder(now))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	delete(r.of, was)
	delete(r.of, now)
	r.unread = nil // counted anew
	return err
}

// Bytes is how much is kept of all destinations.
func (r *Rejects) Bytes() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.bytes()
}

// bytes is Bytes while the rejects are locked.
func (r *Rejects) bytes() (n int64) {
	if r.unread == nil {
		r.unread = map[string]int64{}
		for _, name := range r.Destinations() {
			if r.of[name] == nil {
				r.unread[name] = r.size(name)
			}
		}
	}
	for _, k := range r.of {
		n += k.bytes
	}
	for _, bytes := range r.unread {
		n += bytes
	}
	return n
}

// size is how many bytes the files of a destination have.
func (r *Rejects) size(destination string) (n int64) {
	paths, _ := filepath.Glob(filepath.Join(r.folder(destination), "*.ndjson")) // the pattern is right
	for _, path := range append(paths, r.folder(destination)+".ndjson") {
		if info, err := os.Stat(path); err == nil {
			n += info.Size()
		}
	}
	return n
}

// Destinations are those of which something is kept.
func (r *Rejects) Destinations() []string {
	entries, err := os.ReadDir(r.Dir)
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range entries {
		if name := strings.TrimSuffix(e.Name(), ".ndjson"); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Summary is what is kept of a destination, by cause, the largest first; and how many records went by the bounds since
// the agent started.
func (r *Rejects) Summary(destination string) (groups []RejectGroup, gone int64, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k, err := r.at(destination)
	if err != nil {
		return nil, 0, err
	}
	sums := map[RejectCause]*RejectGroup{}
	for _, f := range k.files {
		for c, g := range f.groups {
			s := sums[c]
			if s == nil {
				one := *g
				sums[c] = &one
				continue
			}
			s.Records += g.Records
			s.Bytes += g.Bytes
			if g.Last.After(s.Last) {
				s.Last, s.Reason = g.Last, g.Reason
			}
			if g.First.Before(s.First) {
				s.First = g.First
			}
		}
	}
	for _, g := range sums {
		groups = append(groups, *g)
	}
	slices.SortFunc(groups, func(a, b RejectGroup) int {
		return cmp.Or(cmp.Compare(b.Records, a.Records), strings.Compare(a.Reason, b.Reason),
			strings.Compare(a.Source, b.Source))
	})
	return groups, k.gone, nil
}

// RejectFilter chooses rejects; what is empty chooses all.
type RejectFilter struct {
	Cause, Source string
	After         int64 // numbers above this
	Numbers       []int64
}

// passes tells whether a file with numbers above before and up to last holds none that the filter chooses.
func (f RejectFilter) passes(before, last int64) bool {
	return last <= f.After || len(f.Numbers) > 0 &&
		!slices.ContainsFunc(f.Numbers, func(n int64) bool { return n > before && n <= last })
}

func (f RejectFilter) takes(x Reject) bool {
	return (f.Cause == "" || f.Cause == x.Cause) && (f.Source == "" || f.Source == x.Source) && x.Number > f.After &&
		(len(f.Numbers) == 0 || slices.Contains(f.Numbers, x.Number))
}

// List reads rejects of a destination in the order in which they came, up to so many and so many bytes. more tells
// whether there are others.
func (r *Rejects) List(destination string, f RejectFilter, records int, bytes int64) (list []Reject, more bool,
	err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k, err := r.at(destination)
	if err != nil {
		return nil, false, err
	}
	before := int64(-1)
	for _, file := range k.files {
		if f.passes(before, file.last) {
			before = file.last
			continue
		}
		before = file.last
		err := eachReject(file.path, func(x Reject, size int64) bool {
			if !f.takes(x) {
				return true
			}
			if len(list) >= records || bytes < size && len(list) > 0 {
				more = true
				return false
			}
			list = append(list, x)
			bytes -= size
			return true
		})
		if err != nil || more {
			return list, more, err
		}
	}
	return list, false, nil
}

// Remove takes rejects of a destination away, and answers how many.
func (r *Rejects) Remove(destination string, f RejectFilter) (removed int64, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	k, err := r.at(destination)
	if err != nil {
		return 0, err
	}
	before := int64(-1)
	for i := 0; i < len(k.files); i++ {
		file := k.files[i]
		pass := f.passes(before, file.last)
		if before = file.last; pass {
			continue
		}
		next := &rejectFile{path: file.path, groups: map[RejectCause]*RejectGroup{}}
		var lines []byte
		err := eachReject(file.path, func(x Reject, _ int64) bool {
			if f.takes(x) {
				return true
			}
			text, err := json.Marshal(x)
			if err == nil {
				lines = append(append(lines, text...), '\n')
				next.note(x, int64(len(text)+1))
			}
			return true
		})
		if err != nil {
			return removed, err
		}
		n := file.records() - next.records()
		if n == 0 {
			continue
		}
		if len(lines) == 0 {
			err = os.Remove(file.path)
		} else {
			err = replaceFile(file.path, lines)
		}
		if err != nil {
			return removed, err
		}
		removed += n
		k.bytes += next.bytes - file.bytes
		if len(lines) == 0 {
			k.files = slices.Delete(k.files, i, i+1)
			i--
		} else {
			k.files[i] = next
		}
	}
	return removed, nil
}

// replaceFile writes a file anew: after a crash either the old or the new one is there.
func replaceFile(path string, text []byte) error {
	tmp := path + ".next"
	if err := os.WriteFile(tmp, text, 0o600); err != nil {
		return err
	}
	f, err := os.Open(tmp)
	if err == nil {
		err = f.Sync()
		f.Close()
	}
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		_ = os.Remove(tmp)
	}
	return err
}
