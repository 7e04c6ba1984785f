package listen

import (
	"context"
	"errors"
	"net"
	"syscall"
	"time"
	"unsafe"

	"synaxis/internal/core/framing"
)

// Sizes of receiving datagrams.
const (
	atOnce       = 64
	mostDatagram = 64 << 10
	wantBuffer   = 16 << 20 // of the system, for a socket
)

// Options of sockets that package syscall does not name.
const (
	soReceiveBufferForce = 33 // SO_RCVBUFFORCE
	soMemInfo            = 55 // SO_MEMINFO, of sock_diag(7)
	memInfoDrops         = 8  // the place of SK_MEMINFO_DROPS
	memInfoLength        = 9
)

func (s *server) openUDP(at, family string) (func(), error) {
	c := net.ListenConfig{Control: func(_, _ string, raw syscall.RawConn) error {
		return raw.Control(func(fd uintptr) {
			// as much as there may be: with the right to, also above the bound of the system
			if syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, soReceiveBufferForce, wantBuffer) != nil {
				_ = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVBUF, wantBuffer)
			}
		})
	}}
	p, err := c.ListenPacket(context.Background(), "udp"+family, at)
	if err != nil {
		return nil, err
	}
	conn := p.(*net.UDPConn)
	s.mu.Lock()
	s.udp = conn
	s.mu.Unlock()
	s.work.Go(func() { s.receive(conn) })
	return func() { conn.Close() }, nil
}

// dropped is how many datagrams the system has dropped of a socket since it was made.
func dropped(conn *net.UDPConn) (n uint32, ok bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, false
	}
	var info [memInfoLength]uint32
	size := uint32(len(info) * 4)
	_ = raw.Control(func(fd uintptr) {
		_, _, e := syscall.Syscall6(syscall.SYS_GETSOCKOPT, fd, syscall.SOL_SOCKET, soMemInfo,
			uintptr(unsafe.Pointer(&info[0])), uintptr(unsafe.Pointer(&size)), 0)
		ok = e == 0
	})
	return info[memInfoDrops], ok
}

// receive takes datagrams, many at once, until the socket is closed.
func (s *server) receive(conn *net.UDPConn) {
	from, err := newReceiver(conn)
	if err != nil { // the socket is closed
		return
	}
	defer from.close()
	var looked time.Time
	was := uint32(0)
	for {
		got, err := from.read()
		if err != nil {
			if errors.Is(err, net.ErrClosed) || isTimeout(err) && s.ending.Load() {
				return
			}
			select {
			case <-s.ctx.Done():
				return
			case <-time.After(10 * time.Millisecond): // such as a message of the network about one that was sent
			}
			continue
		}
		in, now := s.in.Load(), s.now()
		if now.Sub(looked) >= 200*time.Millisecond {
			looked = now
			if d, ok := dropped(conn); ok {
				in.peers.miss(nil, int64(d-was), now)
				was = d
			}
		}
		s.take(in, got, now)
	}
}

// take puts datagrams into the inbox: those of one sender that follow each other together.
func (s *server) take(in *Input, got []packet, now time.Time) {
	for len(got) > 0 {
		from, n, size := got[0].from, 0, 0
		for n < len(got) && got[n].from.Addr() == from.Addr() {
			size += len(got[n].data)
			n++
		}
		run := got[:n]
		got = got[n:]
		if one := in.probes.from(from); one != nil {
			in.inbox.put(one, size, n, now, func(to *parcel) { datagram(in, to, run[0].data) })
			continue
		}
		if why := in.rules.takes(from.Addr()); why != "" {
			for range run {
				in.peers.turn(why)
			}
			continue
		}
		p := in.peers.heard(in.rules, from.Addr(), now)
		if !in.inbox.put(p, size, n, now, func(to *parcel) {
			for _, one := range run {
				datagram(in, to, one.data)
			}
		}) {
			in.peers.miss(p, int64(n), now)
		}
	}
}

// datagram adds the messages of one datagram.
func datagram(in *Input, to *parcel, data []byte) {
	kind := in.rules.listener.Framing
	if kind == framing.Packet {
		n := min(len(data), in.rules.limit)
		to.add(in.rules.text(data[:n], n < len(data)), n < len(data), nil)
		return
	}
	c := framing.New(kind, in.rules.limit)
	for {
		p, ok, err := c.Next(data, true)
		if err != nil {
			in.peers.turn(badFraming)
		}
		if err != nil || !ok {
			return
		}
		to.add(data[p.Skip:p.Skip+p.Body], p.Truncated, nil)
		data = data[p.Size:]
	}
}
