// Package links holds the live connections of agents, and the polls of those that have none: who is there, what waits
// to be sent, and questions with their answers. It knows agents by their uids, and nothing of hosts.
package links

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	"golang.org/x/time/rate"

	"synaxis/internal/core/wire"
)

// Conn is a WebSocket of an agent.
type Conn struct {
	ws      *websocket.Conn
	private bool        // nobody between can read it
	offers  func(*Conn) // sends what is offered
	kicks   atomic.Int64
	pinged  atomic.Bool   // an answer is waited for
	mu      sync.Mutex    // one writer at a time
	answers atomic.Bool   // questions of the desk
	asked   sync.Map      // channels for the answers, by the question's id
	uid     string        // once it is known; the lock of Links guards it
	heard   atomic.Int64  // Unix nanoseconds of the last message
	gone    chan struct{} // closed when it has ended
	left    sync.Once
}

// Open takes a WebSocket, until Left. offers is called, by one goroutine at a time, when there is something to Take.
func (l *Links) Open(ws *websocket.Conn, private bool, offers func(*Conn)) *Conn {
	c := &Conn{ws: ws, private: private, offers: offers, gone: make(chan struct{})}
	c.heard.Store(time.Now().UnixNano())
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open[c] = true
	return c
}

// Private tells whether nobody between can read what is sent.
func (c *Conn) Private() bool { return c.private }

// frames are buffers of messages that are being read. Most messages are small, and thousands a second are dropped at
// once.
var frames = sync.Pool{New: func() any { return new(bytes.Buffer) }}

// keptFrame is how large a buffer may be that is used again.
const keptFrame = 64 << 10

// Read waits for the next message and lets take have it. The bytes are taken back when take returns.
func (c *Conn) Read(ctx context.Context, take func(frame []byte) error) error {
	_, r, err := c.ws.Reader(ctx)
	if err != nil {
		return err
	}
	b := frames.Get().(*bytes.Buffer)
	defer func() {
		if b.Cap() <= keptFrame {
			b.Reset()
			frames.Put(b)
		}
	}()
	_, err = b.ReadFrom(r)
	c.heard.Store(time.Now().UnixNano())
	if err != nil {
		return err
	}
	return take(b.Bytes())
}

// Ping waits for the agent to answer.
func (c *Conn) Ping(ctx context.Context) error {
	defer c.pinged.Store(false)
	err := c.ws.Ping(ctx)
	if err == nil {
		c.heard.Store(time.Now().UnixNano())
	}
	return err
}

// Silent answers the connections on which nothing has come for so long and that are to be pinged now.
func (l *Links) Silent(long time.Duration) (out []*Conn) {
	before := time.Now().Add(-long).UnixNano()
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.open {
		if c.heard.Load() < before && c.pinged.CompareAndSwap(false, true) {
			out = append(out, c)
		}
	}
	return out
}

// Close ends the connection. The agent will come back.
func (c *Conn) Close() { _ = c.ws.CloseNow() }

// Send sends a message.
func (c *Conn) Send(ctx context.Context, m *protobufs.ServerToAgent) error {
	frame, err := wire.Marshal(m)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := ctx.Err(); err != nil {
		return err
	}
	// A write whose context ends cuts the connection: who leaves while a question is on its way takes no agent along.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer cancel()
	return c.ws.Write(ctx, websocket.MessageBinary, frame)
}

// wake lets what is offered be sent. No goroutine waits for it: ten thousand that do so would only be in the way.
func (c *Conn) wake() {
	if c.kicks.Add(1) > 1 {
		return
	}
	go func() {
		for n := int64(1); n > 0; n = c.kicks.Add(-n) {
			c.offers(c)
		}
	}()
}

// Custom takes what concerns the desk's questions out of a message.
func (c *Conn) Custom(msg *protobufs.AgentToServer) {
	if caps := msg.GetCustomCapabilities(); caps != nil {
		c.answers.Store(slices.Contains(caps.GetCapabilities(), wire.DeskCapability))
	}
	m := msg.GetCustomMessage()
	if m.GetCapability() != wire.DeskCapability {
		return
	}
	var r wire.Reply
	if wire.Decode(m.GetData(), &r) != nil {
		return
	}
	if waiting, ok := c.asked.LoadAndDelete(r.ID); ok {
		waiting.(chan wire.Reply) <- r
	}
}

// Offer is a config that waits to be sent or polled.
type Offer struct {
	Hash, Text string
	Secrets    []string // that go along, as NAME@VERSION
}

// peer is one agent.
type peer struct {
	conn      *Conn // of a WebSocket
	connected bool
	heard     time.Time
	offer     *Offer
	streams   streams
}

// Links is all connections. It is safe for concurrent use.
type Links struct {
	now func() time.Time

	mu      sync.Mutex
	peers   map[string]*peer // by uid
	polls   map[string]*peer // of those, who may be missing: they have no connection
	open    map[*Conn]bool
	joiners map[*Conn]string // the ids of the join tokens that connections were made with
	asks    *rate.Limiter    // bounds how many agents are asked for their full state at a time
}

// New makes it.
func New(now func() time.Time) *Links {
	return &Links{now: now, peers: map[string]*peer{}, polls: map[string]*peer{}, open: map[*Conn]bool{},
		joiners: map[*Conn]string{}, asks: rate.NewLimiter(300, 300)}
}

// PollPatience is how long after its last poll a polling agent counts as connected.
const PollPatience = 90 * time.Second

// Heard is what a message says of the connection.
type Heard struct {
	Arrived bool   // it was not there before, or comes over another connection
	AskAll  bool   // messages are missing; it should report its full state
	Copy    string // why it is the copy of another agent, or ""
}

// Hear notes a message of an agent, over a connection or, with nil, by a poll. whole tells whether it has the agent's
// full state.
func (l *Links) Hear(uid string, sequence uint64, c *Conn, whole bool) (h Heard) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.now()
	p := l.peer(uid)
	if h.Copy = p.streams.take(sequence, c, now); h.Copy != "" {
		l.detach(p, c)
		return h
	}
	h.Arrived = !p.connected || c != nil && p.conn != c
	l.heard(uid, p, c, now)
	h.AskAll = p.streams.gap && !whole && l.asks.AllowN(now, 1)
	return h
}

func (l *Links) detach(p *peer, c *Conn) {
	if c != nil && p.conn == c {
		l.polls[c.uid] = p // it counts as there for as long as one that polls
		p.conn, c.uid = nil, ""
	}
}

// Detach takes a connection from an agent that is not the one that it says it is.
func (l *Links) Detach(uid string, c *Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if p := l.peers[uid]; p != nil {
		l.detach(p, c)
	}
}

// Wait notes an agent that waits for approval: it is there, and nothing is sent to it.
func (l *Links) Wait(uid string, c *Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.heard(uid, l.peer(uid), c, l.now())
}

// peer is that of a uid. l is locked.
func (l *Links) peer(uid string) *peer {
	p := l.peers[uid]
	if p == nil {
		p = &peer{}
		l.peers[uid] = p
	}
	return p
}

// heard notes that an agent is there. l is locked.
func (l *Links) heard(uid string, p *peer, c *Conn, now time.Time) {
	p.heard, p.connected = now, true
	switch {
	case c != nil:
		p.conn, c.uid = c, uid
	case p.conn == nil:
		l.polls[uid] = p
	}
}

// Bye notes that an agent says it goes.
func (l *Links) Bye(uid string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if p := l.peers[uid]; p != nil {
		p.connected, p.conn = false, nil
	}
}

// Left notes the end of a connection. It answers the uid of the agent that is away now, or "".
func (l *Links) Left(c *Conn) string {
	c.left.Do(func() { close(c.gone) })
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.joiners, c)
	delete(l.open, c)
	p := l.peers[c.uid]
	if p == nil || p.conn != c {
		return ""
	}
	p.conn, p.connected = nil, false
	return c.uid
}

// Missing answers the uids of pollers that have not called for too long; they count as away from then on.
func (l *Links) Missing() (gone []string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.now()
	for uid, p := range l.polls {
		if polls := p.connected && p.conn == nil; !polls {
			delete(l.polls, uid)
		} else if now.Sub(p.heard) > PollPatience {
			delete(l.polls, uid)
			p.connected = false
			gone = append(gone, uid)
		}
	}
	return gone
}

// Connected tells whether an agent is there.
func (l *Links) Connected(uid string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := l.peers[uid]
	return p != nil && p.connected
}

// Each visits the uids of all agents that are there.
func (l *Links) Each(visit func(uid string)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for uid, p := range l.peers {
		if p.connected {
			visit(uid)
		}
	}
}

// Joins notes a connection that was made with a join token.
func (l *Links) Joins(c *Conn, token string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.joiners[c] = token
}

// Forget ends the connection of an agent and forgets it.
func (l *Links) Forget(uid string) {
	l.mu.Lock()
	p := l.peers[uid]
	delete(l.peers, uid)
	delete(l.polls, uid)
	l.mu.Unlock()
	if p != nil && p.conn != nil {
		p.conn.Close()
	}
}

// Hangup ends the connection of an agent, which will call again.
func (l *Links) Hangup(uid string) {
	l.mu.Lock()
	var c *Conn
	if p := l.peers[uid]; p != nil {
		c = p.conn
	}
	l.mu.Unlock()
	if c != nil {
		c.Close()
	}
}

// HangupToken ends the connections that were made with a join token.
func (l *Links) HangupToken(id string) {
	l.mu.Lock()
	var open []*Conn
	for c, token := range l.joiners {
		if token == id {
			open = append(open, c)
		}
	}
	l.mu.Unlock()
	for _, c := range open {
		c.Close()
	}
}

// Close ends all connections of agents, which will come back.
func (l *Links) Close() {
	l.mu.Lock()
	var all []*Conn
	for _, p := range l.peers {
		if p.conn != nil {
			all = append(all, p.conn)
		}
	}
	for c := range l.joiners {
		all = append(all, c)
	}
	l.mu.Unlock()
	for _, c := range all {
		c.Close()
	}
}

// Offer sends a config to an agent, now or at its next poll. It answers false when it is not there.
func (l *Links) Offer(uid string, o Offer) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := l.peers[uid]
	if p == nil || !p.connected {
		return false
	}
	p.offer = &o
	if p.conn != nil {
		p.conn.wake()
	}
	return true
}

// Withdraw takes back an offer that was not sent yet.
func (l *Links) Withdraw(uid, hash string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if p := l.peers[uid]; p != nil && p.offer != nil && p.offer.Hash == hash {
		p.offer = nil
	}
}

// Take takes what waits for an agent, over its connection or, with nil, by a poll. It answers nil for nothing.
func (l *Links) Take(uid string, c *Conn) *Offer {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := l.peers[uid]
	if p == nil || p.conn != c {
		return nil
	}
	o := p.offer
	p.offer = nil
	return o
}

// UID is the agent of a connection, or "".
func (l *Links) UID(c *Conn) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return c.uid
}

// askFor is how long an agent has to answer a question of the desk.
const askFor = 30 * time.Second

// Why an agent cannot be asked.
var (
	ErrAway  = errors.New("is away, so nothing can be read there; try again when it is back")
	ErrPolls = errors.New("polls; a host can be looked at over a WebSocket only")
	ErrOld   = errors.New("cannot show lines; install a newer one")
	ErrLeft  = errors.New("went away before it answered; try again when it is back")
	ErrMute  = fmt.Errorf("has not answered within %s", askFor)
)

// MayAsk tells why an agent cannot be asked now, or nil.
func (l *Links) MayAsk(uid string) error {
	_, err := l.asked(uid)
	return err
}

func (l *Links) asked(uid string) (*Conn, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	switch p := l.peers[uid]; {
	case p == nil || !p.connected:
		return nil, ErrAway
	case p.conn == nil:
		return nil, ErrPolls
	case !p.conn.answers.Load():
		return nil, ErrOld
	default:
		return p.conn, nil
	}
}

// Ask sends a question to an agent and waits for the answer.
func (l *Links) Ask(ctx context.Context, uid, kind string, a wire.Ask) (wire.Reply, error) {
	c, err := l.asked(uid)
	if err != nil {
		return wire.Reply{}, err
	}
	a.ID = rand.Text()
	answer := make(chan wire.Reply, 1)
	c.asked.Store(a.ID, answer)
	defer c.asked.Delete(a.ID)
	question := &protobufs.CustomMessage{Capability: wire.DeskCapability, Type: kind, Data: wire.Encode(a)}
	if err := c.Send(ctx, &protobufs.ServerToAgent{CustomMessage: question}); err != nil {
		return wire.Reply{}, fmt.Errorf("could not be asked: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	select {
	case r := <-answer:
		return r, nil
	case <-c.gone:
		return wire.Reply{}, ErrLeft
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return wire.Reply{}, ErrMute
		}
		return wire.Reply{}, ctx.Err()
	}
}
