package listen

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"synaxis/internal/agent/input"
	"synaxis/internal/core/health"
	"synaxis/internal/core/pipeline"
)

// Times of a server.
const (
	bindEvery   = 100 * time.Millisecond // it is tried again where a port cannot be bound
	bindPatient = 2 * time.Second        // before that is told: another source may just leave it
	drainFor    = 10 * time.Second       // connections to an address that was left
	shakeFor    = 10 * time.Second       // TLS must be agreed on
	expiresSoon = 14 * 24 * time.Hour    // a certificate that is not renewed is told
)

// server is bound to one address. What it receives goes to the input that it follows.
type server struct {
	listener *pipeline.Listener
	began    time.Time
	now      func() time.Time
	in       atomic.Pointer[Input] // that it follows
	ctx      context.Context
	cancel   context.CancelFunc
	work     sync.WaitGroup
	once     sync.Once

	ending atomic.Bool   // it takes nothing new, and reads what has come
	udp    *net.UDPConn  // nil for another transport
	bodies chan struct{} // requests that are read at once

	mu      sync.Mutex
	bound   func() // gives back what is bound; nil for nothing
	stopped bool   // nothing new is taken
	failed  error  // why it cannot be bound
	since   time.Time
	reason  string // why it failed, in words, as of looked
	looked  time.Time
	conns   map[*conn]bool
}

func newServer(in *Input) *server {
	s := &server{listener: in.Spec.Listen, began: in.Now(), now: in.Now, conns: map[*conn]bool{},
		bodies: make(chan struct{}, mostBodies)}
	s.in.Store(in)
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

// serves tells whether it is bound as a listener says.
func (s *server) serves(l *pipeline.Listener) bool { return same(s.listener, l) }

// follow lets it work for another input.
func (s *server) follow(in *Input) { s.in.Store(in) }

// start binds, once. Where that fails it is tried again and again.
func (s *server) start() {
	s.once.Do(func() {
		if s.bind() == nil {
			return
		}
		s.work.Go(func() {
			t := time.NewTicker(bindEvery)
			defer t.Stop()
			for {
				select {
				case <-s.ctx.Done():
					return
				case <-t.C:
				}
				if s.bind() == nil {
					return
				}
			}
		})
	})
}

func (s *server) bind() error {
	s.mu.Lock()
	stopped := s.stopped
	s.mu.Unlock()
	if stopped {
		return nil
	}
	close, err := s.open()
	s.mu.Lock()
	if err == nil && s.stopped {
		s.mu.Unlock()
		close()
		return nil
	}
	defer s.mu.Unlock()
	if err != nil && s.failed == nil {
		s.since = s.now()
	}
	if s.failed = err; err == nil {
		s.bound = close
	}
	return err
}

// address is where it listens, and the kind of addresses: 4, 6, or "" for both.
func (s *server) address() (at, family string) {
	host := s.listener.Address
	if a, err := netip.ParseAddr(host); err == nil {
		switch {
		case a.Is4():
			family = "4"
		case a != netip.IPv6Unspecified():
			family = "6"
		}
	}
	return net.JoinHostPort(host, s.listener.Port), family
}

// open binds, and begins to serve. It answers what gives it back.
func (s *server) open() (func(), error) {
	at, family := s.address()
	if s.listener.Transport == "udp" {
		return s.openUDP(at, family)
	}
	var c net.ListenConfig
	l, err := c.Listen(s.ctx, "tcp"+family, at)
	if err != nil {
		return nil, err
	}
	switch s.listener.Kind {
	case "http", "otlp":
		return s.serveHTTP(l), nil
	}
	done := make(chan struct{})
	s.work.Go(func() {
		defer close(done)
		s.accept(l)
	})
	return func() {
		// Who has connected already was answered by the system, and may have said something: it is let in.
		if t, ok := l.(*net.TCPListener); ok && t.SetDeadline(time.Now().Add(lastCalls)) == nil {
			select {
			case <-done:
			case <-time.After(10 * lastCalls):
			}
		}
		l.Close()
	}, nil
}

// leave gives back what is bound and takes nothing new.
func (s *server) leave() {
	s.mu.Lock()
	bound := s.bound
	s.stopped, s.bound = s.stopped || bound == nil, nil
	s.mu.Unlock()
	if bound == nil {
		return
	}
	bound() // not while it is locked: connections that end come back to it
	s.mu.Lock()
	s.stopped = true
	s.mu.Unlock()
}

// retire is for an address that is left: the port is free at once, and connections may go on for a while.
func (s *server) retire() {
	s.leave()
	go func() {
		t := time.NewTimer(drainFor)
		defer t.Stop()
		done := make(chan struct{})
		go func() { s.work.Wait(); close(done) }()
		select {
		case <-done:
		case <-t.C:
		}
		s.close()
	}()
}

// Times of ending: how long nothing more comes until what has come is read, and nobody until all are let in who have
// connected.
const (
	lastCalls     = 20 * time.Millisecond
	lastDatagrams = 50 * time.Millisecond
	lastBytes     = 100 * time.Millisecond
)

// drain takes nothing new, reads what the system has already, and waits for that as long as ctx lasts.
func (s *server) drain(ctx context.Context) {
	s.ending.Store(true)
	s.mu.Lock()
	bound, udp := s.bound, s.udp
	if udp == nil {
		s.bound = nil
	}
	s.stopped = s.stopped || udp != nil || bound == nil
	s.mu.Unlock()
	if udp != nil {
		_ = udp.SetReadDeadline(time.Now().Add(lastDatagrams))
	} else if bound != nil {
		bound()
	}
	s.mu.Lock()
	s.stopped = true
	if k := s.listener.Kind; k != "http" && k != "otlp" { // where requests go on to their answer
		for c := range s.conns {
			_ = c.SetReadDeadline(time.Now().Add(lastBytes))
		}
	}
	s.mu.Unlock()
	done := make(chan struct{})
	go func() { s.work.Wait(); close(done) }()
	select {
	case <-done:
	case <-ctx.Done():
	}
}

func (s *server) close() {
	s.leave()
	s.cancel()
	s.mu.Lock()
	for c := range s.conns {
		c.Close()
	}
	s.mu.Unlock()
	s.work.Wait()
}

// complaint is why nothing can come.
func (s *server) complaint() input.Complaint {
	in := s.in.Load()
	if err := in.rules.tlsError; err != nil {
		return input.Complaint{Code: health.CannotListen, Since: s.began,
			Reason: fmt.Sprintf("the certificate and key of the listener cannot be used: %v", err)}
	}
	if x := in.rules.issued; x != nil {
		until, words := x.state()
		switch {
		case words != "" && s.now().Sub(s.began) > bindPatient:
			return input.Complaint{Code: health.CannotListen, Since: s.began, Reason: "it has no certificate of the service yet: " + words}
		case words == "" && until.Sub(s.now()) < expiresSoon:
			return input.Complaint{Code: health.CertificateExpiring, Since: s.began, Reason: fmt.Sprintf(
				"its certificate expires on %s, and the service signs no new one", until.UTC().Format("2006-01-02 15:04 UTC"))}
		}
	}
	s.mu.Lock()
	failed, since := s.failed, s.since
	s.mu.Unlock()
	if failed == nil || s.now().Sub(since) < bindPatient {
		return input.Complaint{}
	}
	return input.Complaint{Code: health.CannotListen, Since: since, Reason: s.why(failed)}
}

// whyEvery is how often it is looked who holds a port: that looks at all programs of the host.
const whyEvery = 10 * time.Second

// why is why the port cannot be bound, as it was found lately.
func (s *server) why(failed error) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := s.now(); s.reason == "" || now.Sub(s.looked) >= whyEvery {
		s.reason, s.looked = bindReason(s.listener, failed), now
	}
	return s.reason
}

// bindReason is why a port cannot be bound, and who holds it.
func bindReason(l *pipeline.Listener, err error) string {
	transport := l.Transport
	if transport == "tls" {
		transport = "tcp"
	}
	what := fmt.Sprintf("cannot bind %s port %s of %s", transport, l.Port, l.Address)
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return what + ": " + Holder(transport, l.Port)
	case errors.Is(err, syscall.EACCES):
		return what + ": the agent may not bind ports below 1024; give its unit AmbientCapabilities=CAP_NET_BIND_SERVICE, " +
			"or take a higher port and say reached-at"
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return what + ": the host does not have this address"
	}
	return fmt.Sprintf("%s: %v", what, err)
}
