package agents

import (
	"bytes"
	"context"
	"encoding/hex"
	"sync"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"

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

// brief is a message that was gathered.
type brief struct {
	c        *links.Conn
	who      membership.Caller
	sequence uint64
	from, to int // its numbers in the bytes that were gathered
}

// gathered are the messages that wait.
type gathered struct {
	taking sync.Mutex // one goroutine takes, in the order in which they came
	mu     sync.Mutex
	briefs []brief
	bytes  []byte
}

// gather keeps a frame until it is taken, if it holds a brief message of the agent with the uid that is who's; else it
// answers false. numbers tells whether its numbers are to be taken.
func (a *Agents) gather(c *links.Conn, who membership.Caller, uid, frame []byte, numbers func() bool) bool {
	if uid == nil || who.Credential.UsedAt.IsZero() {
		return false
	}
	b, ok := wire.ReadBrief(frame)
	if !ok || !bytes.Equal(b.UID, uid) {
		return false
	}
	if len(b.Numbers) > wire.MaxMetrics || b.Numbers != nil && !numbers() {
		b.Numbers = nil // they are in the next report, since sums are told from their begin
	}
	g := &a.gathered
	g.mu.Lock()
	first, from := len(g.briefs) == 0, len(g.bytes)
	g.bytes = append(g.bytes, b.Numbers...)
	g.briefs = append(g.briefs, brief{c, who, b.Sequence, from, len(g.bytes)})
	full := len(g.bytes) >= gatherBytes
	g.mu.Unlock()
	switch {
	case full:
		a.takeGathered()
	case first:
		time.AfterFunc(gatherFor, a.takeGathered)
	}
	return true
}

// takeGathered takes what was gathered before it was called.
func (a *Agents) takeGathered() {
	g := &a.gathered
	g.taking.Lock()
	defer g.taking.Unlock()
	g.mu.Lock()
	briefs, numbers := g.briefs, g.bytes
	g.briefs, g.bytes = nil, nil
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
	msg := &protobufs.AgentToServer{SequenceNum: b.sequence}
	h, ok := a.p.Inventory.ByUID(uid)
	if !ok || !h.RetiredAt.IsZero() {
		msg.InstanceUid, _ = hex.DecodeString(uid)
		go func() {
			answer, _, err := a.take(context.Background(), msg, b.who, b.c)
			a.answer(context.Background(), b.c, msg, answer, err)
		}()
		return
	}
	if heard := a.p.Links.Hear(uid, b.sequence, b.c, false); heard != (links.Heard{}) {
		msg.InstanceUid, _ = hex.DecodeString(uid)
		go func() {
			answer, _, err := a.takeHeard(context.Background(), msg, b.who, b.c, h, heard, "", blank(msg))
			a.answer(context.Background(), b.c, msg, answer, err)
		}()
		if heard.Copy != "" {
			return
		}
	}
	var report wire.Report
	if len(numbers) > 0 {
		if r, err := wire.ReadReport(numbers); err == nil {
			report = r
		}
	}
	a.p.Reports.TakeReport(h.Name, report)
	a.p.Hosts.Touch(h.Name)
}
