package listen

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"synaxis/internal/core/framing"
)

// Sizes and times of connections.
const (
	firstRead  = 512              // bytes that an idle connection has room for
	busyRead   = 64 << 10         // and one that sends, as long as it does
	unfinished = 5 * time.Second  // after which a message without its end is taken as it is
	patient    = time.Minute      // and one of which the length is known
	keepAlive  = 30 * time.Second // after which it is asked whether the other side is there
)

// conn is one connection, of TCP or TLS.
type conn struct {
	net.Conn
	addr  netip.Addr
	since time.Time
	last  atomic.Int64 // when something came, in Unix nanoseconds
}

// accept takes connections until the listener is closed, or has a deadline that has passed.
func (s *server) accept(l net.Listener) {
	for {
		c, err := l.Accept()
		if errors.Is(err, net.ErrClosed) || errors.Is(err, os.ErrDeadlineExceeded) {
			return
		}
		if err != nil { // such as too many open files
			select {
			case <-s.ctx.Done():
				return
			case <-time.After(100 * time.Millisecond):
			}
			continue
		}
		if one := s.admit(c); one != nil {
			s.work.Go(func() { s.serve(one) })
		}
	}
}

// remote is the address of the other side.
func remote(c net.Conn) netip.Addr {
	a, _ := netip.ParseAddrPort(c.RemoteAddr().String())
	return a.Addr().Unmap().WithZone("")
}

// admit lets a connection in, or closes it. Where there are as many as there may be, the longest silent one of the
// address that has most is closed for one of an address that has fewer.
func (s *server) admit(c net.Conn) *conn {
	in, now := s.in.Load(), s.now()
	a := remote(c)
	if why := in.rules.takes(a); why != "" && !(a.IsLoopback() && in.probes.under()) {
		in.peers.turn(why)
		c.Close()
		return nil
	}
	one := &conn{Conn: c, addr: a, since: now}
	one.last.Store(now.UnixNano())
	if t, ok := c.(*net.TCPConn); ok {
		_ = t.SetKeepAlivePeriod(keepAlive)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped {
		c.Close()
		return nil
	}
	if len(s.conns) >= in.rules.listener.Connections {
		out := s.victim(a)
		if out == nil {
			in.peers.turn(tooMany)
			c.Close()
			return nil
		}
		in.peers.turn(tooMany)
		out.Close()
		delete(s.conns, out)
	}
	s.conns[one] = true
	return one
}

// victim is who must go for a newcomer, or nil. It is locked.
func (s *server) victim(newcomer netip.Addr) *conn {
	have := map[netip.Addr]int{}
	for c := range s.conns {
		have[c.addr]++
	}
	most := 0
	for _, n := range have {
		most = max(most, n)
	}
	if most <= have[newcomer]+1 {
		return nil
	}
	var out *conn
	for c := range s.conns {
		if have[c.addr] == most && (out == nil || c.last.Load() < out.last.Load()) {
			out = c
		}
	}
	return out
}

func (s *server) let(c *conn) {
	c.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.conns, c)
}

var buffers = sync.Pool{New: func() any { b := make([]byte, busyRead); return &b }}

// serve reads one connection to its end. An idle one has a few bytes of room, one that sends a buffer that is shared.
func (s *server) serve(c *conn) {
	defer s.let(c)
	from, ok := s.shake(c)
	if !ok {
		return
	}
	cut := framing.New(s.listener.Framing, s.in.Load().rules.limit)
	var small [firstRead]byte
	var big *[]byte
	defer func() { giveBack(big) }()
	n, waited := 0, time.Duration(0)
	for {
		var got int
		var err error
		if big == nil {
			s.until(from, time.Time{})
			if got, err = from.Read(small[:]); got > 0 {
				big = buffers.Get().(*[]byte)
				n = copy(*big, small[:got])
			}
		} else {
			s.until(from, time.Now().Add(unfinished))
			got, err = from.Read((*big)[n:])
			n += got
		}
		late := isTimeout(err)
		if late && got == 0 && s.ending.Load() { // nothing more has come
			err, late = errCut, false
		}
		if late && n == 0 { // one that sent much, or a message larger than a buffer
			giveBack(big)
			big = nil
			continue
		}
		if waited += unfinished; got > 0 {
			waited = 0
			c.last.Store(s.now().UnixNano())
		}
		end := err != nil && !late
		if late && got == 0 { // what has no end yet is a message after a while; of a known length it is waited for
			end = !cut.Counts((*big)[:n]) || waited >= patient
		}
		if big != nil {
			used, bad := s.messages(c, &cut, (*big)[:n], end)
			if n = copy(*big, (*big)[used:n]); n == len(*big) { // of a message larger than the buffer
				more := make([]byte, 2*n)
				copy(more, *big)
				giveBack(big)
				big = &more
			}
			if bad != nil {
				return
			}
			if n == 0 && got <= firstRead && len(*big) == busyRead { // it sends little: it waits with little
				giveBack(big)
				big = nil
			}
		}
		if err != nil && !late || waited >= patient {
			return
		}
	}
}

// until sets until when a read may take. Where the server ends, that is soon.
func (s *server) until(c net.Conn, at time.Time) {
	_ = c.SetReadDeadline(at)
	if s.ending.Load() {
		_ = c.SetReadDeadline(time.Now().Add(lastBytes))
	}
}

func giveBack(b *[]byte) {
	if b != nil && len(*b) == busyRead {
		buffers.Put(b)
	}
}

// shake agrees on TLS, where it is asked for.
func (s *server) shake(c *conn) (net.Conn, bool) {
	if s.listener.Transport != "tls" {
		return c.Conn, true
	}
	in := s.in.Load()
	if in.rules.tls == nil {
		in.peers.turn(badTLS)
		return nil, false
	}
	t := tls.Server(c.Conn, in.rules.tls)
	ctx, cancel := context.WithTimeout(s.ctx, shakeFor)
	defer cancel()
	if err := t.HandshakeContext(ctx); err != nil {
		in.peers.turn(badTLS)
		return nil, false
	}
	return t, true
}

func isTimeout(err error) bool {
	var t net.Error
	return errors.As(err, &t) && t.Timeout()
}

// errCut says that a connection is cut.
var errCut = errors.New("the connection is cut")

// sparePieces are lists that are used again.
var sparePieces = sync.Pool{New: func() any { return new([]framing.Piece) }}

// messages puts the messages of what came into the inbox, and waits for room. It answers how much was used.
func (s *server) messages(c *conn, cut *framing.Cutter, data []byte, end bool) (used int, err error) {
	spare := sparePieces.Get().(*[]framing.Piece)
	pieces := *spare
	defer func() {
		*spare = pieces
		sparePieces.Put(spare)
	}()
	for used < len(data) {
		start := used
		pieces = pieces[:0]
		for used < len(data) && used-start < parcelSize/2 && err == nil {
			p, ok, bad := cut.Next(data[used:], end)
			if bad != nil {
				err = errCut
			}
			if !ok {
				break
			}
			p.Skip += used
			used += p.Size
			if p.Body > 0 {
				pieces = append(pieces, p)
			}
		}
		if len(pieces) > 0 && !s.put(c, data, pieces, used-start) {
			return used, errCut
		}
		if err != nil {
			s.in.Load().peers.turn(badFraming)
		}
		if used == start || err != nil {
			break
		}
	}
	return used, err
}

// from is the peer of a probe that comes from an address, or nil.
func (in *Input) from(a net.Addr) *peer {
	if !in.probes.under() {
		return nil
	}
	at, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return nil
	}
	return in.probes.from(at)
}

// put puts messages into the inbox of the input that is served now. False when there is none any more.
func (s *server) put(c *conn, data []byte, pieces []framing.Piece, size int) bool {
	for {
		in, now := s.in.Load(), s.now()
		from := in.from(c.RemoteAddr())
		if from == nil {
			from = in.peers.heard(in.rules, c.addr, now)
		}
		if in.inbox.put(from, size, len(pieces), now, func(to *parcel) {
			for _, x := range pieces {
				to.add(in.rules.text(data[x.Skip:x.Skip+x.Body], x.Truncated), x.Truncated, nil)
			}
		}) {
			return true
		}
		if !in.inbox.wait(s.ctx.Done()) {
			return false
		}
	}
}
