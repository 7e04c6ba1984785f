// Package trial runs the treatment of a config beside the one in force, on the records that come, and sends nothing:
// it tells what would be different. It reads by itself, so that what is collected is not touched; what it takes of the
// machine is bounded, and it ends by itself.
package trial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/trial"
	"synaxis/internal/core/wire"
)

// Bounds of what a trial takes.
const (
	share     = 0.1             // of a core
	chunk     = 256 << 10       // bytes that are read at a time
	behind    = 4 << 20         // bytes of a file above which it passes over some, since it is too slow
	maxFiles  = 200             // of a source
	lookEvery = 2 * time.Second // for files
	turnEvery = 100 * time.Millisecond
	interest  = 15 * time.Second      // how long it goes on without being asked about
	records   = 1000                  // of a batch
	liveShare = 50 * time.Millisecond // of a turn, for a source that reads no files
	// Longest is how long a trial may be.
	Longest = time.Hour
)

// Trial is one that runs, or has ended. It is safe for concurrent use.
type Trial struct {
	id      string
	began   time.Time
	until   time.Time
	cancel  context.CancelFunc
	sources []*source

	mu      sync.Mutex
	asked   time.Time
	ended   time.Time
	skipped int64
}

// source is one source in both configs.
type source struct {
	name      string
	now, then *side
	note      string
	files     map[string]*tail
	looked    time.Time
	first     bool
	turns     int
	differ    int64
	examples  []wire.TrialExample
	live      *live           // of a source that reads no files
	named     func() []string // of one whose files a program names; may be nil
}

// Host is what a trial takes of the engine: the config that runs, who looks at a source that runs, and the files that
// the program of a source has named.
type Host struct {
	Config func() hostconfig.Config
	Tap    func(source string) *pipeline.Tap
	Named  func(source string) []string
}

// side is one treatment of a source.
type side struct {
	spec      pipeline.Source
	treatment *pipeline.Treatment
	encodings map[string]record.Encoding // by destination
	batch     record.Batch
	encoder   record.Encoder
	senders   senders
	sums      *wire.TrialSide
}

// tail is a file that grows, with how far each side has read it.
type tail struct {
	file      *os.File
	origin    *record.Origin
	named     bool // by the program of the source
	now, then int64
}

// Start begins a trial of a config beside the one that runs.
func Start(id string, h Host, then hostconfig.Config, long time.Duration) (*Trial, error) {
	now := h.Config()
	t := &Trial{id: id, began: time.Now(), asked: time.Now()}
	t.until = t.began.Add(min(long, Longest))
	names := map[string]bool{}
	for _, c := range []hostconfig.Config{now, then} {
		for _, s := range c.Sources {
			names[s.Name] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if len(t.sources) == wire.MaxTrialSources {
			break
		}
		s := &source{name: name, files: map[string]*tail{}, first: true}
		var err error
		if s.now, err = compile(now, name); err == nil {
			s.then, err = compile(then, name)
		}
		if err != nil {
			return nil, err
		}
		s.named = func() []string { return h.Named(name) }
		t.sources = append(t.sources, s)
	}
	for _, s := range t.sources { // when nothing can fail any more
		s.feed(h)
	}
	ctx, cancel := context.WithDeadline(context.Background(), t.until)
	t.cancel = cancel
	go t.run(ctx)
	return t, nil
}

// one is a side that there is.
func (s *source) one() *side {
	if s.then != nil {
		return s.then
	}
	return s.now
}

// compile prepares a source of a config; nil when the config does not have it.
func compile(c hostconfig.Config, name string) (*side, error) {
	i := slices.IndexFunc(c.Sources, func(s pipeline.Source) bool { return s.Name == name })
	if i < 0 {
		return nil, nil
	}
	spec := c.Sources[i]
	f, _ := c.Format(spec.Format)
	t, err := pipeline.Compile(spec, f, pipeline.Parts{Formats: c.Format, Masks: c.Mask, Secret: c.Secret})
	if err != nil {
		return nil, err
	}
	s := &side{spec: spec, treatment: t, encodings: map[string]record.Encoding{}, sums: trial.NewSide(),
		senders: newSenders(c, spec)}
	for _, to := range t.Destinations() {
		d, _ := c.Destination(to)
		s.encodings[to] = d.Encoding()
	}
	return s, nil
}

// run reads by turns until it is over, and rests so long that it takes no more than its share of a core.
func (t *Trial) run(ctx context.Context) {
	defer t.close()
	for {
		began := time.Now()
		t.mu.Lock()
		bored := began.Sub(t.asked) > interest
		for _, s := range t.sources {
			switch {
			case s.live != nil:
				t.follow(s, liveShare)
			case s.note == "":
				t.turn(s, began)
			}
		}
		t.mu.Unlock()
		busy := time.Since(began)
		rest := max(turnEvery, time.Duration(float64(busy)/share)-busy)
		if bored {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(rest):
		}
	}
}

func (t *Trial) close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.cancel()
	t.ended = time.Now()
	for _, s := range t.sources {
		for _, f := range s.files {
			f.file.Close()
		}
		s.files = map[string]*tail{}
		if s.live != nil {
			s.live.close()
		}
	}
}

// turn looks for files of a source and reads what is new in them. The trial is locked.
func (t *Trial) turn(s *source, now time.Time) {
	if now.Sub(s.looked) >= lookEvery {
		s.looked = now
		s.look()
	}
	for path, f := range s.files {
		info, err := f.file.Stat()
		if err != nil {
			continue
		}
		size := info.Size()
		if size < f.now || size < f.then { // it began anew
			f.now, f.then = size, size
		}
		if at, err := os.Stat(path); err != nil || !os.SameFile(at, info) { // it was rotated away
			f.file.Close()
			delete(s.files, path)
			continue
		}
		if lag := size - min(f.now, f.then); lag > behind {
			from := lineStart(f.file, size-chunk)
			t.skipped += from - min(f.now, f.then)
			f.now, f.then = from, from
		}
		var was, is map[int64]string
		readNow := func() {
			if s.now != nil {
				was, f.now = s.now.read(f, f.now, size, now)
			}
		}
		readThen := func() {
			if s.then != nil {
				is, f.then = s.then.read(f, f.then, size, now)
			}
		}
		if s.turns++; s.turns%2 == 0 { // who comes second finds the bytes at hand
			readThen()
			readNow()
		} else {
			readNow()
			readThen()
		}
		if s.now != nil && s.then != nil {
			s.compare(was, is, min(f.now, f.then))
		}
	}
}

// lineStart is where the first line begins behind a place in a file.
func lineStart(f io.ReaderAt, from int64) int64 {
	buf := make([]byte, chunk)
	n, _ := f.ReadAt(buf, max(0, from)) // what cannot be read has no line
	for i, c := range buf[:n] {
		if c == '\n' {
			return max(0, from) + int64(i) + 1
		}
	}
	return max(0, from)
}

// look finds the files of a source. Those that are there at first are read from their end.
func (s *source) look() {
	patterns := map[string]bool{}
	for _, x := range []*side{s.now, s.then} {
		if x != nil {
			for _, p := range x.spec.Files {
				patterns[p] = true
			}
		}
	}
	named := s.named()
	paths := slices.Clone(named)
	for p := range patterns {
		more, err := doublestar.FilepathGlob(p, doublestar.WithFilesOnly())
		if err != nil {
			continue
		}
		paths = append(paths, more...)
	}
	for _, path := range paths {
		if s.files[path] != nil || len(s.files) >= maxFiles {
			continue
		}
		f, err := os.Open(path)
		if err != nil {
			continue
		}
		at := int64(0)
		if info, err := f.Stat(); s.first && err == nil {
			at = info.Size()
		}
		s.files[path] = &tail{file: f, origin: record.NewOrigin("", "", s.name, path, nil),
			named: slices.Contains(named, path), now: at, then: at}
	}
	s.first = false
}

// takes tells whether a side reads a file.
func (x *side) takes(f *tail) bool {
	if x.spec.FilesFrom != nil { // the program of a draft is not run: the files count that the one in force has named
		return f.named
	}
	for _, p := range x.spec.Files {
		if ok, _ := doublestar.PathMatch(p, filepath.ToSlash(f.file.Name())); ok {
			return true
		}
	}
	return false
}

// read treats what is new in a file. It answers what became of each record, by where it ends, and how far it read.
func (x *side) read(f *tail, from, size int64, now time.Time) (kept map[int64]string, at int64) {
	if !x.takes(f) {
		return nil, size
	}
	kept = map[int64]string{}
	for at = from; at < size; {
		b := &x.batch
		b.Reset()
		want := min(size-at, chunk)
		b.Arena = slices.Grow(b.Arena[:0], int(want))[:want]
		n, err := f.file.ReadAt(b.Arena, at)
		if err != nil && !errors.Is(err, io.EOF) || n == 0 {
			return kept, at
		}
		b.Arena, b.Origin = b.Arena[:n], f.origin
		began := time.Now()
		used, c := x.treatment.Run(b, at, now.UnixNano(), records, false)
		if used == 0 {
			if want < chunk {
				return kept, at // not a whole record yet
			}
			used = n // longer than is looked at
		}
		x.sums.Nanoseconds += time.Since(began).Nanoseconds()
		at += int64(used)
		x.count(x.treatment, b, c.All(), kept)
	}
	return kept, at
}

// count sums a batch up.
func (x *side) count(t *pipeline.Treatment, b *record.Batch, n wire.Numbers, kept map[int64]string) {
	s := x.sums
	s.Read += n.Read
	s.Unparsed += n.Unparsed
	s.Dropped += n.Dropped
	s.Masked += n.Masked
	s.NoZone += n.NoZone
	s.Failed += n.Failed
	for why, k := range n.Drops {
		s.Drops[why] += k
	}
	for i := range b.Records {
		r := &b.Records[i]
		s.Levels[record.LevelName(r.Level)]++
		for _, v := range b.Fields(r) {
			name := b.Schema.Name(v.Slot)
			if s.Fields[name] == nil {
				if len(s.Fields) >= wire.MaxTrialFields {
					continue
				}
				s.Fields[name] = map[wire.Type]int64{}
			}
			s.Fields[name][typeName(v.Kind)]++
		}
	}
	encoded := map[record.Encoding]*record.Encoded{}
	get := func(enc record.Encoding) *record.Encoded {
		if encoded[enc] == nil {
			e := x.encoder.Encode(enc, b)
			encoded[enc] = &e
		}
		return encoded[enc]
	}
	for bit, to := range t.Destinations() {
		e := get(x.encodings[to])
		sent := s.Destinations[to]
		for i := range b.Records {
			if b.Records[i].Routes>>bit&1 == 1 {
				sent.Records++
				sent.Bytes += int64(e.Ends[i] - before(e.Ends, i))
			}
		}
		s.Destinations[to] = sent
	}
	e := get(record.NDJSON)
	for i := range b.Records {
		text := e.Bytes[before(e.Ends, i):e.Ends[i]]
		kept[b.Records[i].End] = string(text[:min(len(text), wire.MaxExampleBytes)])
	}
	for _, e := range encoded {
		e.Release()
	}
}

func before(ends []uint32, i int) uint32 {
	if i == 0 {
		return 0
	}
	return ends[i-1]
}

func typeName(k record.Kind) wire.Type {
	return [...]wire.Type{record.Text: "text", record.Int: "int", record.Float: "float", record.Bool: "bool",
		record.JSON: "json"}[k]
}

// compare holds what both sides made of the records that both have read.
func (s *source) compare(now, then map[int64]string, upTo int64) {
	all := map[int64]bool{}
	for end := range now {
		all[end] = true
	}
	for end := range then {
		all[end] = true
	}
	for _, end := range slices.Sorted(maps.Keys(all)) {
		if end > upTo || now[end] == then[end] {
			continue
		}
		s.differ++
		if len(s.examples) < wire.MaxTrialExamples {
			s.examples = append(s.examples, wire.TrialExample{Now: now[end], Then: then[end]})
		}
	}
}

// Report is what the trial has found by now. Being asked keeps it going.
func (t *Trial) Report() *wire.Trial {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.asked = time.Now()
	out := &wire.Trial{ID: t.id, Ended: !t.ended.IsZero(), Skipped: t.skipped, Sources: []wire.TrialSource{}}
	until := t.ended
	if until.IsZero() {
		until = time.Now()
	}
	out.Seconds = until.Sub(t.began).Seconds()
	for _, s := range t.sources {
		x := wire.TrialSource{Name: s.name, Note: s.note, Differ: s.differ, Examples: slices.Clone(s.examples)}
		if s.now != nil {
			x.Now = trial.Add(nil, s.now.sums)
		}
		if s.then != nil {
			x.Then = trial.Add(nil, s.then.sums)
		}
		out.Sources = append(out.Sources, x)
	}
	return out
}

// Stop ends the trial.
func (t *Trial) Stop() { t.cancel() }

// Trials is the one trial that a host may run.
type Trials struct {
	mu   sync.Mutex
	runs *Trial
}

// Answer answers a question about a trial; read reads the config that is tried.
func (t *Trials) Answer(
	ask wire.Ask, h Host, read func(text []byte) (hostconfig.Config, error),
) (*wire.Trial, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if ask.Trial == nil {
		return nil, errors.New("the question is about no trial")
	}
	switch {
	case ask.Trial.Start:
		if t.runs != nil {
			if r := t.runs.state(); !r {
				return nil, errors.New("another trial runs on this host; end it first")
			}
		}
		then, err := read([]byte(ask.Config))
		if err != nil {
			return nil, fmt.Errorf("the agent cannot run the config: %w", err)
		}
		long := time.Duration(ask.Trial.Seconds) * time.Second
		if t.runs, err = Start(ask.Trial.ID, h, then, long); err != nil {
			return nil, err
		}
	case t.runs == nil || t.runs.id != ask.Trial.ID:
		return nil, errors.New("this host runs no such trial; its agent may have restarted")
	case ask.Trial.Stop:
		t.runs.Stop()
	}
	return t.runs.Report(), nil
}

// state tells whether the trial has ended.
func (t *Trial) state() (ended bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return !t.ended.IsZero()
}
