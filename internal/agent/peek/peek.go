// Package peek shows the desk records of a source as they come, with what became of each. It looks over the shoulder
// of the treatment that runs; it is bounded in rate and time, and ends when nobody asks any more.
package peek

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"sync"
	"time"

	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
	"synaxis/internal/core/workbench"
)

// Bounds of looks on one host.
const (
	atOnce   = 2                // an agent answers four questions at a time
	interest = 10 * time.Second // how long one goes on without being asked about
	patience = time.Second      // how long an answer waits for a record
	gather   = 100 * time.Millisecond
	most     = 256 << 10 // bytes of the records of one answer
	maxRate  = 100       // records a second
)

// Taps gives the tap of a source that runs, or nil.
type Taps func(source string) *pipeline.Tap

// Peeks are the looks that run. It is safe for concurrent use.
type Peeks struct {
	mu    sync.Mutex
	runs  map[string]*look
	ended map[string]time.Time // those whose end may come before their beginning
}

// look is one.
type look struct {
	tap   *pipeline.Tap
	seen  *pipeline.Look
	until time.Time
	began int64 // of the tap's Passed
	timer *time.Timer

	mu      sync.Mutex
	where   *pipeline.Where
	rate    float64
	tokens  float64
	filled  time.Time
	records []wire.PeekRecord
	bytes   int
	looked  int64
	met     int64
	came    chan struct{} // of size 1
}

// Answer answers a question about a look: what came since the last one.
func (p *Peeks) Answer(ctx context.Context, ask *wire.PeekAsk, taps Taps) (*wire.Peek, error) {
	if ask == nil {
		return nil, errors.New("the question is about no look")
	}
	l, err := p.look(ask, taps)
	for began := time.Now(); errors.Is(err, errFull) && ctx.Err() == nil && time.Since(began) < patience; {
		time.Sleep(gather) // one may be on its way to its end
		l, err = p.look(ask, taps)
	}
	if err != nil {
		return nil, err
	}
	if ask.Stop {
		p.end(ask.ID)
		return l.take(true), nil
	}
	l.timer.Reset(interest)
	wait := time.NewTimer(min(patience, max(0, time.Until(l.until))))
	defer wait.Stop()
	select {
	case <-l.came:
		select { // what comes with it
		case <-time.After(gather):
		case <-ctx.Done():
		}
	case <-wait.C:
	case <-ctx.Done():
	}
	ended := !time.Now().Before(l.until)
	if ended {
		p.end(ask.ID)
	}
	return l.take(ended), nil
}

var errFull = fmt.Errorf("%d others look at this host; wait until one of them ends", atOnce)

// forget forgets looks that ended long ago.
func (p *Peeks) forget(now time.Time) {
	if p.ended == nil {
		p.ended = map[string]time.Time{}
	}
	maps.DeleteFunc(p.ended, func(_ string, at time.Time) bool { return now.Sub(at) > interest })
}

// look finds a look, or begins it.
func (p *Peeks) look(ask *wire.PeekAsk, taps Taps) (*look, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if l := p.runs[ask.ID]; l != nil {
		if taps(ask.Source) != l.tap {
			return nil, fmt.Errorf("it does not run the source %s any more", ask.Source)
		}
		return l, nil
	}
	now := time.Now()
	if ask.Stop {
		p.forget(now)
		p.ended[ask.ID] = now
	}
	if _, ended := p.ended[ask.ID]; ended || ask.ID == "" {
		return nil, errors.New("this host runs no such look")
	}
	if len(p.runs) >= atOnce {
		return nil, errFull
	}
	tap := taps(ask.Source)
	if tap == nil {
		return nil, fmt.Errorf("it does not run the source %s", ask.Source)
	}
	where, err := pipeline.NewWhere(ask.Where)
	if err != nil {
		return nil, fmt.Errorf("the condition cannot be computed: %w", err)
	}
	l := &look{tap: tap, where: where, rate: min(max(ask.Rate, 0.01), maxRate), tokens: max(1, min(ask.Rate, maxRate)),
		filled: now, began: tap.Passed(), came: make(chan struct{}, 1)}
	l.until = now.Add(time.Duration(min(max(ask.Seconds, 1), wire.MaxPeekSeconds)) * time.Second)
	l.seen = &pipeline.Look{Clear: ask.Clear, Take: l.see}
	if ask.Where == "" { // what is looked at is shown
		l.seen.Most = int(math.Ceil(l.rate * gather.Seconds()))
		l.seen.Every = time.Duration(float64(l.seen.Most) / l.rate * float64(time.Second))
	}
	tap.Open(l.seen)
	if p.runs == nil {
		p.runs = map[string]*look{}
	}
	p.runs[ask.ID] = l
	l.timer = time.AfterFunc(interest, func() { p.end(ask.ID) })
	return l, nil
}

// end ends a look.
func (p *Peeks) end(id string) {
	p.mu.Lock()
	l := p.runs[id]
	delete(p.runs, id)
	p.mu.Unlock()
	if l != nil {
		l.timer.Stop()
		l.tap.Close(l.seen)
	}
}

// see takes records that were treated, as many as the rate and the room allow.
func (l *look) see(records []pipeline.Tried, origin *record.Origin) {
	file := ""
	if origin != nil {
		file = origin.File
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	l.tokens = min(max(1, l.rate), l.tokens+l.rate*now.Sub(l.filled).Seconds())
	l.filled = now
	for i := range records {
		y := &records[i]
		l.looked++
		if !l.where.Met(y, origin) {
			continue
		}
		l.met++
		if l.tokens < 1 || len(l.records) >= wire.MaxPeekRecords || l.bytes > most {
			continue
		}
		text := Encode(y)
		l.tokens--
		l.bytes += len(text)
		l.records = append(l.records, wire.PeekRecord{File: file, Record: text})
	}
	if len(l.records) > 0 {
		select {
		case l.came <- struct{}{}:
		default:
		}
	}
}

// take empties what came.
func (l *look) take(ended bool) *wire.Peek {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := &wire.Peek{Records: l.records, Passed: l.tap.Passed() - l.began, Looked: l.looked, Met: l.met, Ended: ended}
	l.records, l.bytes = nil, 0
	return out
}

// Encode writes a record in the form of the workbench. Texts that are too long are cut.
func Encode(y *pipeline.Tried) json.RawMessage {
	x := workbench.Show(y, true)
	x.Body, x.Original = short(x.Body), short(x.Original)
	bytes := 0
	for name, v := range x.Fields {
		if s, ok := v.(string); ok {
			v = short(s)
			x.Fields[name] = v
		}
		text, err := json.Marshal(v)
		if bytes += len(name) + len(text); err != nil || bytes > wire.MaxPeekBytes {
			delete(x.Fields, name)
		}
	}
	x.Private, x.Marks = within(x.Private, x), within(x.Marks, x)
	bytes = 0
	for i := range x.Effects {
		changes := x.Effects[i].Changes
		for k := range changes {
			for _, text := range []*string{changes[k].Before, changes[k].After} {
				if text != nil {
					*text = short(*text)
					bytes += len(*text)
				}
			}
			if bytes > 2*wire.MaxPeekBytes {
				x.Effects[i].Changes = changes[:k]
				break
			}
		}
	}
	text, err := json.Marshal(x)
	if err != nil { // a value that JSON cannot say
		return json.RawMessage(`{}`)
	}
	return text
}

func short(text string) string { return pipeline.Short(text, wire.MaxPeekBytes) }

// within keeps the marks that lie in what is left of their texts.
func within(marks []workbench.Mark, x workbench.Record) []workbench.Mark {
	out := []workbench.Mark{}
	for _, m := range marks {
		text, ok := x.Body, true
		switch m.In {
		case "body":
		case "original":
			text = x.Original
		default:
			text, ok = x.Fields[m.In].(string)
		}
		if ok && m.End <= len(text) {
			out = append(out, m)
		}
	}
	return out
}
