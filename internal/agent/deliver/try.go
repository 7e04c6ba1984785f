package deliver

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/record"
)

// Trial is what came of trying to get to a destination.
type Trial struct {
	Code   health.Code // of the trouble, or empty
	Words  string
	Unsure bool // whether it takes records is known with one only
}

// Try tells whether a destination can be reached, safely, and lets the host in. With send a record that says what it
// is is delivered; without, nothing is, but for an empty delivery.
func Try(ctx context.Context, spec delivery.Spec, deps Deps, send bool) Trial {
	switch spec.Kind {
	case delivery.Discard:
		return Trial{Words: "nothing is kept there"}
	case delivery.File:
		return tryFile(spec.Path)
	case delivery.Syslog:
		if !send {
			return trySyslog(ctx, spec, deps)
		}
	default:
		if t := reach(ctx, spec, deps); t.Code != "" {
			return t
		}
	}
	spec.AtOnce = 1
	sender, err := newSender(spec, deps, nil)
	if err != nil {
		return Trial{Code: health.NotReachable, Words: err.Error()}
	}
	defer sender.Close()
	var segments []delivery.Segment
	if send {
		segments = []delivery.Segment{testRecord(sender.Encoding())}
	}
	a := sender.Send(ctx, segments)
	switch {
	case a.Outcome == delivery.Accepted && send:
		return Trial{Words: "it has taken a test record"}
	case a.Outcome == delivery.Accepted:
		return Trial{Words: "it is reached, lets the host in, and has taken an empty delivery"}
	case a.Outcome == delivery.Refused && !send:
		return Trial{Words: "it is reached and lets the host in; it takes no empty delivery", Unsure: true}
	}
	code := a.Code
	if code == "" {
		code = health.RefusesEverything
	}
	return Trial{Code: code, Words: a.Why}
}

// testRecord is a record that says what it is.
func testRecord(enc record.Encoding) delivery.Segment {
	now := time.Now().UnixNano()
	b := &record.Batch{Origin: record.NewOrigin("preflight", "", "synaxis-preflight", "", nil),
		Schema: record.NewSchema("synaxis.preflight")}
	b.Values = []record.Value{{Kind: record.Bool, Num: 1}}
	b.Records = []record.Record{{Time: now, Observed: now, Level: record.Info, N: 1,
		Body: b.Put([]byte("a test record of a Synaxis preflight; nothing needs to be done"))}}
	var e record.Encoder
	x := e.Encode(enc, b)
	return delivery.Segment{Origin: x.Origin, Bytes: x.Bytes}
}

// tryFile tells whether a file can be appended to, without making it.
func tryFile(path string) Trial {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0)
	if err == nil {
		f.Close()
		return Trial{Words: "the file can be written"}
	}
	if errors.Is(err, fs.ErrNotExist) {
		var tmp *os.File
		if tmp, err = os.CreateTemp(filepath.Dir(path), ".synaxis-preflight-*"); err == nil {
			tmp.Close()
			os.Remove(tmp.Name())
			return Trial{Words: "the file can be made"}
		}
	}
	return Trial{Code: health.DestinationUnwritable, Words: "the file cannot be written: " + plainPath(err)}
}

func plainPath(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

func trySyslog(ctx context.Context, spec delivery.Spec, deps Deps) Trial {
	s, err := newSyslog(spec, deps)
	if err == nil {
		err = s.(*syslogSender).connect(ctx)
		s.Close()
	}
	if err != nil {
		code, why := plain(err)
		return Trial{Code: code, Words: why}
	}
	if spec.Transport == "udp" {
		return Trial{Words: "its name is found; over UDP no more can be known", Unsure: true}
	}
	return Trial{Words: "it takes connections"}
}

// reach looks the address up, connects, and agrees on TLS, each with its own trouble.
func reach(ctx context.Context, spec delivery.Spec, deps Deps) Trial {
	if spec.Proxy != "" { // which does that itself
		return Trial{}
	}
	for _, address := range spec.URLs {
		u, err := url.Parse(address)
		if err != nil {
			return Trial{Code: health.WrongPath, Words: err.Error()}
		}
		port := u.Port()
		if port == "" {
			port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
		}
		conn, err := (&net.Dialer{Timeout: answerSaid}).DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
		if err == nil && u.Scheme == "https" {
			var safe *tls.Config
			if safe, err = tlsOf(spec.TLS, deps.Secret); err == nil {
				if safe.ServerName == "" {
					safe.ServerName = u.Hostname()
				}
				err = tls.Client(conn, safe).HandshakeContext(ctx)
			}
		}
		if conn != nil {
			conn.Close()
		}
		if err != nil {
			code, why := plain(err)
			return Trial{Code: code, Words: fmt.Sprintf("%s: %s", address, why)}
		}
	}
	return Trial{}
}
