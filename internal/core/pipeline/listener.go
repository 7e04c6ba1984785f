package pipeline

import (
	"net/netip"
	"slices"
	"strconv"

	"synaxis/internal/core/expect"
	"synaxis/internal/core/format"
	"synaxis/internal/core/framing"
	"synaxis/internal/core/yamldoc"
)

// Listeners are the kinds of sources that listen.
var Listeners = []string{"syslog", "socket", "http", "otlp"}

// Listener is where a source listens, and whom it takes records from. Port is a text, since it may be a reference in
// the catalogue; so are Address, Token, Certificate and Key.
type Listener struct {
	Kind, Address, Port string
	Transport           string // udp, tcp, tls
	Framing             framing.Kind
	Path                string // of http
	Token               string
	Certificate, Key    string
	Allow               []string // addresses and networks; none for all
	Connections         int      // at once
	Senders             []Sender
	Unknown             string // what becomes of who is no sender: keep, refuse
}

// Sender is a device without an agent.
type Sender struct {
	Name, From string // an address or a network
	Labels     map[string]string
	Format     string // "" for that of the source
	Time       format.Time
	Expect     expect.Expectation
}

// Issued, as a certificate, lets the service sign one and the agent renew it.
const Issued = "issued"

// DefaultConnections is how many connections there may be at once.
const DefaultConnections = 200

// defaultFraming is how messages are told apart where nothing is said.
func defaultFraming(kind, transport string) framing.Kind {
	switch {
	case kind == "syslog" && transport == "udp":
		return framing.Packet
	case kind == "syslog":
		return framing.Syslog
	}
	return framing.Newline
}

func decodeListener(kind string, n *yamldoc.Node) *Listener {
	at := n.Get("listen")
	l := &Listener{
		Kind:        kind,
		Address:     at.Get("address").Text(),
		Port:        at.Get("port").Text(),
		Transport:   at.Get("transport").Text(),
		Framing:     framing.Kind(n.Get("framing").Text()),
		Path:        n.Get("path").Text(),
		Token:       n.Get("token").Text(),
		Certificate: at.Get("certificate").Text(),
		Key:         at.Get("key").Text(),
		Allow:       n.Get("allow").Texts(),
		Connections: DefaultConnections,
		Unknown:     "keep",
	}
	if l.Address == "" {
		l.Address = "0.0.0.0"
	}
	if l.Transport == "" {
		l.Transport = "tcp"
		if kind == "syslog" {
			l.Transport = "udp"
		}
	}
	if l.Framing == "" {
		l.Framing = defaultFraming(kind, l.Transport)
	}
	if l.Path == "" {
		l.Path = "/"
	}
	if c, err := strconv.Atoi(n.Get("connections").Text()); err == nil && c > 0 {
		l.Connections = c
	}
	return l
}

func decodeSenders(n *yamldoc.Node, zone string) (out []Sender) {
	if n == nil {
		return nil
	}
	for _, item := range n.Items {
		s := Sender{
			Name:   item.Get("name").Text(),
			From:   item.Get("from").Text(),
			Labels: item.Get("labels").TextMap(),
			Format: item.Get("format").Text(),
			Time:   format.DecodeTime(item.Get("time")),
		}
		own := zone
		if s.Time.Zone != "" {
			own = s.Time.Zone
		}
		s.Expect = decodeExpect(item.Get("expect"), own)
		out = append(out, s)
	}
	return out
}

// Network reads an address or a network, as they stand in allow and from. An address is the network of it alone.
func Network(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		a = a.Unmap()
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	return p.Masked(), err
}

// KnownSenders are senders with their networks, the narrowest first.
type KnownSenders []KnownSender

// KnownSender is a sender with its network.
type KnownSender struct {
	Sender
	Network netip.Prefix
}

// Known are the senders of a listener. Those without an address that can be read are left out.
func (l *Listener) Known() (out KnownSenders) {
	for _, s := range l.Senders {
		if n, err := Network(s.From); err == nil {
			out = append(out, KnownSender{s, n})
		}
	}
	slices.SortStableFunc(out, func(a, b KnownSender) int { return b.Network.Bits() - a.Network.Bits() })
	return out
}

// Of is the sender that an address belongs to, or nil.
func (k KnownSenders) Of(a netip.Addr) *KnownSender {
	for i := range k {
		if k[i].Network.Contains(a) {
			return &k[i]
		}
	}
	return nil
}

// For is the source as it treats the records of a sender: with its labels, its format and its zone.
func (s Source) For(sender Sender) Source {
	if sender.Format != "" {
		s.Format = sender.Format
	}
	s.Time = s.Time.Merge(sender.Time)
	return s
}

// Apart tells whether the records of a sender need a treatment of their own.
func (s Sender) Apart() bool { return s.Format != "" || s.Time != (format.Time{}) }
