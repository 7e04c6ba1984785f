package agents

import (
	"bytes"
	"context"
	"encoding/hex"
	"sync"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"
	"golang.org/x/time/rate"

	"synaxis/internal/core/wire"
	"synaxis/internal/service/links"
	"synaxis/internal/service/membership"
)

// Most messages of a large fleet are reports of numbers alone. They are gathered for a moment and taken together by
// one goroutine: ten thousand that take one each are slower by half, since each finds its memory cold and its stack
// too small.

// Bounds of gathering.
const (
	gatherFor   = 250 * time.Millisecond
	gatherBytes = 1 << 20
)

// The pace of brief messages of one connection. An agent that floods is read faster than its messages would be taken
// one by one, so that what else it says, that it runs another config, does not wait behind its flood for long.
const (
	paceBriefs = 50 // a second
	briefBurst = 400
	briefBytes = 2 << 10 // count as one more
)

// brief is a message that was gathered, or several of one connection that follow each other, of which the first may
// have numbers that are taken.
type brief struct {
	c           *links.Conn
	who         membership.Caller
	first, last uint64 // sequence numbers
	from, to    int    // its numbers in the bytes that were gathered
}

// gathered are the messages that wait.
type gathered struct {
	taking sync.Mutex // one goroutine takes, in the order in which they came
	mu     sync.Mutex
	briefs []brief
	bytes  []byte
	taken  int // how often they were taken
}

// sayer is one connection, as far as it is gathered.
type sayer struct {
	c      *links.Conn
	who    membership.Caller
	uid    []byte        // that is who's
	pace   *rate.Limiter // of brief messages
	counts *rate.Limiter // of those of them whose numbers are taken
	taken  int           // how often had been taken when it said something last
	at     int           // which brief message that was
}

// gather keeps a frame until it is taken, if it holds a brief message of the agent that it comes from; else it answers
// false.
func (a *Agents) gather(ctx context.Context, s *sayer, frame []byte) (bool, error) {
	if s.uid == nil || s.who.Credential.UsedAt.IsZero() {
		return false, nil
	}
	b, ok := wire.ReadBrief(frame)
	if !ok || !bytes.Equal(b.UID, s.uid) {
		return false, nil
	}
	if err := s.pace.WaitN(ctx, 1+min(len(frame)/briefBytes, briefBurst/2)); err != nil {
		return true, err
	}
	if len(b.Numbers) > wire.MaxMetrics || b.Numbers != nil && !s.counts.Allow() {
		b.Numbers = nil // they are in the next report, since sums are told from their begin
	}
	g := &a.gathered
	g.mu.Lock()
	if s.taken == g.taken && s.at < len(g.briefs) && b.Numbers == nil {
		if was := &g.briefs[s.at]; was.c == s.c && b.Sequence == was.last+1 {
			was.last++
			g.mu.Unlock()
			return true, nil
		}
	}
	first, from := len(g.briefs) == 0, len(g.bytes)
	s.taken, s.at = g.taken, len(g.briefs)
	g.bytes = append(g.bytes, b.Numbers...)
	g.briefs = append(g.briefs, brief{s.c, s.who, b.Sequence, b.Sequence, from, len(g.bytes)})
	full := len(g.bytes) >= gatherBytes
	g.mu.Unlock()
	switch {
	case full:
		a.takeGathered()
	case first:
		time.AfterFunc(gatherFor, a.takeGathered)
	}
	return true, nil
}

// takeGathered takes what was gathered before it was called.
func (a *Agents) takeGathered() {
	g := &a.gathered
	g.taking.Lock()
	defer g.taking.Unlock()
	g.mu.Lock()
	briefs, numbers := g.briefs, g.bytes
	g.briefs, g.bytes = nil, nil
	g.taken++
	g.mu.Unlock()
	for _, b := range briefs {
		a.takeBrief(b, numbers[b.from:b.to])
	}
	if len(briefs) == 0 || cap(numbers) > 2*gatherBytes {
		return
	}
	clear(briefs)
	g.mu.Lock()
	if g.briefs == nil {
		g.briefs, g.bytes = briefs[:0], numbers[:0]
	}
	g.mu.Unlock()
}

// takeBrief takes one message. Where there is more to it than numbers, it goes the way of all others.
func (a *Agents) takeBrief(b brief, numbers []byte) {
	uid := b.who.Credential.UID
	h, ok := a.p.Inventory.ByUID(uid)
	if !ok || !h.RetiredAt.IsZero() {
		go a.answerBrief(b, func(ctx context.Context, msg *protobufs.AgentToServer) (*protobufs.ServerToAgent, error) {
			answer, _, err := a.take(ctx, msg, b.who, b.c)
			return answer, err
		})
		return
	}
	if heard := a.hear(uid, b); heard != (links.Heard{}) {
		go a.answerBrief(b, func(ctx context.Context, msg *protobufs.AgentToServer) (*protobufs.ServerToAgent, error) {
			answer, _, err := a.takeHeard(ctx, msg, b.who, b.c, h, heard, "", blank(msg))
			return answer, err
		})
		if heard.Copy != "" {
			return
		}
	}
	if len(numbers) > 0 {
		if report, err := wire.ReadReport(numbers); err == nil {
			a.p.Reports.TakeReport(h.Name, report)
			a.p.Hosts.Touch(h.Name)
			return
		}
	}
	a.p.Reports.TakeReport(h.Name, wire.Report{})
}

// answerBrief takes a message in the way of all others, and answers it. Others do not wait for that.
func (a *Agents) answerBrief(
	b brief, take func(context.Context, *protobufs.AgentToServer) (*protobufs.ServerToAgent, error),
) {
	ctx := context.Background()
	msg := &protobufs.AgentToServer{SequenceNum: b.last}
	msg.InstanceUid, _ = hex.DecodeString(b.who.Credential.UID)
	answer, err := take(ctx, msg)
	a.answer(ctx, b.c, msg, answer, err)
}

// hear notes messages that follow each other.
func (a *Agents) hear(uid string, b brief) (all links.Heard) {
	for n := b.first; ; n++ {
		h := a.p.Links.Hear(uid, n, b.c, false)
		all.Arrived, all.AskAll, all.Copy = all.Arrived || h.Arrived, all.AskAll || h.AskAll, h.Copy
		if n == b.last || h.Copy != "" {
			return all
		}
	}
}
