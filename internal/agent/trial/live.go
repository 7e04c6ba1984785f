package trial

import (
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"synaxis/internal/core/format"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
)

// Bounds of what is copied of a source that reads no files.
const (
	mostQueued  = 4 << 20 // bytes that wait to be treated; what comes beyond is passed over
	mostSenders = 500     // that have a treatment of their own
	overhead    = 96      // bytes that a message takes beside its text
)

// live copies what a source gets that reads no files, while it is treated.
type live struct {
	tap    *pipeline.Tap
	copies *pipeline.Copy

	mu      sync.Mutex
	queue   []pipeline.Raw
	bytes   int
	skipped int64
	place   int64 // of the next record
}

// listen begins to copy.
func listen(tap *pipeline.Tap) *live {
	l := &live{tap: tap}
	l.copies = &pipeline.Copy{Take: l.take}
	tap.OpenCopy(l.copies)
	return l
}

func (l *live) close() { l.tap.CloseCopy(l.copies) }

// take keeps a copy of what is treated now, where there is room.
func (l *live) take(r pipeline.Raw) {
	size, texts := 0, 0
	if r.Lines {
		texts = len(r.Arena)
	}
	for i := range r.Messages {
		m := &r.Messages[i]
		texts += int(m.Text.Len)
		if size += overhead; m.Given != nil {
			size += m.Given.Size()
		}
	}
	size += texts
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.bytes+size > mostQueued {
		l.skipped += int64(texts)
		return
	}
	l.bytes += size
	if r.Lines {
		r.Arena = slices.Clone(r.Arena)
	} else {
		arena, messages := make([]byte, 0, texts), slices.Clone(r.Messages)
		for i, m := range messages {
			messages[i].Text.Off = uint32(len(arena))
			arena = append(arena, r.Arena[m.Text.Off:m.Text.Off+m.Text.Len]...)
		}
		r.Arena, r.Messages = arena, messages
	}
	l.queue = append(l.queue, r)
}

// taken gives what has come, and how many bytes were passed over.
func (l *live) taken() (list []pipeline.Raw, skipped int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	list, skipped = l.queue, l.skipped
	l.queue, l.bytes, l.skipped = nil, 0, 0
	return list, skipped
}

// follow treats both ways what has come since the last turn. The trial is locked.
func (t *Trial) follow(s *source, share time.Duration) {
	list, skipped := s.live.taken()
	t.skipped += skipped
	for began := time.Now(); len(list) > 0; list = list[1:] {
		if time.Since(began) > share { // it is too slow: the rest is passed over
			for _, r := range list {
				t.skipped += int64(len(r.Arena))
			}
			return
		}
		r := list[0]
		n := int64(max(len(r.Messages), len(r.Arena)))
		kept, sides := [2]map[int64]string{}, [2]*side{s.now, s.then}
		s.turns++
		for k := range sides {
			i := (k + s.turns) % 2 // who comes second finds the bytes at hand
			if sides[i] != nil {
				kept[i] = sides[i].treat(r, s.live.place)
			}
		}
		s.live.place += n
		if s.now != nil && s.then != nil {
			s.compare(kept[0], kept[1], s.live.place)
		}
	}
}

// treat treats what came, as the sender's records are treated by this side, and answers what became of each record by
// its place.
func (x *side) treat(r pipeline.Raw, place int64) map[int64]string {
	kept := map[int64]string{}
	treatment, b := x.of(r), &x.batch
	b.Reset()
	b.Arena = append(b.Arena, r.Arena...)
	b.Origin = r.Origin
	began := time.Now()
	if !r.Lines {
		c := treatment.RunMessages(b, r.Messages, place, r.Observed)
		x.sums.Nanoseconds += time.Since(began).Nanoseconds()
		x.count(treatment, b, c.All(), kept)
		return kept
	}
	for rest := r.Arena; len(rest) > 0; {
		b.Reset()
		b.Arena, b.Origin = append(b.Arena, rest...), r.Origin
		used, c := treatment.Run(b, place, r.Observed, records, true)
		x.sums.Nanoseconds += time.Since(began).Nanoseconds()
		x.count(treatment, b, c.All(), kept)
		if used == 0 {
			break
		}
		place += int64(used)
		rest = rest[used:]
		began = time.Now()
	}
	return kept
}

// senders are the treatments of senders, in one config.
type senders struct {
	config hostconfig.Config
	known  pipeline.KnownSenders
	own    map[string]*pipeline.Treatment // by name, or by the address of one whose format was recognised
}

func newSenders(c hostconfig.Config, s pipeline.Source) (out senders) {
	out.config, out.own = c, map[string]*pipeline.Treatment{}
	if s.Listen != nil {
		out.known = s.Listen.Known()
	}
	return out
}

// of is the treatment of what came: that of its sender, where one has its own format or zone, or where its format was
// recognised.
func (x *side) of(r pipeline.Raw) *pipeline.Treatment {
	spec, key := x.spec, ""
	if r.Origin != nil {
		if a, err := netip.ParseAddr(r.Origin.Sender); err == nil {
			if s := x.senders.known.Of(a); s != nil && s.Apart() {
				spec, key = spec.For(s.Sender), s.Name
			}
		}
	}
	recognised := spec.Format == string(format.Recognised) && r.Found != nil
	if recognised {
		key = r.Origin.Sender + " " + string(r.Found.Format.Kind)
	}
	if key == "" {
		return x.treatment
	}
	if t, ok := x.senders.own[key]; ok {
		return t
	}
	t := x.treatment
	if len(x.senders.own) < mostSenders {
		c := x.senders.config
		f, _ := c.Format(spec.Format)
		formats := c.Format
		if recognised {
			f, spec.Format = r.Found.Format, r.Found.Format.Name
			formats = func(name string) (format.Spec, bool) {
				if i := slices.IndexFunc(r.Found.Others, func(o format.Spec) bool { return o.Name == name }); i >= 0 {
					return r.Found.Others[i], true
				}
				return c.Format(name)
			}
		}
		if own, err := pipeline.Compile(spec, f, pipeline.Parts{Formats: formats, Masks: c.Mask,
			Secret: c.Secret}); err == nil {
			t = own
		}
		x.senders.own[key] = t
	}
	return t
}

// feed finds what a source gets, and says why there is nothing to try.
func (s *source) feed(h Host) {
	switch {
	case s.now == nil && s.one().spec.Input() != "files":
		s.note = fmt.Sprintf("the host does not run it yet, and a trial binds no ports and runs no programs: it reads by %s",
			s.one().spec.Input())
	case s.now != nil && s.now.spec.Input() != "files":
		if tap := h.Tap(s.name); tap != nil {
			s.live = listen(tap)
			return
		}
		s.note = "the source does not run"
	}
}
