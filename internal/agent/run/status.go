package run

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"synaxis/internal/agent/deliver"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/wire"
)

// filling is how a buffer fills.
type filling struct {
	at    time.Time
	bytes int64
	full  time.Duration // after which it is full at the present rate; 0 for never
}

// fullSoon is from when on it is said that a buffer fills.
const fullSoon = 24 * time.Hour

// measured is over how long the rate of filling is taken, at least.
const measured = time.Minute

// measure looks how the buffers fill, and removes rejects that are too old.
func (e *Engine) measure(now time.Time) {
	for _, name := range e.rejects.Destinations() {
		spec := delivery.Spec{Name: name, Rejects: delivery.DefaultRejects} // of one that left the config
		if d := e.dest(name); d != nil {
			spec = d.Spec
		}
		if err := e.rejects.Prune(spec, now); err != nil {
			e.log.Error("old rejects cannot be removed", "destination", name, "error", err)
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for name, d := range e.dests {
		used := int64(0)
		for _, b := range d.Backlog() {
			used += b.DiskBytes
		}
		f := e.filling[name]
		switch {
		case f == nil || used == 0 || used < f.bytes:
			e.filling[name] = &filling{at: now, bytes: used}
		case now.Sub(f.at) >= 5*measured:
			*f = filling{now, used, f.full}
		case now.Sub(f.at) >= measured || now.Sub(f.at) >= 5*time.Second && f.full == 0:
			if rate := float64(used-f.bytes) / now.Sub(f.at).Seconds(); rate > 0 {
				left := float64(max(0, d.Spec.Buffer.Disk-used))
				f.full = time.Duration(min(left/rate, float64(1<<31)) * float64(time.Second))
			} else {
				f.full = 0
			}
		}
	}
}

// diskFull tells whether so many bytes more of buffers are over the agent's own ceiling. A part of it is left to
// rejects, and to what several destinations add at the same time.
func (e *Engine) diskFull(more int64) bool {
	limit := e.diskLimit.Load()
	limit -= limit / 8
	return limit > 0 && e.buffers.Bytes()+e.rejects.Bytes()+e.store.Size()+more > limit
}

// forRejects is how many bytes rejects may have under the agent's own ceiling.
func (e *Engine) forRejects() int64 {
	limit := e.diskLimit.Load()
	if limit == 0 {
		return math.MaxInt64
	}
	return limit - e.buffers.Bytes() - e.store.Size()
}

// Sources tells how the sources are, ordered by name.
func (e *Engine) Sources() []Status {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var list []Status
	for name, s := range e.sources {
		if s.setup.Only != "" { // it reads the same files as the source's own reading
			continue
		}
		st := Status{Name: name}
		if c := s.input.Complaint(); c.Code != "" {
			st.Code, st.Reason, st.Since = c.Code, c.Reason, c.Since
		}
		for _, to := range s.setup.Spec.Destinations() {
			if d := e.dests[to]; d != nil && st.Code == "" {
				e.held(&st, s, d)
			}
		}
		for _, to := range s.setup.Spec.Destinations() { // what is not as it should be, and holds nothing
			if d := e.dests[to]; d != nil && st.Code == "" {
				if t := e.trouble(d); health.Harmless(t.Code) {
					st.Code, st.Reason, st.Since = t.Code, to+": "+t.Reason, t.Since
				}
			}
		}
		list = append(list, st)
	}
	slices.SortFunc(list, func(a, b Status) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// held says that a source is held by a destination that takes nothing.
func (e *Engine) held(st *Status, s *source, d *deliver.Destination) {
	to := d.Spec.Name
	t := e.trouble(d)
	if t.Code == "" || health.Harmless(t.Code) {
		return
	}
	waits := "its records wait on the host"
	if own := e.sources[reading(st.Name, to)]; own != nil {
		s = own
	}
	if h := s.out.held.Load(); h != nil && *h == to {
		waits = "reading waits"
	}
	st.Code, st.Since = health.HeldBy, t.Since
	st.Reason = fmt.Sprintf("held by %s: %s; %s", to, t.Reason, waits)
}

// trouble is what is wrong with a destination, the worst first.
func (e *Engine) trouble(d *deliver.Destination) (st Status) {
	st.Name = d.Spec.Name
	now := time.Now()
	f := e.filling[st.Name]
	soon := ""
	if f != nil && f.full > 0 && f.full < fullSoon {
		soon = fmt.Sprintf("its buffer is full in %s at the present rate", rough(f.full))
	}
	full := d.Full()
	t := d.Trouble()
	switch {
	case d.Unwritable() != nil:
		st.Code, st.Since = health.BufferUnwritable, now
		st.Reason = "the buffer on disk cannot be written: " + d.Unwritable().Error()
	case !full.IsZero() && now.Sub(full) > patience && d.Spec.Buffer.AtLimit == "pause":
		st.Code, st.Since = health.BufferFull, full
		st.Reason = "its buffer on disk is full"
		if t.Code != "" {
			st.Reason += ", since " + t.Reason
		}
	case t.Code != "" && now.Sub(t.Since) > patience:
		st.Code, st.Reason, st.Since = t.Code, t.Reason, t.Since
		if soon != "" {
			st.Reason += "; " + soon
		}
	case lately(d, now) != "":
		st.Code, st.Reason, st.Since = health.RecordsDiscarded, lately(d, now), now
	case soon != "":
		st.Code, st.Reason, st.Since = health.BufferFilling, soon, f.at
	case expiring(d.Expires(), now):
		st.Code = health.CertificateExpiring
		st.Reason = fmt.Sprintf("a certificate by which it is reached expires on %s", d.Expires().UTC().Format("2006-01-02 15:04 UTC"))
	case d.Spec.TLS.NoVerify:
		st.Code, st.Reason = health.NotVerified, "its certificate is not verified"
	}
	return st
}

// expiresSoon is from when on it is said that a certificate expires.
const expiresSoon = 14 * 24 * time.Hour

func expiring(at, now time.Time) bool { return !at.IsZero() && at.Sub(now) < expiresSoon }

// Bounds of saying what is over: that records were given up, and what was left of a destination that left the config.
const (
	discardsSaid = time.Hour
	leftSaid     = 24 * time.Hour
)

// lately tells which records were given up lately, or "".
func lately(d *deliver.Destination, now time.Time) string {
	var parts []string
	for source, x := range d.Discarded() {
		if now.Sub(x.At) < discardsSaid {
			parts = append(parts, fmt.Sprintf("%d records of %s, read from %s to %s", x.Records, source,
				x.From.UTC().Format("15:04:05"), x.To.UTC().Format("15:04:05 UTC")))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	slices.Sort(parts)
	return "given up, since the buffer was full: " + strings.Join(parts, "; ")
}

// rough is a duration as people say it.
func rough(d time.Duration) string {
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h", int(d.Hours()))
}

// Destinations tells how the destinations are, ordered by name.
func (e *Engine) Destinations() []Status {
	e.mu.RLock()
	defer e.mu.RUnlock()
	var list []Status
	for _, d := range e.dests {
		st := e.trouble(d)
		if why, at := d.Refusal(); st.Code == "" && why != "" {
			st.Reason, st.Since = why, at // all is well now; this is the last answer that refused records
		}
		list = append(list, st)
	}
	for name, p := range e.parting {
		if e.dests[name] != nil {
			continue
		}
		waiting := int64(0)
		for _, b := range p.dest.Backlog() {
			waiting += b.InMemory + b.OnDisk
		}
		st := Status{Name: name, Code: health.LeavingConfig, Since: p.kept.Until.Add(-p.kept.Spec.Drain)}
		st.Reason = fmt.Sprintf("it left the config; %d records are still to be delivered, until %s", waiting,
			p.kept.Until.UTC().Format("2006-01-02 15:04 UTC"))
		if waiting > 0 {
			list = append(list, st)
		}
	}
	for name, st := range e.parted {
		if e.dests[name] == nil && e.parting[name] == nil && time.Since(st.Since) < leftSaid {
			list = append(list, st)
		}
	}
	slices.SortFunc(list, func(a, b Status) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// Numbers returns what was counted of each source, and since when.
func (e *Engine) Numbers() (map[string]wire.Numbers, time.Time) {
	e.mu.RLock()
	defer e.mu.RUnlock()
	all := e.numbers()
	for name, n := range all { // of a source that left the config nothing is told but what waits
		waits := int64(0)
		for _, c := range n.Deliveries {
			waits += c.Waiting()
		}
		if e.sources[name] == nil && waits == 0 {
			delete(all, name)
		}
	}
	for _, s := range e.sources {
		name := s.setup.Spec.Name
		n, w := all[name], s.input.Waiting()
		if s.setup.Only != "" { // of two readings of the same files, what is behind counts
			n.Unread, n.Oldest = max(n.Unread, w.Unread), earlier(n.Oldest, w.Oldest)
		} else {
			w.Unread, w.Oldest = max(n.Unread, w.Unread), earlier(n.Oldest, w.Oldest)
			n.Add(w)
		}
		all[name] = n
	}
	for name, d := range e.delivering() {
		for _, b := range d.Backlog() {
			n, ok := all[b.Source]
			c, has := n.Deliveries[name]
			if !ok || !has {
				continue
			}
			c.DiskBytes = b.DiskBytes
			if !b.Oldest.IsZero() {
				c.Oldest = b.Oldest.UnixNano()
				n.Oldest = earlier(n.Oldest, c.Oldest)
			}
			n.Deliveries[name] = c
			all[b.Source] = n
		}
	}
	return all, e.store.Began()
}

// delivering are the destinations of the config, and those that left it and still deliver. The engine is locked.
func (e *Engine) delivering() map[string]*deliver.Destination {
	out := make(map[string]*deliver.Destination, len(e.dests))
	for name, p := range e.parting {
		out[name] = p.dest
	}
	maps.Copy(out, e.dests)
	return out
}

// earlier is the earlier of two times, of which 0 is none.
func earlier(a, b int64) int64 {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}
