// Package listen receives records over the network: syslog and raw messages over UDP, TCP and TLS, records over HTTP,
// and OTLP over HTTP.
//
// A server binds the address and keeps the connections. It outlives the input that it was made for, so that a change
// of a definition closes nothing that it does not reach. What comes is put into an inbox, where each sender has a
// queue of its own and no more room than is left free, and is treated by the goroutine of the source in turns. Another
// sends what is treated, in the same order, while the next is treated.
package listen

import (
	"context"
	"encoding/binary"
	"fmt"
	"sync/atomic"
	"time"

	"synaxis/internal/agent/input"
	"synaxis/internal/agent/settle"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
)

// Input is a source that listens.
type Input struct {
	input.Parts
	server   *server
	inbox    *inbox
	peers    *peers
	rules    *rules
	known    map[string]recognised // by address
	learning int                   // senders whose lines are kept
	probes   probes
	ledger   *settle.Ledger
	place    uint64      // of the ledger
	held     atomic.Bool // a destination has no room
	gone     atomic.Bool // another has taken over
}

// maxBatch is how many records are sent on at once.
const maxBatch = 4096

// New makes an input. before may be the one that served the source before, which must have ended: what it has bound
// stays bound where the address is the same, its connections go on, and what waits is treated by the new one.
func New(p input.Parts, before input.Input) input.Input {
	in := &Input{Parts: p, ledger: p.Book.Ledger(cursorAt(0), nil)}
	in.rules = newRules(p)
	old, _ := before.(*Input)
	if old == nil {
		in.inbox, in.peers = newInbox(), newPeers()
	} else {
		old.gone.Store(true)
		in.inbox, in.peers = old.inbox, old.peers
	}
	in.known = in.remembered()
	in.peers.begin(in)
	if old != nil && old.server != nil && old.server.serves(p.Spec.Listen) {
		in.server = old.server
		in.server.follow(in)
		return in
	}
	if old != nil && old.server != nil {
		old.server.retire()
	}
	in.server = newServer(in)
	in.server.start()
	return in
}

func cursorAt(n uint64) settle.Cursor { return binary.BigEndian.AppendUint64(nil, n) }

// Run treats what comes until ctx ends. What is bound stays bound, for the input that takes its place, or for
// Close.
func (in *Input) Run(ctx context.Context) {
	if x := in.rules.issued; x != nil {
		go x.keep(ctx) // nobody waits for it: it may be asking a service that is away
	}
	to := in.send(ctx)
	defer to.end()
	for {
		p := in.inbox.take(ctx)
		if p == nil {
			return
		}
		in.treat(to, p)
	}
}

// treat treats what came from one sender, in batches.
func (in *Input) treat(to *sending, p *parcel) {
	from := p.peer
	t := in.peers.treatment(in, from)
	if from.learns {
		t = in.learn(from, p)
	}
	if len(p.messages) == 0 {
		in.finish(p, nil)
	}
	now := in.Now()
	for rest, arena := p.messages, p.arena; len(rest) > 0; {
		n := min(len(rest), maxBatch)
		b := <-to.free
		b.Arena, b.Records, b.Values = arena, b.Records[:0], b.Values[:0]
		b.Origin, b.Stream, b.Leaving, b.Written = from.origin, from.stream, record.Deleted, 0
		if b.UID = from.uid; in.Spec.NoIDs {
			b.UID = nil
		}
		c := t.RunMessages(b, rest[:n], from.place, p.at.UnixNano())
		from.place += int64(n)
		rest, arena = rest[n:], b.Arena
		counts := c.All()
		if c.Read > 0 && !from.probe { // which is no sign of life
			counts.LastRecord = now.UnixNano()
		}
		in.peers.saw(from, b, &counts)
		b.Schema = b.Schema.Frozen()
		to.treated <- treated{b, counts, p, len(rest) == 0}
	}
}

// Complaint is what is wrong: that nothing can come, that messages were lost on the way, or that a sender is silent.
func (in *Input) Complaint() input.Complaint {
	if c := in.server.complaint(); c.Code != "" {
		return c
	}
	if n, since := in.peers.missedLately(in.Now()); n > 0 {
		return input.Complaint{Code: health.MessagesMissed, Since: since, Reason: fmt.Sprintf(
			"%d messages came faster than they could be taken in the last %d minutes, and are lost", n,
			int(health.Window.Minutes()))}
	}
	return in.peers.silent(in)
}

// Waiting is what came and is not treated yet.
func (in *Input) Waiting() wire.Numbers {
	bytes, oldest := in.inbox.waits()
	n := wire.Numbers{Unread: bytes}
	if x := in.rules.issued; x != nil {
		if until, _ := x.state(); !until.IsZero() {
			n.CertificateEnds = until.UnixNano()
		}
	}
	if !oldest.IsZero() {
		n.Oldest = oldest.UnixNano()
	}
	return n
}

// Save puts the numbers into the store. What came over the network has no position to go back to.
func (in *Input) Save() {
	if in.gone.Load() {
		return
	}
	missed, turned := in.peers.counted()
	if missed > 0 || len(turned) > 0 {
		n := wire.Numbers{Missed: missed, TurnedAway: turned}
		in.Book.Note(n)
	}
	_, n := in.Book.Snapshot([]*settle.Ledger{in.ledger})
	in.Store.SetNumbers(in.Spec.Name, n)
}

// End takes nothing new, and waits until what has come is treated.
func (in *Input) End(ctx context.Context) {
	in.server.drain(ctx)
	for ctx.Err() == nil {
		if bytes, _ := in.inbox.waits(); bytes == 0 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// Close ends to listen. What has come is treated by nobody any more; who waits for an answer is told to come again.
func (in *Input) Close() {
	in.server.close()
	in.inbox.close()
}

// Senders are those who were heard, and those that are expected.
func (in *Input) Senders() []wire.Sender { return in.peers.list(in) }
