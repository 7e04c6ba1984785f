package pipeline

import (
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/core/format"
	"synaxis/internal/core/mask"
	"synaxis/internal/core/record"
)

// Bounds of looking at what a treatment does: so many records at a time, so often.
const (
	tapRecords = 20
	tapEvery   = 100 * time.Millisecond
	piece      = 5 // bytes of private data by which parts of it are known wherever they may be shown
)

// Tap lets others look at some of the records of a treatment while it runs, with what each step did to them. The
// decisions that are told are those that were taken: a sample or a limit is not computed anew. It is safe for
// concurrent use.
type Tap struct {
	open   atomic.Int32 // how many look
	passed atomic.Int64
	next   int64 // when it is looked again, in Unix nanoseconds; of the treatment's goroutine

	mu      sync.Mutex
	looks   []*Look
	most    int
	every   time.Duration
	copying atomic.Int32 // how many take copies
	copies  []*Copy
}

// Raw is what a treatment gets, before anything is done to it: messages whose texts are spans of Arena, or, with
// Lines, bytes that hold whole records. It is good until the call ends that shows it; who keeps it copies it.
type Raw struct {
	Origin   *record.Origin
	Arena    []byte
	Messages []Message
	Lines    bool
	Observed int64  // in Unix nanoseconds
	Found    *Found // the format that was recognised for its sender; nil for none
}

// Found is a format that was recognised, with those that it names.
type Found struct {
	Format format.Spec
	Others []format.Spec
}

// Copy is one who takes all that a treatment gets. Take must not wait: it runs before the records are treated.
type Copy struct{ Take func(Raw) }

// OpenCopy begins to take copies.
func (x *Tap) OpenCopy(c *Copy) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.copies = append(x.copies, c)
	x.copying.Store(int32(len(x.copies)))
}

// CloseCopy ends to take copies.
func (x *Tap) CloseCopy(c *Copy) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.copies = slices.DeleteFunc(x.copies, func(o *Copy) bool { return o == c })
	x.copying.Store(int32(len(x.copies)))
}

// copied hands to those who take copies what is treated.
func (t *Treatment) copied(r Raw) {
	t.Tap.mu.Lock()
	all := slices.Clone(t.Tap.copies)
	t.Tap.mu.Unlock()
	r.Found = t.Found
	for _, c := range all {
		c.Take(r)
	}
}

// Look is one who looks. Take gets records that were treated together, and must not wait: it runs between them. With
// Clear private data is shown as it came in; else it is covered wherever it could be seen. With File all records of
// that file are taken, and no others.
//
// Most is how many records it wants at a time, and Every how often; 0 for as many and as often as there may be. Who
// wants little costs little.
type Look struct {
	Clear bool
	File  string
	Most  int
	Every time.Duration
	Take  func(records []Tried, origin *record.Origin)
}

// Open begins to look.
func (x *Tap) Open(l *Look) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.looks = append(x.looks, l)
	x.wanted()
	x.open.Store(int32(len(x.looks)))
}

// Close ends to look.
func (x *Tap) Close(l *Look) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.looks = slices.DeleteFunc(x.looks, func(o *Look) bool { return o == l })
	x.wanted()
	x.open.Store(int32(len(x.looks)))
}

// wanted is what those who look want together. It is locked.
func (x *Tap) wanted() {
	x.most, x.every = 1, time.Hour
	for _, l := range x.looks {
		most, every := l.Most, l.Every
		if most <= 0 || most > tapRecords {
			most = tapRecords
		}
		x.most, x.every = max(x.most, most), max(tapEvery, min(x.every, every))
	}
}

// turn is how many records are looked at in a turn, and after how long the next one comes.
func (x *Tap) turn() (most int, every time.Duration) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.most, x.every
}

// follows tells whether somebody takes all records of a file.
func (x *Tap) follows(o *record.Origin) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	return o != nil && slices.ContainsFunc(x.looks, func(l *Look) bool { return l.File != "" && l.File == o.File })
}

// Passed is how many records were treated while somebody looked, those too that nobody was shown.
func (x *Tap) Passed() int64 { return x.passed.Load() }

// watched is Run with somebody who looks. Of what is treated at once it takes a few.
func (t *Treatment) watched(
	x *Tap, b *record.Batch, offset, observed int64, limit int, flush bool,
) (used int, c Counts) {
	return t.lookOn(x, b, observed, func() (int, Counts) { return t.run(b, offset, observed, limit, flush) })
}

// lookOn lets those who look see some of what run treats.
func (t *Treatment) lookOn(
	x *Tap, b *record.Batch, observed int64, run func() (int, Counts),
) (used int, c Counts) {
	whole := x.follows(b.Origin)
	if observed-x.next < 0 && !whole {
		used, c = run()
		x.passed.Add(c.Read)
		return used, c
	}
	most, every := x.turn()
	if whole {
		most = tapRecords
	} else {
		x.next = observed + int64(every)
	}
	t.trace = &trace{most: most}
	used, c = run()
	seen := t.trace.out
	t.trace = nil
	x.passed.Add(c.Read)
	if len(seen) == 0 {
		return used, c
	}
	for i := range seen { // they were places in the bytes at hand
		seen[i].Line, seen[i].Lines = 0, 1+strings.Count(seen[i].Original, "\n")
	}
	x.mu.Lock()
	looks := slices.Clone(x.looks)
	x.mu.Unlock()
	var covered []Tried
	for _, l := range looks {
		if l.File != "" && (b.Origin == nil || b.Origin.File != l.File) || l.File == "" && whole {
			continue
		}
		if l.Clear {
			l.Take(slices.Clone(seen), b.Origin)
			continue
		}
		if covered == nil {
			for i := range seen {
				covered = append(covered, t.covered(seen[i]))
			}
		}
		l.Take(slices.Clone(covered), b.Origin)
	}
	return used, c
}

// covered is a record without its private data: neither as it came in, nor on its way, nor in the values of one that
// was dropped before its masks. What leaves the host is shown as it leaves.
func (t *Treatment) covered(y Tried) Tried {
	hidden := t.hidden(y.Original, "", y.Private)
	var secrets []secret
	for _, m := range hidden {
		secrets = append(secrets, secret{y.Original[m.Start:m.End], m.Mask})
	}
	y.Original, y.Private = cover(y.Original, "original", hidden)
	blank := func(text, name string) string {
		text, _ = cover(text, name, t.hidden(text, name, shows(text, secrets)))
		return text
	}
	y.Effects = slices.Clone(y.Effects)
	for i := range y.Effects {
		e := &y.Effects[i]
		e.Changes = slices.Clone(e.Changes)
		for k := range e.Changes {
			ch := &e.Changes[k]
			ch.Name, ch.Before, ch.After = blank(ch.Name, ""), blank(ch.Before, ch.Name), blank(ch.After, ch.Name)
		}
	}
	if y.Dropped == "" {
		return y
	}
	y.Body, y.Marks = cover(y.Body, "body", t.hidden(y.Body, "", shows(y.Body, secrets)))
	y.Fields = slices.Clone(y.Fields)
	for i := range y.Fields {
		f := &y.Fields[i]
		text := ShowValue(*f)
		if clean := blank(text, f.Name); clean != text {
			f.Type, f.Value = "text", clean
		}
		f.Name = blank(f.Name, "")
	}
	return y
}

// secret is private data of a record, with the mask that takes it.
type secret struct{ text, mask string }

// shows are the places of a text that show private data, or a part of it.
func shows(text string, secrets []secret) (out []Mark) {
	for _, found := range secrets {
		s := found.text
		for at := 0; at+min(piece, len(s)) <= len(text); {
			n := min(piece, len(s))
			if !strings.Contains(s, text[at:at+n]) {
				at++
				continue
			}
			for at+n < len(text) && strings.Contains(s, text[at:at+n+1]) {
				n++
			}
			out = append(out, Mark{Start: at, End: at + n, Mask: found.mask})
			at += n
		}
	}
	return out
}

// hidden are the places of a text that masks of the source would take, beside those that are known, in order and
// apart.
func (t *Treatment) hidden(text, field string, known []Mark) []Mark {
	all := slices.Clone(known)
	for _, s := range t.screens {
		for i := range s.masks {
			m := &s.masks[i]
			for _, h := range m.Find([]byte(text), field) {
				all = append(all, Mark{Start: h.Start, End: h.End, Mask: m.Name()})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b Mark) int { return a.Start - b.Start })
	var out []Mark
	for _, m := range all {
		if n := len(out); n > 0 && m.Start < out[n-1].End {
			out[n-1].End = max(out[n-1].End, m.End)
			continue
		}
		out = append(out, m)
	}
	return out
}

// Cover puts stars in place of all that masks of the source would take in a text that is no record of it. It may not
// be called while records are treated.
func (t *Treatment) Cover(text string) string {
	text, _ = cover(text, "", t.hidden(text, "", nil))
	return text
}

// blanked stands where private data was.
var blanked = string(mask.AppendBlank(nil))

// cover puts stars in places of a text, and answers where they are.
func cover(text, name string, places []Mark) (string, []Mark) {
	if len(places) == 0 {
		return text, nil
	}
	var b strings.Builder
	var marks []Mark
	at := 0
	for _, m := range places {
		b.WriteString(text[at:m.Start])
		start := b.Len()
		b.WriteString(blanked)
		marks = append(marks, Mark{In: name, Start: start, End: b.Len(), Mask: m.Mask})
		at = m.End
	}
	b.WriteString(text[at:])
	return b.String(), marks
}
