package listen

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/net/ipv6"

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
	// what it does is the same for both kinds of addresses: recvmmsg(2)
	batch := ipv6.NewPacketConn(conn)
	messages := make([]ipv6.Message, atOnce)
	for i := range messages {
		messages[i].Buffers = [][]byte{make([]byte, mostDatagram)}
	}
	var looked time.Time
	was := uint32(0)
	for {
		n, err := batch.ReadBatch(messages, 0)
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
		s.take(in, messages[:n], now)
	}
}

// take puts datagrams into the inbox: those of one sender that follow each other together.
func (s *server) take(in *Input, messages []ipv6.Message, now time.Time) {
	for i := 0; i < len(messages); {
		addr, ok := messages[i].Addr.(*net.UDPAddr)
		if !ok {
			i++
			continue
		}
		j, size := i, 0
		for ; j < len(messages); j++ {
			if next, ok := messages[j].Addr.(*net.UDPAddr); !ok || !next.IP.Equal(addr.IP) {
				break
			}
			size += messages[j].N
		}
		run := messages[i:j]
		i = j
		a, _ := netip.AddrFromSlice(addr.IP)
		a = a.Unmap()
		if one := in.probes.from(addr.AddrPort()); one != nil {
			in.inbox.put(one, size, len(run), now, func(to *parcel) { datagram(in, to, run[0].Buffers[0][:run[0].N]) })
			continue
		}
		if why := in.rules.takes(a); why != "" {
			for range run {
				in.peers.turn(why)
			}
			continue
		}
		p := in.peers.heard(in.rules, a, now)
		if !in.inbox.put(p, size, len(run), now, func(to *parcel) {
			for k := range run {
				datagram(in, to, run[k].Buffers[0][:run[k].N])
			}
		}) {
			in.peers.miss(p, int64(len(run)), now)
		}
	}
}

// datagram adds the messages of one datagram.
func datagram(in *Input, to *parcel, data []byte) {
	kind := in.rules.listener.Framing
	if kind == framing.Packet {
		n := min(len(data), in.rules.limit)
		to.add(data[:n], n < len(data), nil)
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
