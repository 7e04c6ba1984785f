// Package wire holds what agent and service say to each other, so that both sides agree by construction: the framing
// of OpAMP over WebSocket, capabilities, the name of the config, the numbers as OTLP metrics, and the pin.
//
// OpAMP and OTLP are open specifications (github.com/open-telemetry/opamp-spec, opentelemetry-proto).
package wire

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/open-telemetry/opamp-go/protobufs"
	"google.golang.org/protobuf/proto"
)

// Paths of the service that agents call.
const (
	OpAMPPath   = "/v1/opamp"
	MetricsPath = "/v1/metrics"
	NeedsPath   = "/v1/needs" // what a host that is about to join would need
)

// NewUID makes an instance uid: a UUID of version 7 (RFC 9562), as OpAMP recommends.
func NewUID() [16]byte { return uuid.Must(uuid.NewV7()) }

// ServiceName is the service.name of our own agent; only an agent that says it gets our config.
const ServiceName = "synaxis-agent"

// Attributes by which our agent describes its host, beside those of the OpenTelemetry conventions. All are texts.
const (
	PartsAttribute    = "synaxis.parts"     // what the agent can run, with commas between
	PortsAttribute    = "synaxis.ports"     // as FormatPorts writes them
	LowPortsAttribute = "synaxis.low-ports" // true: it may bind ports below 1024
	FreeDiskAttribute = "synaxis.disk.free" // bytes, coarse
)

// Port is a port that a program of the host has bound; Transport is tcp or udp.
type Port struct {
	Transport string
	Number    int
	Program   string // "" is unknown
}

// FormatPorts writes ports as tcp/22 sshd,udp/514.
func FormatPorts(ports []Port) string {
	var out []string
	for _, p := range ports {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s/%d %s", p.Transport, p.Number, p.Program)))
	}
	return strings.Join(out, ",")
}

// ParsePorts reads what FormatPorts wrote; what it cannot read is left out.
func ParsePorts(text string) []Port {
	var out []Port
	for _, word := range strings.Split(text, ",") {
		where, program, _ := strings.Cut(word, " ")
		transport, number, _ := strings.Cut(where, "/")
		if n, err := strconv.Atoi(number); err == nil && n > 0 && n < 1<<16 &&
			(transport == "tcp" || transport == "udp") {
			out = append(out, Port{transport, n, program})
		}
	}
	return out
}

// ConfigName is the key of the host config in OpAMP's config map, and ConfigType its content type.
const (
	ConfigName = "synaxis.yaml"
	ConfigType = "text/yaml"
)

// AgentCapabilities are what our agent can do.
const AgentCapabilities = uint64(protobufs.AgentCapabilities_AgentCapabilities_ReportsStatus |
	protobufs.AgentCapabilities_AgentCapabilities_AcceptsRemoteConfig |
	protobufs.AgentCapabilities_AgentCapabilities_ReportsEffectiveConfig |
	protobufs.AgentCapabilities_AgentCapabilities_ReportsOwnMetrics |
	protobufs.AgentCapabilities_AgentCapabilities_AcceptsOpAMPConnectionSettings |
	protobufs.AgentCapabilities_AgentCapabilities_ReportsHealth |
	protobufs.AgentCapabilities_AgentCapabilities_ReportsRemoteConfig)

// NumbersCapability names the custom messages in which an agent sends its numbers, as OTLP, within a report. A service
// that takes them says so; to others they go to MetricsPath.
const (
	NumbersCapability = "example.synaxis.numbers/1"
	TypeNumbers       = "otlp"
)

// ServerCapabilities are what our service can do.
const ServerCapabilities = uint64(protobufs.ServerCapabilities_ServerCapabilities_AcceptsStatus |
	protobufs.ServerCapabilities_ServerCapabilities_OffersRemoteConfig |
	protobufs.ServerCapabilities_ServerCapabilities_AcceptsEffectiveConfig |
	protobufs.ServerCapabilities_ServerCapabilities_OffersConnectionSettings)

// Marshal writes a message as one WebSocket frame: a zero header, then protobuf (OpAMP specification, WebSocket
// transport).
func Marshal(m proto.Message) ([]byte, error) {
	return proto.MarshalOptions{}.MarshalAppend([]byte{0}, m)
}

// Unmarshal reads a frame; a frame without the header is taken too, as the specification asks.
func Unmarshal(frame []byte, m proto.Message) error { return Read(message(frame), m) }

// message is what is in a frame behind its header.
func message(frame []byte) []byte {
	if len(frame) > 0 && frame[0] == 0 {
		return frame[1:]
	}
	return frame
}

// Attribute returns a text attribute of a description, or "".
func Attribute(list []*protobufs.KeyValue, key string) string {
	for _, kv := range list {
		if kv.GetKey() == key {
			return kv.GetValue().GetStringValue()
		}
	}
	return ""
}

// TextAttribute makes a text attribute.
func TextAttribute(key, value string) *protobufs.KeyValue {
	return &protobufs.KeyValue{
		Key:   key,
		Value: &protobufs.AnyValue{Value: &protobufs.AnyValue_StringValue{StringValue: value}},
	}
}

// ConfigOf returns the text of our config in a config map.
func ConfigOf(m *protobufs.AgentConfigMap) []byte { return m.GetConfigMap()[ConfigName].GetBody() }

// ConfigMap wraps a config text.
func ConfigMap(text []byte) *protobufs.AgentConfigMap {
	return &protobufs.AgentConfigMap{
		ConfigMap: map[string]*protobufs.AgentConfigFile{ConfigName: {Body: text, ContentType: ConfigType}},
	}
}

// NothingHash is the hash of the config that tells an agent to run nothing: its host was retired. Its text is empty.
var NothingHash = []byte("synaxis: run nothing, v1, retired")[:32]

// secretsName and secretsType are the entry of a config map that holds the secrets of a config, as a JSON object of
// NAME@VERSION and value. It goes to the host that needs them and never comes back.
const (
	secretsName = "secrets"
	secretsType = "application/json"
)

// AddSecrets puts secrets beside a config.
func AddSecrets(m *protobufs.AgentConfigMap, secrets map[string]string) {
	if len(secrets) == 0 {
		return
	}
	text, _ := json.Marshal(secrets) // texts always become JSON
	m.ConfigMap[secretsName] = &protobufs.AgentConfigFile{Body: text, ContentType: secretsType}
}

// SecretsOf returns the secrets beside a config, as JSON; nil when there are none.
func SecretsOf(m *protobufs.AgentConfigMap) []byte { return m.GetConfigMap()[secretsName].GetBody() }

// Fingerprint is the SHA-256 of a certificate (DER), as sha256:HEX.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// ErrPin is what VerifyPin says when the other side is not the one that was pinned.
var ErrPin = errors.New("the service's certificate does not match the pin")

// VerifyPin checks a TLS peer against a pin. The pin may name the peer's own certificate, or an authority that the
// peer presents and that vouches for it under serverName.
func VerifyPin(pin string, chain [][]byte, serverName string) error {
	want := strings.ToLower(pin)
	if len(chain) == 0 {
		return fmt.Errorf("%w: it presents none", ErrPin)
	}
	var seen []string
	for i, der := range chain {
		got := Fingerprint(der)
		seen = append(seen, got)
		if got != want {
			continue
		}
		if i == 0 {
			return nil
		}
		root, err := x509.ParseCertificate(der)
		if err != nil {
			return fmt.Errorf("pinned certificate: %w", err)
		}
		leaf, err := x509.ParseCertificate(chain[0])
		if err != nil {
			return fmt.Errorf("service's certificate: %w", err)
		}
		roots := x509.NewCertPool()
		roots.AddCert(root)
		if _, err := leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: serverName}); err != nil {
			return fmt.Errorf("the pinned authority does not vouch for %s: %w", serverName, err)
		}
		return nil
	}
	return fmt.Errorf("%w: pinned %s, the service presents %s", ErrPin, want, strings.Join(seen, ", "))
}

// PinnedTLS is the TLS setting of a caller: with a pin VerifyPin decides, without one the system's authorities do.
func PinnedTLS(pin, serverName string) *tls.Config {
	if pin == "" {
		return &tls.Config{MinVersion: tls.VersionTLS12}
	}
	return &tls.Config{
		MinVersion:         tls.VersionTLS12,
		ServerName:         serverName,
		InsecureSkipVerify: true, // VerifyPin takes its place
		VerifyConnection: func(s tls.ConnectionState) error {
			chain := make([][]byte, len(s.PeerCertificates))
			for i, c := range s.PeerCertificates {
				chain[i] = c.Raw
			}
			return VerifyPin(pin, chain, serverName)
		},
	}
}

// CheckPin tells what is wrong with the form of a pin, or nil.
func CheckPin(pin string) error {
	h, ok := strings.CutPrefix(strings.ToLower(pin), "sha256:")
	if b, err := hex.DecodeString(h); !ok || err != nil || len(b) != sha256.Size {
		return fmt.Errorf(
			"pin %q: expected sha256: and 64 hexadecimal digits, as the service prints them at its start",
			pin,
		)
	}
	return nil
}
