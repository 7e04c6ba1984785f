package fleetsim

import (
	"io"
	"net"
	"sync"
)

// Link carries connections to an address, until it is cut: a vessel's link to the shore.
type Link struct {
	to       string
	listener net.Listener

	mu    sync.Mutex
	cut   bool
	conns map[net.Conn]bool
}

// NewLink listens on a free loopback port and carries what comes there to an address.
func NewLink(to string) (*Link, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	link := &Link{to: to, listener: l, conns: map[net.Conn]bool{}}
	go link.serve()
	return link, nil
}

// Address is where the link begins.
func (l *Link) Address() string { return l.listener.Addr().String() }

// Cut ends all connections and takes no more until Mend.
func (l *Link) Cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cut = true
	for c := range l.conns {
		c.Close()
	}
	clear(l.conns)
}

// Mend lets connections through again.
func (l *Link) Mend() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cut = false
}

// Close ends the link.
func (l *Link) Close() {
	l.Cut()
	l.listener.Close()
}

func (l *Link) serve() {
	for {
		from, err := l.listener.Accept()
		if err != nil {
			return
		}
		to, err := net.Dial("tcp", l.to)
		if err != nil || !l.keep(from, to) {
			from.Close()
			if err == nil {
				to.Close()
			}
			continue
		}
		for _, pair := range [][2]net.Conn{{from, to}, {to, from}} {
			go func() {
				_, _ = io.Copy(pair[0], pair[1])
				l.end(from, to)
			}()
		}
	}
}

// keep notes a pair of connections, unless the link is cut.
func (l *Link) keep(pair ...net.Conn) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range pair {
		if !l.cut {
			l.conns[c] = true
		}
	}
	return !l.cut
}

func (l *Link) end(pair ...net.Conn) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range pair {
		c.Close()
		delete(l.conns, c)
	}
}
