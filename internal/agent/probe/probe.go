// Package probe sends a marked record along the real path of a source, and notes what happens to it, hop by hop: a
// file of its own in the agent's folder, which the source reads as one of its own files; its treatment; and what
// becomes of it at each destination, in memory and on disk.
package probe

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/agent/peek"
	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Bounds of probes on one host.
const (
	atOnce   = 4
	interest = 15 * time.Second // how long one goes on without being asked about
	patience = time.Second      // how long an answer waits for a hop
)

// Host is what a probe needs of the agent.
type Host struct {
	Dir    string // where the files of probes are made
	Tap    func(source string) *pipeline.Tap
	Format func(source string) (spec format.Spec, src pipeline.Source, ok bool)
	Newest func(source string) (line string, err error) // of its own files
	// Send sends a line to a source that listens, so that its record has the origin of a path.
	Send func(source, path, line string) error
	// SourceTrouble and DestinationTrouble say what is wrong; "" for nothing.
	SourceTrouble      func(source string) string
	DestinationTrouble func(name string) string
	LookUp             func(ctx context.Context, destination, id string) (found, known bool, words string)
}

// Probes are those that are under way. It is safe for concurrent use.
type Probes struct {
	under atomic.Int32 // how many

	mu  sync.Mutex
	all map[string]*probe
}

// probe is one.
type probe struct {
	id, source, path string
	host             Host
	tap              *pipeline.Tap
	look             *pipeline.Look
	until            time.Time
	timer            *time.Timer

	mu      sync.Mutex
	hops    []wire.ProbeHop
	streams map[uint64]bool
	waits   map[string]bool // destinations that have not settled it
	read    bool
	ended   bool
	stuck   string
	changed chan struct{}
}

// Paths are the files of the probes of a source.
func (p *Probes) Paths(source string) (out []string) {
	if p.under.Load() == 0 {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, x := range p.all {
		if x.source == source {
			out = append(out, x.path)
		}
	}
	return out
}

// ID is the probe whose file a path is, or "".
func (p *Probes) ID(path string) string {
	if p.under.Load() == 0 {
		return ""
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, x := range p.all {
		if x.path == path {
			return x.id
		}
	}
	return ""
}

// Sends notes that records of a file are handed to a destination.
func (p *Probes) Sends(path string, stream uint64, destination string) {
	if p.under.Load() == 0 {
		return
	}
	for _, x := range p.each() {
		if x.path == path {
			x.sends(stream, destination)
		}
	}
}

// Settled notes what became of records of a stream.
func (p *Probes) Settled(destination string, stream uint64, c wire.DeliveryCounts) {
	if p.under.Load() == 0 {
		return
	}
	for _, x := range p.each() {
		x.settled(destination, stream, c)
	}
}

func (p *Probes) each() []*probe {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Collect(maps.Values(p.all))
}

// Answer answers a question about a probe: what happened since the hops that the desk knows.
func (p *Probes) Answer(ctx context.Context, ask *wire.ProbeAsk, h Host) (*wire.Probe, error) {
	if ask == nil || ask.ID == "" {
		return nil, errors.New("the question is about no probe")
	}
	x, err := p.find(ask, h)
	if err != nil {
		return nil, err
	}
	if ask.Stop {
		p.end(x)
		return x.report(ask.Seen), nil
	}
	x.timer.Reset(interest)
	wait := time.NewTimer(min(patience, max(0, time.Until(x.until))))
	defer wait.Stop()
	for {
		x.mu.Lock()
		news, changed := len(x.hops) > ask.Seen || x.ended, x.changed
		x.mu.Unlock()
		if news {
			break
		}
		select {
		case <-changed:
			continue
		case <-wait.C:
		case <-ctx.Done():
		}
		break
	}
	if !time.Now().Before(x.until) {
		x.hangs()
	}
	out := x.report(ask.Seen)
	if out.Ended {
		p.end(x)
	}
	return out, nil
}

// find finds a probe, or begins it.
func (p *Probes) find(ask *wire.ProbeAsk, h Host) (*probe, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if x := p.all[ask.ID]; x != nil {
		return x, nil
	}
	if ask.Stop || ask.Seen > 0 {
		return nil, errors.New("this host runs no such probe; its agent may have restarted")
	}
	if len(p.all) >= atOnce {
		return nil, fmt.Errorf("%d probes are under way on this host; wait until one of them ends", atOnce)
	}
	tap := h.Tap(ask.Source)
	spec, src, ok := h.Format(ask.Source)
	if tap == nil || !ok {
		return nil, fmt.Errorf("it does not run the source %s", ask.Source)
	}
	if in := src.Input(); in != "files" && src.Listen == nil {
		return nil, fmt.Errorf("the source %s reads by %s; a probe goes through files and listeners only", ask.Source,
			in)
	}
	line, words, err := theLine(ask, spec, h)
	if err != nil {
		return nil, err
	}
	x := &probe{id: ask.ID, source: ask.Source, path: filepath.Join(h.Dir, ask.ID+".log"), host: h, tap: tap,
		streams: map[uint64]bool{}, waits: map[string]bool{}, changed: make(chan struct{})}
	x.until = time.Now().Add(time.Duration(min(max(ask.Seconds, 1), wire.MaxProbeSeconds)) * time.Second)
	x.look = &pipeline.Look{File: x.path, Take: x.treated}
	if err := os.MkdirAll(h.Dir, 0o700); err != nil {
		return nil, fmt.Errorf("the file of the probe cannot be written: %w", err)
	}
	if p.all == nil {
		p.all = map[string]*probe{}
	}
	p.all[x.id] = x
	p.under.Store(int32(len(p.all)))
	tap.Open(x.look)
	x.timer = time.AfterFunc(interest, func() { p.end(x) })
	x.add(wire.ProbeHop{Hop: wire.HopWritten, Words: words})
	if src.Listen != nil {
		go func() { // it comes back when a listener over HTTP has settled it
			if err := h.Send(ask.Source, x.path, line); err != nil {
				x.mu.Lock()
				defer x.mu.Unlock()
				if !x.read {
					x.finish(fmt.Sprintf("it could not be sent to the listener: %v", err))
				}
			}
		}()
		return x, nil
	}
	if err := os.WriteFile(x.path, []byte(line+"\n"), 0o600); err != nil {
		x.stop(fmt.Sprintf("the file of the probe cannot be written: %v", err))
	}
	return x, nil
}

// end ends a probe. What is on its way goes on, as any record.
func (p *Probes) end(x *probe) {
	p.mu.Lock()
	if p.all[x.id] == x {
		delete(p.all, x.id)
	}
	p.under.Store(int32(len(p.all)))
	p.mu.Unlock()
	x.timer.Stop()
	x.tap.Close(x.look)
	_ = os.Remove(x.path) // what cannot be removed goes when the agent starts
}

// Clear removes the files of probes that an agent left behind that was killed.
func Clear(dir string) { _ = os.RemoveAll(dir) }

func (x *probe) add(h wire.ProbeHop) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.append(h)
}

// append adds a hop. The probe is locked.
func (x *probe) append(h wire.ProbeHop) {
	if x.ended || len(x.hops) >= wire.MaxProbeHops {
		return
	}
	h.At = time.Now().UTC()
	x.hops = append(x.hops, h)
	close(x.changed)
	x.changed = make(chan struct{})
}

func (x *probe) report(seen int) *wire.Probe {
	x.mu.Lock()
	defer x.mu.Unlock()
	return &wire.Probe{Hops: slices.Clone(x.hops[min(seen, len(x.hops)):]), Ended: x.ended, Stuck: x.stuck}
}

// treated notes what the source made of the record.
func (x *probe) treated(records []pipeline.Tried, _ *record.Origin) {
	x.mu.Lock()
	defer x.mu.Unlock()
	for i := range records {
		y := &records[i]
		h := wire.ProbeHop{Hop: wire.HopRead, Record: peek.Encode(y)}
		switch {
		case y.Dropped != "":
			h.Hop, h.Words = wire.HopDropped, "dropped: "+y.Dropped
		case !y.Read:
			h.Words = "its format does not read it"
		}
		for _, to := range y.To {
			x.waits[to] = true
		}
		first := !x.read // the reading for a destination alone reads it again
		x.read = true
		if first {
			x.append(h)
			if len(y.To) == 0 {
				x.finish("")
			}
		}
	}
}

func (x *probe) sends(stream uint64, destination string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.streams[stream] = true
	x.append(wire.ProbeHop{Hop: wire.HopQueued, Destination: destination})
}

func (x *probe) settled(destination string, stream uint64, c wire.DeliveryCounts) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.streams[stream] || x.ended {
		return
	}
	h := wire.ProbeHop{Destination: destination}
	switch {
	case c.Acknowledged > 0:
		h.Hop = wire.HopAcknowledged
	case c.Refused > 0:
		h.Hop, h.Words = wire.HopRefused, "it is among the rejects"
	case c.Discarded > 0:
		h.Hop, h.Words = wire.HopDiscarded, "there was no room for it"
	case c.OnDisk > 0:
		x.append(wire.ProbeHop{Hop: wire.HopBuffered, Destination: destination})
		return
	default:
		return
	}
	x.append(h)
	delete(x.waits, destination)
	if h.Hop == wire.HopAcknowledged && x.host.LookUp != nil {
		x.waits[lookedUp+destination] = true
		go x.lookUp(destination)
		return
	}
	if len(x.waits) == 0 {
		x.finish("")
	}
}

// lookedUp is before the name of a destination at which the record is being looked up.
const lookedUp = "found at "

// lookUp asks a receiver for the record until it has it, or the probe is over.
func (x *probe) lookUp(destination string) {
	ctx, cancel := context.WithDeadline(context.Background(), x.until)
	defer cancel()
	words := ""
	for {
		found, known, why := x.host.LookUp(ctx, destination, x.id)
		if ctx.Err() == nil {
			words = why
		}
		x.mu.Lock()
		over := x.ended || !known || found || ctx.Err() != nil
		if over {
			delete(x.waits, lookedUp+destination)
			switch {
			case found:
				x.append(wire.ProbeHop{Hop: wire.HopFound, Destination: destination})
			case known:
				x.append(wire.ProbeHop{Hop: wire.HopMissing, Destination: destination, Words: words})
			}
			if len(x.waits) == 0 {
				x.finish("")
			}
		}
		x.mu.Unlock()
		if over {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookEvery):
		}
	}
}

// lookEvery is between two questions to a receiver.
const lookEvery = 500 * time.Millisecond

// finish ends a probe that is through, or stuck. It is locked.
func (x *probe) finish(stuck string) {
	if !x.ended {
		x.ended, x.stuck = true, stuck
		close(x.changed)
		x.changed = make(chan struct{})
	}
}

func (x *probe) stop(why string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.finish(why)
}

// hangs ends a probe whose time is over, and says where it hangs.
func (x *probe) hangs() {
	x.mu.Lock()
	read, waits := x.read, slices.Sorted(maps.Keys(x.waits))
	x.mu.Unlock()
	if !read {
		why := x.host.SourceTrouble(x.source)
		if why == "" {
			why = "its source reads other files first, or waits for more lines of the record"
		}
		x.stop("it was not read: " + why)
		return
	}
	var parts []string
	for _, to := range waits {
		if rest, ok := strings.CutPrefix(to, lookedUp); ok {
			parts = append(parts, rest+" acknowledged it, and does not find it by its look-up address")
			continue
		}
		why := x.host.DestinationTrouble(to)
		if why == "" {
			why = "it has not answered yet"
		}
		parts = append(parts, fmt.Sprintf("%s has not acknowledged it: %s", to, why))
	}
	x.stop(strings.Join(parts, "; "))
}

// theLine is the line of a probe, and what is said of it.
func theLine(ask *wire.ProbeAsk, spec format.Spec, h Host) (line, words string, err error) {
	text := "synaxis probe " + ask.ID
	now := time.Now().UTC().Format("2006-01-02T15:04:05.000Z")
	switch {
	case ask.Line != "" && len(ask.Fields) > 0:
		return "", "", errors.New("a probe has a line or fields, not both")
	case len(ask.Line) > wire.MaxProbeLine:
		return "", "", fmt.Errorf("the line is longer than %d bytes", wire.MaxProbeLine)
	case ask.Line != "":
		return strings.TrimRight(ask.Line, "\r\n"), "the line that was given", nil
	}
	switch spec.Kind {
	case "json":
		all := map[string]any{"time": now, "level": "info", "message": text}
		maps.Copy(all, ask.Fields)
		b, err := json.Marshal(all)
		return string(b), "a line of json", err
	case "keyvalue":
		line = fmt.Sprintf("time=%s level=info msg=%q", now, text)
		for _, name := range slices.Sorted(maps.Keys(ask.Fields)) {
			line += fmt.Sprintf(" %s=%s", name, word(ask.Fields[name]))
		}
		return line, "a line of keys and values", nil
	}
	if len(ask.Fields) > 0 {
		return "", "", fmt.Errorf("the source reads %s: give a line; fields are for json and keyvalue", spec.Kind)
	}
	switch spec.Kind {
	case "raw":
		return text, "a line of text", nil
	case "syslog":
		return fmt.Sprintf("<14>1 %s synaxis probe - - - %s", now, text), "a line of syslog", nil
	}
	if line, err = h.Newest(ask.Source); err != nil {
		return "", "", fmt.Errorf("give a line: the agent cannot make one for %s, and there is none to copy: %w",
			spec.Kind,
			err)
	}
	return line, "a copy of its newest line", nil
}

// word writes a value for keys and values.
func word(v any) string {
	s := fmt.Sprint(v)
	if s == "" || strings.ContainsAny(s, " =\"\t") {
		return fmt.Sprintf("%q", s)
	}
	return s
}
