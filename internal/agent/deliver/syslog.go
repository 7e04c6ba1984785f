package deliver

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"sync/atomic"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
)

// syslogSender writes messages of RFC 5424: over UDP one a datagram (RFC 5426), over TCP (RFC 6587, octet counting)
// and TLS (RFC 5425) with their length before them. Nothing acknowledges them: what was written to the connection
// counts as taken, and what was on its way when a connection breaks is lost.
type syslogSender struct {
	spec    delivery.Spec
	safe    *tls.Config
	conn    net.Conn
	broken  *atomic.Bool
	decoder record.Decoder
	body    []byte
	one     []byte
}

// largestDatagram is what fits into a datagram over IPv4 without being cut by the system.
const largestDatagram = 65507

func newSyslog(spec delivery.Spec, deps Deps) (Sender, error) {
	safe, err := tlsOf(spec.TLS, deps.Secret)
	if err != nil {
		return nil, err
	}
	if safe.ServerName == "" {
		host, _, _ := net.SplitHostPort(spec.Address)
		safe.ServerName = host
	}
	return &syslogSender{spec: spec, safe: safe}, nil
}

func (s *syslogSender) Encoding() record.Encoding { return record.OTLP }

func (s *syslogSender) Close() {
	if s.conn != nil {
		s.conn.Close()
		s.conn = nil
	}
}

func (s *syslogSender) Send(ctx context.Context, records []delivery.Segment) Answer {
	again := func(code health.Code, why string) Answer {
		s.Close()
		return Answer{delivery.Again, code, why, 0, ""}
	}
	if err := s.connect(ctx); err != nil {
		code, why := plain(err)
		return again(code, why)
	}
	stop := context.AfterFunc(ctx, func() { _ = s.conn.SetDeadline(time.Now()) })
	defer stop()
	_ = s.conn.SetDeadline(time.Now().Add(answerWaited))
	s.body = s.body[:0]
	for _, seg := range records {
		for rest := seg.Bytes; len(rest) > 0; {
			n := record.NextOTLP(rest)
			if n <= 0 {
				return Answer{delivery.Refused, health.WrongPath, "a record cannot be read", 0, ""}
			}
			b, err := s.decoder.Decode(record.OTLP, seg.Origin, rest[:n])
			if err != nil {
				return Answer{delivery.Refused, health.WrongPath, err.Error(), 0, ""}
			}
			rest = rest[n:]
			s.one = record.AppendSyslog(s.one[:0], b)
			if s.spec.Transport == "udp" {
				if _, err := s.conn.Write(s.one[:min(len(s.one), largestDatagram)]); err != nil {
					code, why := plain(err)
					return again(code, why)
				}
				continue
			}
			s.body = fmt.Appendf(s.body, "%d ", len(s.one))
			s.body = append(s.body, s.one...)
		}
	}
	if len(s.body) > 0 {
		if _, err := s.conn.Write(s.body); err != nil {
			code, why := plain(err)
			return again(code, why)
		}
	}
	if s.broken.Load() { // it was closed while it was written
		return again(health.NotReachable, s.spec.Address+" closed the connection")
	}
	return Answer{}
}

// connect opens a connection, unless there is one that the other side has not closed.
func (s *syslogSender) connect(ctx context.Context) error {
	if s.conn != nil && !s.broken.Load() {
		return nil
	}
	s.Close()
	network := "tcp"
	if s.spec.Transport == "udp" {
		network = "udp"
	}
	conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, network, s.spec.Address)
	if err != nil {
		return err
	}
	if s.spec.Transport == "tls" {
		t := tls.Client(conn, s.safe)
		if err := t.HandshakeContext(ctx); err != nil {
			conn.Close()
			return err
		}
		conn = t
	}
	s.conn, s.broken = conn, &atomic.Bool{}
	broken := s.broken
	go func() { // nothing is ever answered: what can be read is the end
		buf := make([]byte, 512)
		for {
			_, err := conn.Read(buf)
			var late net.Error
			switch {
			case err == nil, errors.As(err, &late) && late.Timeout():
				if broken.Load() {
					return
				}
				if err != nil {
					time.Sleep(50 * time.Millisecond)
				}
			case network == "udp" && !errors.Is(err, net.ErrClosed): // the port is closed now; the next write says so
				time.Sleep(50 * time.Millisecond)
			default:
				broken.Store(true)
				return
			}
		}
	}()
	return nil
}
