package listen

import (
	"bytes"
	"crypto/tls"
	"net/netip"
	"slices"
	"strings"

	"synaxis/internal/agent/input"
	"synaxis/internal/core/pipeline"
)

// rules say who may send, and how they are known. They are never changed.
type rules struct {
	listener *pipeline.Listener
	allow    []netip.Prefix
	senders  pipeline.KnownSenders
	token    string
	tls      *tls.Config
	tlsError error
	issued   *issued // nil for a certificate that is given
	limit    int     // bytes of one message
}

func newRules(p input.Parts) *rules {
	l := p.Spec.Listen
	r := &rules{listener: l, limit: p.Treatment.MaxRecord(), senders: l.Known()}
	for _, text := range l.Allow {
		if n, err := pipeline.Network(text); err == nil {
			r.allow = append(r.allow, n)
		}
	}
	secret := func(text string) string {
		if !strings.HasPrefix(text, "${") {
			return text
		}
		v, _ := p.Secret(text)
		return string(v)
	}
	r.token = secret(l.Token)
	switch {
	case l.Transport == "tls" && l.Certificate == pipeline.Issued:
		r.issued = newIssued(p.Dir, p.Spec.Name, p.Certificate, p.Now)
		r.tls = &tls.Config{GetCertificate: r.issued.get, MinVersion: tls.VersionTLS12}
	case l.Transport == "tls":
		pair, err := tls.X509KeyPair([]byte(secret(l.Certificate)), []byte(secret(l.Key)))
		if r.tlsError = err; err == nil {
			r.tls = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
		}
	}
	return r
}

// text is what a message says. One of syslog may have an end behind it even where something else tells its length.
func (r *rules) text(message []byte, truncated bool) []byte {
	if n := len(message); n > 0 && message[n-1] <= '\r' && r.listener.Kind == "syslog" && !truncated {
		return bytes.TrimRight(message, "\x00\r\n")
	}
	return message
}

// Why something is turned away.
const (
	notAllowed    = "not-allowed"    // its address is not in allow
	unknownSender = "unknown-sender" // and unknown senders are refused
	tooMany       = "connections"    // there are as many as there may be
	badFraming    = "framing"        // what came is no message of the framing
	badTLS        = "tls"            // TLS could not be agreed on
	badRequest    = "request"        // a request that cannot be read, with no right, or too large
)

// takes tells why nothing is taken from an address, or "".
func (r *rules) takes(a netip.Addr) string {
	if len(r.allow) > 0 && !slices.ContainsFunc(r.allow, func(p netip.Prefix) bool { return p.Contains(a) }) {
		return notAllowed
	}
	if r.listener.Unknown == "refuse" && r.senders.Of(a) == nil {
		return unknownSender
	}
	return ""
}

// same tells whether a listener is bound as another one is.
func same(a, b *pipeline.Listener) bool {
	return a.Kind == b.Kind && a.Address == b.Address && a.Port == b.Port && a.Transport == b.Transport &&
		a.Framing == b.Framing
}
