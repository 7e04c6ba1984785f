package listen

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/agent/input"
	"synaxis/internal/core/format"
	"synaxis/internal/core/health"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// peers are all who were heard.
type peers struct {
	mu     sync.Mutex
	of     map[netip.Addr]*peer
	gen    int // counts the inputs
	missed int64
	lately []lost
	turned map[string]int64
	others int64 // who were forgotten, since there were too many
}

type lost struct {
	at time.Time
	n  int64
}

// mostPeers bounds how many senders are known at once.
const mostPeers = 10_000

// Examples of what a peer sends: how many, how long, and how often one is taken.
const (
	mostExamples = 10
	exampleSize  = 512
	exampleEvery = 200 * time.Millisecond
)

// peer is one who sends. What is below the line belongs to the goroutine of the source; the rest is guarded by peers.
type peer struct {
	addr     netip.Addr
	name     string // of its definition; "" for unknown
	first    time.Time
	last     time.Time
	messages int64
	bytes    int64
	unparsed int64
	missed   int64
	examples []string
	format   string    // that was recognised; "" for none yet
	share    float64   // of its lines that it reads
	minute   int64     // which one is counted now, since 1970
	now, was int64     // messages in it, and in the one before
	began    time.Time // since when it is expected

	queue []*parcel // of the inbox, which guards it
	held  int
	busy  atomic.Bool // something of it waits

	probe     bool   // it is this agent itself
	learns    bool   // its format is to be recognised
	lines     []byte // of it, until there are enough
	seen      int    // how many
	shown     int64  // when an example was taken, in Unix nanoseconds
	gen       int
	origin    *record.Origin
	treatment *pipeline.Treatment
	stream    uint64
	uid       []byte
	place     int64
}

func newPeers() *peers { return &peers{of: map[netip.Addr]*peer{}, turned: map[string]int64{}} }

// begin makes everybody known anew by what an input says.
func (ps *peers) begin(in *Input) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	ps.gen++
	for _, s := range in.rules.senders { // who is expected is known before it is heard
		if a := s.Network.Addr(); s.Network.IsSingleIP() && ps.of[a] == nil {
			ps.of[a] = &peer{addr: a, name: s.Name, began: in.Now()}
		}
	}
	for a, p := range ps.of {
		s := in.rules.senders.Of(a)
		switch {
		case s != nil:
			if p.name != s.Name || p.began.IsZero() {
				p.name, p.began = s.Name, in.Now()
			}
		case p.last.IsZero():
			delete(ps.of, a)
		default:
			p.name, p.began = "", time.Time{}
		}
	}
}

// heard is the peer of an address, which has just sent something.
func (ps *peers) heard(r *rules, a netip.Addr, now time.Time) *peer {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	p := ps.of[a]
	if p == nil {
		if len(ps.of) >= mostPeers {
			ps.forget()
		}
		p = &peer{addr: a}
		if s := r.senders.Of(a); s != nil {
			p.name, p.began = s.Name, now
		}
		ps.of[a] = p
	}
	if p.first.IsZero() {
		p.first = now
	}
	p.last = now
	return p
}

// forget lets go of some of those who were not heard for the longest time, and of whom nothing waits. It is locked.
func (ps *peers) forget() {
	var old []*peer
	for _, p := range ps.of {
		if p.name == "" && !p.busy.Load() {
			old = append(old, p)
		}
	}
	slices.SortFunc(old, func(a, b *peer) int { return a.last.Compare(b.last) })
	for _, p := range old[:min(len(old), mostPeers/100)] {
		delete(ps.of, p.addr)
		ps.others++
	}
}

// treatment is how the records of a peer are treated; its origin is made where it has none. It is called by the
// goroutine of the source.
func (ps *peers) treatment(in *Input, p *peer) *pipeline.Treatment {
	ps.mu.Lock()
	gen, name := ps.gen, p.name
	ps.mu.Unlock()
	if p.gen == gen && p.treatment != nil {
		return p.treatment
	}
	if p.probe {
		p.gen, p.treatment, p.stream = gen, in.Treatment, rand.Uint64()|1
		p.uid = record.NewUID(p.origin.HostID, p.stream)
		return p.treatment
	}
	var labels map[string]string
	if s := in.rules.senders.Of(p.addr); s != nil {
		labels = map[string]string{}
		for k, v := range s.Labels {
			labels[k] = v
		}
		labels[record.SenderLabel] = s.Name
	}
	p.gen, p.treatment, p.learns = gen, in.Treatment, in.Spec.Format == string(format.Recognised)
	if t := in.Parts.Senders[name]; t != nil {
		own := in.rules.senders.Of(p.addr).Format
		p.treatment = t
		p.learns = own == string(format.Recognised) || own == "" && p.learns
	}
	if p.learns {
		in.recall(p)
	}
	p.origin = in.Sender(p.addr.String(), labels)
	if p.stream == 0 {
		p.stream = rand.Uint64() | 1
		p.uid = record.NewUID(p.origin.HostID, p.stream)
	}
	return p.treatment
}

// roll goes on to the minute of a moment.
func (p *peer) roll(at time.Time) {
	m := at.Unix() / 60
	switch {
	case m == p.minute+1:
		p.was, p.now = p.now, 0
	case m > p.minute:
		p.was, p.now = 0, 0
	}
	p.minute = max(p.minute, m)
}

// perMinute is how many messages came in the minute that ends at a moment, about.
func (p *peer) perMinute(at time.Time) int64 {
	p.roll(at)
	left := 60 - at.Unix()%60
	return p.now + p.was*left/60
}

// saw notes what was read of a peer, and counts it to its name.
func (ps *peers) saw(p *peer, b *record.Batch, n *wire.Numbers) {
	example := ""
	if k := len(b.Records); k > 0 && b.Records[k-1].Observed-p.shown >= int64(exampleEvery) {
		p.shown = b.Records[k-1].Observed
		example = pipeline.Short(string(b.Bytes(b.Records[k-1].Body)), exampleSize) // after steps and guards
	}
	ps.mu.Lock()
	defer ps.mu.Unlock()
	if p.name != "" && n.Read > 0 {
		n.Senders, n.SenderBytes = map[string]int64{p.name: n.Read}, map[string]int64{p.name: n.Bytes}
		wire.Count(&n.SenderUnparsed, p.name, n.Unparsed)
		wire.Count(&n.SenderDropped, p.name, n.Dropped)
		wire.Count(&n.SenderMasked, p.name, n.Masked)
		for reason, v := range n.Drops {
			wire.Count(&n.SenderDrops, wire.SenderOf(reason, p.name), v)
		}
		for mask, v := range n.Masks {
			wire.Count(&n.SenderMasks, wire.SenderOf(mask, p.name), v)
		}
	}
	p.messages += n.Read
	p.bytes += n.Bytes
	p.roll(p.last)
	p.now += n.Read
	p.unparsed += n.Unparsed
	if example != "" {
		if len(p.examples) == mostExamples {
			p.examples = p.examples[1:]
		}
		p.examples = append(p.examples, example)
	}
}

// miss counts messages of a peer that were lost; p may be nil for those of whom nothing is known.
func (ps *peers) miss(p *peer, n int64, now time.Time) {
	if n <= 0 {
		return
	}
	ps.mu.Lock()
	defer ps.mu.Unlock()
	ps.missed += n
	if p != nil {
		p.missed += n
	}
	if k := len(ps.lately); k > 0 && now.Sub(ps.lately[k-1].at) < time.Second {
		ps.lately[k-1].n += n
		return
	}
	ps.lately = append(ps.lately, lost{now, n})
}

// missedLately is how many messages were lost within health.Window, and since when.
func (ps *peers) missedLately(now time.Time) (n int64, since time.Time) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	ps.lately = slices.DeleteFunc(ps.lately, func(l lost) bool { return now.Sub(l.at) > health.Window })
	for _, l := range ps.lately {
		if n += l.n; since.IsZero() {
			since = l.at
		}
	}
	return n, since
}

// turn counts what was turned away.
func (ps *peers) turn(why string) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	ps.turned[why]++
}

// counted takes what was counted since the last time.
func (ps *peers) counted() (missed int64, turned map[string]int64) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	missed, turned = ps.missed, ps.turned
	ps.missed, ps.turned = 0, map[string]int64{}
	return missed, turned
}

// silent tells which senders are silent by their expectation.
func (ps *peers) silent(in *Input) input.Complaint {
	now := in.Now()
	ps.mu.Lock()
	defer ps.mu.Unlock()
	var worst input.Complaint
	n, of := 0, 0
	for i := range in.rules.senders {
		s := &in.rules.senders[i]
		if !s.Expect.Any() {
			continue
		}
		of++
		var last, began time.Time
		for _, p := range ps.of {
			if p.name != s.Name {
				continue
			}
			if p.last.After(last) {
				last = p.last
			}
			if began.IsZero() || p.began.Before(began) {
				began = p.began
			}
		}
		if began.IsZero() {
			began = in.server.began
		}
		reason, since := health.SilentSender(s.Name, s.Expect, last, began, now)
		if reason == "" {
			continue
		}
		if n++; worst.Code == "" || since.Before(worst.Since) {
			worst = input.Complaint{Code: health.SenderSilent, Reason: reason, Since: since}
		}
	}
	if n > 1 {
		worst.Reason += fmt.Sprintf("; %d of %d senders are silent", n, of)
	}
	return worst
}

// list are all senders, those first that are expected, then by address.
func (ps *peers) list(in *Input) (out []wire.Sender) {
	ps.mu.Lock()
	defer ps.mu.Unlock()
	for _, p := range ps.of {
		s := wire.Sender{Minute: p.perMinute(in.Now()), Source: in.Spec.Name, Name: p.name, Address: p.addr.String(),
			First: p.first, Last: p.last,
			Messages: p.messages, Bytes: p.bytes, Unparsed: p.unparsed, Missed: p.missed, Format: p.format,
			Share:    p.share,
			Examples: slices.Clone(p.examples)}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b wire.Sender) int {
		if (a.Name == "") != (b.Name == "") {
			return map[bool]int{true: 1, false: -1}[a.Name == ""]
		}
		if c := b.Last.Compare(a.Last); c != 0 {
			return c
		}
		return strings.Compare(a.Address, b.Address)
	})
	return out
}
