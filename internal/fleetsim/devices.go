package fleetsim

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// A device has no agent: its log is sent to a listener of its machine. The path of such a log is device:TRANSPORT, the
// setting that holds the port, and the address that it sends from.

func devicePath(transport, setting, from string) string {
	return strings.Join([]string{"device", transport, setting, from}, ":")
}

// device is how a log is sent; ok is false for one that is a file.
func (l Log) device() (transport, setting, from string, ok bool) {
	parts := strings.Split(l.Path, ":")
	if len(parts) != 4 || parts[0] != "device" {
		return "", "", "", false
	}
	return parts[1], parts[2], parts[3], true
}

// devices are those that send to the watch desk.
func devices() []Log {
	archive, desk := []string{"harbour-archive"}, []string{"watch-desk"}
	return []Log{
		{"bridge-signals", devicePath("udp", "signals_port", "127.0.0.20"), "", 1100 * time.Millisecond,
			signalLine("signals-northpier"), archive},
		{"bridge-signals", devicePath("udp", "signals_port", "127.0.0.21"), "", 1300 * time.Millisecond,
			signalLine("signals-saltmarsh"), archive},
		{"bridge-signals", devicePath("udp", "signals_port", "127.0.0.37"), "", 2900 * time.Millisecond,
			signalLine("signals-test"), archive}, // which nobody has told the desk of
		{"harbour-radar", devicePath("tcp", "radar_port", "127.0.0.22"), "", 600 * time.Millisecond, radarLine, desk},
		{"mole-camera", devicePath("tls", "camera_port", "127.0.0.25"), "", 1900 * time.Millisecond, cameraLine, desk},
		{"pier-meters", devicePath("http", "meters_port", "127.0.0.23"), "", 1700 * time.Millisecond, meterLine,
			archive},
		{"berth-planner", devicePath("otlp", "planner_port", "127.0.0.24"), "", 2 * time.Second, plannerLine, desk},
	}
}

func signalLine(name string) func(*rand.Rand, string, int, time.Time) string {
	return func(r *rand.Rand, id string, _ int, at time.Time) string {
		return fmt.Sprintf("<%d>%s %s signal: light=%s barrier=%s queue=%d id=%s", 134+r.IntN(2),
			at.UTC().Format(time.Stamp), name,
			pick(r, "red", "green"), pick(r, "up", "down"), r.IntN(30), id)
	}
}

func radarLine(r *rand.Rand, id string, n int, at time.Time) string {
	text := fmt.Sprintf("<%d>1 %s radar-mole track %d - - bearing=%d range_m=%d speed_kn=%.1f id=%s", 133+r.IntN(2),
		at.UTC().Format("2006-01-02T15:04:05.000Z"), 100+n%40, r.IntN(360), 200+r.IntN(9000), r.Float64()*20, id)
	return fmt.Sprintf("%d %s", len(text), text) // by octet counting
}

func cameraLine(r *rand.Rand, id string, _ int, at time.Time) string {
	return fmt.Sprintf("<134>1 %s camera-mole counter - - - people=%d vehicles=%d id=%s\n",
		at.UTC().Format("2006-01-02T15:04:05.000Z"), r.IntN(400), r.IntN(60), id)
}

func meterLine(r *rand.Rand, id string, n int, at time.Time) string {
	return fmt.Sprintf(`{"time":"%s","meter":"pier-%d","what":"%s","litres":%d,"kwh":%.2f,"id":"%s"}`,
		at.UTC().Format(time.RFC3339Nano), 1+n%6, pick(r, "water", "current"), r.IntN(900), r.Float64()*40, id)
}

func plannerLine(r *rand.Rand, id string, _ int, at time.Time) string {
	body, _ := json.Marshal(fmt.Sprintf("berth %d for %s id=%s", 1+r.IntN(9), pick(r, "Petrel", "Dunlin", "Turnstone"), id))
	return fmt.Sprintf(`{"resourceLogs":[{"resource":{"attributes":[{"key":"service.name","value":{"stringValue":`+
		`"berth-planner"}}]},"scopeLogs":[{"logRecords":[{"timeUnixNano":"%d","severityNumber":9,"body":{"stringValue":%s},`+
		`"attributes":[{"key":"draught_cm","value":{"intValue":"%d"}}]}]}]}]}`, at.UnixNano(), body, 200+r.IntN(300))
}

// sender sends what a device says.
type sender struct {
	transport, address, from string
	conn                     net.Conn
	client                   *http.Client
	trust                    func() *x509.CertPool // of what it reaches by TLS
}

// dialer dials from an address of its own.
func (s *sender) dialer() *net.Dialer {
	d := &net.Dialer{Timeout: 5 * time.Second, LocalAddr: &net.TCPAddr{IP: net.ParseIP(s.from)}}
	if s.transport == "udp" {
		d.LocalAddr = &net.UDPAddr{IP: net.ParseIP(s.from)}
	}
	return d
}

// patience is how long a device tries again to send one message.
const patience = 30 * time.Second

// Write sends one message. Where that fails it is tried again for a while, as devices do.
func (s *sender) Write(p []byte) (n int, err error) {
	for began := time.Now(); time.Since(began) < patience; time.Sleep(100 * time.Millisecond) {
		if err = s.send(p); err == nil {
			return len(p), nil
		}
		if s.conn != nil {
			s.conn.Close()
			s.conn = nil
		}
	}
	return 0, fmt.Errorf("a device of the demo: %w", err)
}

func (s *sender) send(p []byte) error {
	switch s.transport {
	case "http", "otlp":
		return s.post(p)
	}
	if s.conn == nil {
		c, err := s.dial()
		if err != nil {
			return err
		}
		s.conn = c
	}
	_, err := s.conn.Write(p)
	return err
}

func (s *sender) dial() (net.Conn, error) {
	if s.transport != "tls" {
		return s.dialer().Dial(s.transport, s.address)
	}
	return tls.DialWithDialer(s.dialer(), "tcp", s.address, &tls.Config{RootCAs: s.trust()})
}

func (s *sender) post(p []byte) error {
	if s.client == nil {
		s.client = &http.Client{Timeout: 10 * time.Second,
			Transport: &http.Transport{DialContext: s.dialer().DialContext}}
	}
	path := "/meters"
	if s.transport == "otlp" {
		path = "/v1/logs"
	}
	resp, err := s.client.Post("http://"+s.address+path, "application/json", bytes.NewReader(p))
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode/100 != 2 {
		words, _ := io.ReadAll(io.LimitReader(resp.Body, 200))
		return fmt.Errorf("%s: %s", resp.Status, words)
	}
	return nil
}

// Close ends it.
func (s *sender) Close() error {
	if s.client != nil {
		s.client.CloseIdleConnections()
	}
	if s.conn == nil {
		return nil
	}
	return s.conn.Close()
}

// ports are free ones for the listeners of a machine, by the settings that hold them.
func ports(m Machine) (map[string]string, error) {
	out := map[string]string{}
	for _, l := range m.Logs {
		transport, setting, _, ok := l.device()
		if !ok || out[setting] != "" {
			continue
		}
		var at net.Addr
		if transport == "udp" {
			c, err := net.ListenPacket("udp", "127.0.0.1:0")
			if err != nil {
				return nil, err
			}
			at = c.LocalAddr()
			c.Close()
		} else {
			c, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return nil, err
			}
			at = c.Addr()
			c.Close()
		}
		_, port, err := net.SplitHostPort(at.String())
		if err != nil {
			return nil, err
		}
		if _, err := strconv.Atoi(port); err != nil {
			return nil, err
		}
		out[setting] = port
	}
	return out, nil
}
