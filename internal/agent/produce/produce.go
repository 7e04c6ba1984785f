package produce

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"synaxis/internal/agent/input"
	"synaxis/internal/agent/position"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/health"
	"synaxis/internal/core/journal"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// maxRecords is how many records are treated at a time.
const maxRecords = 4096

// Input is a source whose records are produced on the host.
type Input struct {
	input.Parts
	ledger *settle.Ledger
	batch  record.Batch
	uid    []byte
	stream uint64
	place  int64 // in the stream
	count  uint64
	known  position.File
	sent   string // the place in the journal behind what was sent on

	mu        sync.Mutex
	complaint input.Complaint
	said      said
	gone      bool
}

// said is what a program said on standard error while it went well otherwise.
type said struct {
	text        string // without private data; "" for nothing
	since, last time.Time
}

// New makes an input. What ran for the one before has ended with it.
func New(p input.Parts, before input.Input) input.Input {
	in := &Input{Parts: p, stream: rand.Uint64() | 1}
	in.known, _ = p.Store.File(position.Key{Source: p.Spec.Name})
	if old, ok := before.(*Input); ok {
		old.mu.Lock()
		old.gone = true
		in.count = old.count
		if old.Spec.Journal != nil && p.Spec.Journal != nil && old.Book == p.Book { // it goes on where that one was
			in.ledger, in.sent, in.stream, in.place = old.ledger, old.sent, old.stream, old.place
		}
		old.mu.Unlock()
	}
	if in.ledger == nil {
		in.ledger, in.sent = p.Book.Ledger(in.cursor(in.known.Place), nil), in.known.Place
	}
	in.batch.Origin = p.Origin("")
	if !p.Spec.NoIDs {
		in.uid = record.NewUID(in.batch.Origin.HostID, in.stream)
	}
	return in
}

// cursor is a place that is greater than all before it.
func (in *Input) cursor(place string) settle.Cursor {
	in.count++
	return append(binary.BigEndian.AppendUint64(nil, in.count), place...)
}

// Run produces until ctx ends.
func (in *Input) Run(ctx context.Context) {
	switch {
	case in.Spec.Generate != nil:
		in.generate(ctx)
	case in.Spec.Journal != nil:
		in.follow(ctx, func() ([]string, error) { return in.journalctl(ctx) }, in.readJournal)
	case in.Spec.Command.Every > 0:
		in.nowAndThen(ctx)
	default:
		in.follow(ctx, func() ([]string, error) { return in.Spec.Command.Run, nil }, in.readLines)
	}
}

// Complaint is what is wrong.
func (in *Input) Complaint() input.Complaint {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.complaint.Code == "" && in.said.text != "" && in.Now().Sub(in.said.last) < in.remembers() {
		return input.Complaint{Code: health.CommandComplains, Since: in.said.since, Reason: fmt.Sprintf(
			"%s runs, and says on standard error: %s", in.program(), in.said.text)}
	}
	return in.complaint
}

// program is what is run.
func (in *Input) program() string {
	if in.Spec.Journal != nil {
		return "journalctl"
	}
	return in.Spec.Command.Run[0]
}

// remembers is how long what was said on standard error counts: until the program ran again, where that is later.
func (in *Input) remembers() time.Duration {
	if c := in.Spec.Command; c != nil && c.Every > 0 {
		return max(health.Window, c.Every+leastRun)
	}
	return health.Window
}

// listen notes what a program said on standard error just now, and answers it without private data.
func (in *Input) listen(r *running) string {
	text := in.Treatment.Cover(r.errors.last())
	if c := in.Spec.Command; text == "" || c != nil && c.IgnoreErrors {
		return text
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	now := in.Now()
	if in.said.text == "" || now.Sub(in.said.last) >= in.remembers() {
		in.said.since = now
	}
	in.said.text, in.said.last = text, now
	return text
}

func (in *Input) complain(reason string) {
	in.mu.Lock()
	defer in.mu.Unlock()
	switch {
	case reason == "":
		in.complaint = input.Complaint{}
	default:
		if in.complaint.Code == "" {
			in.complaint.Since = in.Now()
		}
		in.complaint.Code, in.complaint.Reason = health.CommandFailing, reason
	}
}

// Waiting is nothing: what is not read waits in the program.
func (in *Input) Waiting() wire.Numbers { return wire.Numbers{} }

// Save puts the numbers, and how far the journal is settled, into the store.
func (in *Input) Save() {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.gone {
		return
	}
	settled, n := in.Book.Snapshot([]*settle.Ledger{in.ledger})
	if place := string(settled[0].All[8:]); in.Spec.Journal != nil && place != in.known.Place {
		in.known = position.File{Source: in.Spec.Name, Path: "journal", Place: place}
		in.Store.Put(in.known)
	}
	in.Store.SetNumbers(in.Spec.Name, n)
}

// Close gives everything back.
func (in *Input) Close() {}

// ready empties the batch for the next records.
func (in *Input) ready() *record.Batch {
	b := &in.batch
	b.Reset()
	b.Stream, b.UID, b.Leaving = in.stream, in.uid, record.Deleted // it is not produced again
	if in.Spec.Journal != nil {
		b.Leaving = record.Stays
	}
	return b
}

// send counts the records of the batch and hands them on.
func (in *Input) send(ctx context.Context, c pipeline.Counts, place string) {
	counts := c.All()
	if c.Read > 0 {
		counts.LastRecord = in.Now().UnixNano()
	}
	ways := in.Out.Ways(&in.batch, func(string) bool { return false })
	e := in.ledger.Add(in.cursor(place), ways, counts)
	in.sent = place
	if slices.ContainsFunc(ways, func(w settle.Way) bool { return w.Records > 0 }) {
		in.Out.Send(ctx, &in.batch, e, func() {})
	}
}

// lines treats what was printed, and answers what is left of it.
func (in *Input) lines(ctx context.Context, have []byte, flush bool) []byte {
	for len(have) > 0 {
		b := in.ready()
		b.Arena = append(b.Arena, have...)
		used, c := in.Treatment.Run(b, in.place, in.Now().UnixNano(), maxRecords, flush)
		if used == 0 {
			break
		}
		in.place += int64(used)
		in.send(ctx, c, "")
		have = have[used:]
	}
	return have
}

// unsay forgets what another run said.
func (in *Input) unsay() {
	in.mu.Lock()
	defer in.mu.Unlock()
	in.said.text = ""
}

// readLines reads the output of a program to its end.
func (in *Input) readLines(ctx context.Context, r *running) error {
	idle := in.Spec.Idle
	if idle <= 0 {
		idle = pipeline.DefaultIdle
	}
	var have []byte
	t := time.NewTimer(idle)
	defer t.Stop()
	for {
		t.Reset(idle)
		select {
		case b, ok := <-r.out:
			if !ok {
				in.lines(ctx, have, true)
				return nil
			}
			have = in.lines(ctx, append(have, b...), false)
		case <-r.errors.fresh:
			in.listen(r)
		case <-t.C:
			have = in.lines(ctx, have, true)
		}
	}
}

// readJournal reads an export of the journal to its end, or to where it is none.
func (in *Input) readJournal(ctx context.Context, r *running) error {
	var have []byte
	for {
		select {
		case more, ok := <-r.out:
			if !ok {
				return nil
			}
			var err error
			if have, err = in.entries(ctx, append(have, more...)); err != nil {
				return fmt.Errorf("what journalctl prints cannot be read: %w", err)
			}
		case <-r.errors.fresh:
			in.listen(r)
		}
	}
}

// entries treats the entries of an export that are whole, and answers what is left of it.
func (in *Input) entries(ctx context.Context, have []byte) ([]byte, error) {
	var units journal.Units // which the program does not choose
	if u := journal.Units(in.Spec.Journal.Units); !u.Plain() {
		units = u
	}
	for {
		b := in.ready()
		var messages []pipeline.Message
		used, place := 0, ""
		var bad error
		for len(messages) < maxRecords {
			e, n, ok, err := journal.Next(have[used:])
			if bad = err; err != nil || !ok {
				break
			}
			used += n
			if place = e.Cursor; units.Have(&e) {
				messages = append(messages, pipeline.Message{Text: b.Put(e.Message), Given: &e.Given})
			}
		}
		if used > 0 {
			c := in.Treatment.RunMessages(b, messages, in.place, in.Now().UnixNano())
			in.place += int64(len(messages))
			in.send(ctx, c, place)
			have = have[used:]
		}
		if used == 0 || bad != nil {
			return have, bad
		}
	}
}

// follow keeps a program running. One that ends, or prints what cannot be read, is started again, after pauses that
// grow.
func (in *Input) follow(ctx context.Context, run func() ([]string, error),
	read func(context.Context, *running) error,
) {
	pause := firstPause
	for ctx.Err() == nil {
		began := time.Now()
		args, err := run()
		reason := ""
		if err != nil {
			reason = err.Error()
		} else {
			reason = in.once(ctx, args, read)
		}
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > ranWell {
			pause = firstPause
		}
		if reason == "" {
			reason = in.program() + " ended by itself"
		}
		in.complain(fmt.Sprintf("%s; it is started again in %s", reason, pause))
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, mostPause)
	}
}

// once runs a program until it ends, or cannot be read, and says what was wrong with that.
func (in *Input) once(ctx context.Context, args []string, read func(context.Context, *running) error) string {
	run, stop := context.WithCancel(ctx)
	defer stop()
	r, err := begin(run, args)
	if err != nil {
		return err.Error()
	}
	in.unsay()
	well := time.AfterFunc(2*firstPause, func() { in.complain("") })
	bad := read(ctx, r)
	if bad != nil { // it would go on for ever
		stop()
	}
	for range r.out {
	}
	err = <-r.done
	well.Stop()
	if bad != nil {
		return bad.Error()
	}
	return why(args[0], err, in.listen(r))
}

// nowAndThen runs a program again and again, each to its end.
func (in *Input) nowAndThen(ctx context.Context) {
	args, every := in.Spec.Command.Run, in.Spec.Command.Every
	for ctx.Err() == nil {
		began := time.Now()
		most, cancel := context.WithTimeout(ctx, max(every, leastRun))
		r, err := begin(most, args)
		reason := ""
		if err != nil {
			reason = err.Error()
		} else {
			_ = in.readLines(ctx, r)
			err = <-r.done
			said := in.listen(r)
			switch {
			case ctx.Err() != nil:
			case most.Err() != nil:
				reason = fmt.Sprintf("%s did not end within %s, and was stopped", args[0], max(every, leastRun))
			default:
				reason = why(args[0], err, said)
			}
			if said == "" {
				in.unsay()
			}
		}
		cancel()
		if ctx.Err() == nil {
			in.complain(reason)
		}
		select {
		case <-ctx.Done():
		case <-time.After(every - time.Since(began)):
		}
	}
}

// generate makes records up, as many as they are due.
func (in *Input) generate(ctx context.Context) {
	g := in.Spec.Generate
	each := max(time.Duration(float64(g.Per)/g.Records), time.Microsecond)
	t := time.NewTicker(max(each, 10*time.Millisecond))
	defer t.Stop()
	began, made := time.Now(), int64(0)
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		due := int64(time.Since(began) / each)
		if due-made > maxRecords { // what could not be sent in time is not made up later
			made = due - maxRecords
		}
		b := in.ready()
		var messages []pipeline.Message
		for ; made < due; made++ {
			text := strings.NewReplacer("{n}", strconv.FormatInt(made+1, 10), "{time}",
				in.Now().UTC().Format(time.RFC3339Nano)).Replace(g.Text)
			messages = append(messages, pipeline.Message{Text: b.Put([]byte(text))})
		}
		if len(messages) > 0 {
			c := in.Treatment.RunMessages(b, messages, in.place, in.Now().UnixNano())
			in.place += int64(len(messages))
			in.send(ctx, c, "")
		}
	}
}

// Files asks a program of the host again and again which files there are.
type Files struct {
	mu      sync.Mutex
	paths   []string
	trouble input.Complaint
	cancel  context.CancelFunc
	done    chan struct{}
}

// mostPaths bounds what such a program prints, in bytes.
const mostPaths = 4 << 20

// Ask begins to ask.
func Ask(p *pipeline.Program, now func() time.Time) *Files {
	ctx, cancel := context.WithCancel(context.Background())
	f := &Files{cancel: cancel, done: make(chan struct{})}
	go func() {
		defer close(f.done)
		pause := firstPause
		for ctx.Err() == nil {
			paths, err := List(ctx, p.Run, mostPaths)
			wait := p.Every
			f.mu.Lock()
			switch {
			case ctx.Err() != nil:
			case err == nil:
				paths = slices.DeleteFunc(paths, func(s string) bool { return !strings.HasPrefix(s, "/") })
				slices.Sort(paths)
				f.paths, f.trouble, pause = slices.Compact(paths), input.Complaint{}, firstPause
			default: // what it said before counts
				if f.trouble.Code == "" {
					f.trouble.Since = now()
				}
				f.trouble.Code, f.trouble.Reason = health.CommandFailing, err.Error()
				wait = min(pause, p.Every)
				pause = min(2*pause, mostPause)
			}
			f.mu.Unlock()
			select {
			case <-ctx.Done():
			case <-time.After(wait):
			}
		}
	}()
	return f
}

// Paths are the files that it named last, and what is wrong with it.
func (f *Files) Paths() ([]string, input.Complaint) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.paths, f.trouble
}

// Close ends to ask.
func (f *Files) Close() {
	f.cancel()
	<-f.done
}
