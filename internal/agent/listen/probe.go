package listen

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strconv"
	"sync"
	"time"

	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/framing"
	"synaxis/internal/core/record"
)

// probes are messages that this agent sends to its own listener, by the port that they come from.
type probes struct {
	mu     sync.RWMutex
	on     int
	marked map[netip.AddrPort]*peer
}

// probeTime is how long a probe may take to be taken.
const probeTime = 10 * time.Second

// from is the peer of a probe that comes from an address and port, or nil.
func (x *probes) from(a netip.AddrPort) *peer {
	x.mu.RLock()
	defer x.mu.RUnlock()
	if x.on == 0 {
		return nil
	}
	return x.marked[netip.AddrPortFrom(a.Addr().Unmap(), a.Port())]
}

// under tells whether a probe of this host may be on its way.
func (x *probes) under() bool {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.on > 0
}

func (x *probes) add(n int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.on += n; x.on == 0 {
		x.marked = nil
	}
}

func (x *probes) mark(a net.Addr, p *peer) {
	at, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.marked == nil {
		x.marked = map[netip.AddrPort]*peer{}
	}
	x.marked[netip.AddrPortFrom(at.Addr().Unmap(), at.Port())] = p
}

// Probe sends a line to the listener, as a sender would. Its record has the origin of a path.
func (in *Input) Probe(path, line string) error {
	s := in.server
	if c := s.complaint(); c.Code != "" {
		return errors.New(c.Reason)
	}
	host := s.listener.Address
	if a, err := netip.ParseAddr(host); err != nil || a.IsUnspecified() {
		host = "127.0.0.1"
	}
	p := &peer{addr: netip.MustParseAddr("127.0.0.1"), origin: in.Origin(path), probe: true}
	p.treatment, p.gen = in.Treatment, -1
	in.probes.add(1)
	time.AfterFunc(probeTime, func() { in.probes.add(-1) })
	network := "tcp"
	if s.listener.Transport == "udp" {
		network = "udp"
	}
	conn, err := net.DialTimeout(network, net.JoinHostPort(host, s.listener.Port), probeTime)
	if err != nil {
		return err
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(probeTime))
	in.probes.mark(conn.LocalAddr(), p)
	if s.listener.Transport == "tls" {
		conn = tls.Client(conn, &tls.Config{InsecureSkipVerify: true}) // it is our own
	}
	switch s.listener.Kind {
	case "http", "otlp":
		return in.postProbe(conn, line)
	}
	_, err = conn.Write(framed(s.listener.Framing, line))
	return err
}

// framed is a message as the framing has it.
func framed(kind framing.Kind, line string) []byte {
	switch kind {
	case framing.Null:
		return append([]byte(line), 0)
	case framing.OctetCount:
		return []byte(strconv.Itoa(len(line)) + " " + line)
	case framing.Packet:
		return []byte(line)
	}
	return []byte(line + "\n")
}

// postProbe sends a line as a request over a connection.
func (in *Input) postProbe(conn net.Conn, line string) error {
	body, kind, path := []byte(line), "text/plain", in.rules.listener.Path
	if in.server.listener.Kind == "otlp" {
		var err error
		kind, path = "application/x-protobuf", logsPath
		if body, err = proto.Marshal(&collogs.ExportLogsServiceRequest{ResourceLogs: []*logs.ResourceLogs{{
			ScopeLogs: []*logs.ScopeLogs{{LogRecords: []*logs.LogRecord{{TimeUnixNano: uint64(in.Now().UnixNano()),
				SeverityNumber: logs.SeverityNumber(record.Info), Body: &common.AnyValue{
					Value: &common.AnyValue_StringValue{StringValue: line}}}}}}}}}); err != nil {
			return err
		}
	}
	req, err := http.NewRequest(http.MethodPost, "http://"+conn.RemoteAddr().String()+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", kind)
	if in.rules.token != "" {
		req.Header.Set("Authorization", "Bearer "+in.rules.token)
	}
	client := &http.Client{Timeout: probeTime, Transport: &http.Transport{DisableKeepAlives: true,
		DialContext: func(context.Context, string, string) (net.Conn, error) { return conn, nil }}}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	resp.Body.Close()
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("the listener answered %s", resp.Status)
	}
	return nil
}
