// Package delivery says what a destination is, and decides everything about delivering that needs no network: the
// body of a request, what an answer means, how long to wait before the next try.
package delivery

import (
	"math"
	"regexp"
	"time"

	"synaxis/internal/core/cost"
	"synaxis/internal/core/record"
)

// Kind is how records get to a destination: the one key of deliver.
type Kind string

// The kinds.
const (
	OTLP    Kind = "otlp"    // OTLP over HTTP, in protobuf
	HTTP    Kind = "http"    // JSON over HTTP
	Syslog  Kind = "syslog"  // RFC 5424
	File    Kind = "file"    // a file of the host
	Discard Kind = "discard" // nowhere; records are counted
)

// Spec is what a destination definition says. In the catalogue URL, Path, Address and Headers may hold references.
type Spec struct {
	Name, Was string
	Kind      Kind
	URLs      []string // otlp, http: the first that works is used
	Proxy     string   // otlp, http: goes through it; empty for none
	LookUp    string   // otlp, http: where a probe asks for its record; empty for nowhere
	Path      string
	Address   string // syslog: host and port
	Transport string // syslog: udp, tcp, tls
	Encoded   string // http: ndjson, json-array
	Headers   map[string]string
	Compress  string // none, gzip, zstd
	Batch     Batch
	Retry     Retry
	Buffer    Buffer
	Isolate   bool    // what feeds it is read for it alone
	AtOnce    int     // deliveries at the same time
	Limit     float64 // bytes a second before compression; 0 for any
	Auth      Auth
	TLS       TLS
	Rejects   Rejects
	Drain     time.Duration // how long it delivers after it left the config

	Takes     map[string]string // the types that the receiver's table takes
	Budget    float64           // bytes that the fleet may send in BudgetPer; 0 for any
	BudgetPer time.Duration
	Price     cost.Price // of what is sent; at the desk only
}

// Buffer is the room on disk for what the destination does not take, for each host. Without room there is none.
type Buffer struct {
	Disk    int64
	AtLimit AtLimit
}

// AtLimit is what happens when the buffer is full.
type AtLimit string

// The ways.
const (
	Pause         AtLimit = "pause"          // reading waits
	DiscardOldest AtLimit = "discard-oldest" // what waits longest is given up
	DiscardNewest AtLimit = "discard-newest" // what comes is given up
)

// Auth is how the host proves who it is. In a host config its values are references such as ${secret.archive_token@7}.
type Auth struct {
	Bearer         string
	User, Password string
	Headers        map[string]string
}

// Any tells whether there is anything to prove with.
func (a Auth) Any() bool { return a.Bearer != "" || a.User != "" || len(a.Headers) > 0 }

// secretRef is a reference to a secret in a host config.
var secretRef = regexp.MustCompile(`\$\{secret\.[^}]+\}`)

// Secrets are the references to secrets in a destination of a host config.
func (s Spec) Secrets() (refs []string) {
	texts := []string{s.Auth.Bearer, s.Auth.User, s.Auth.Password, s.TLS.CA, s.TLS.Certificate, s.TLS.Key}
	for _, text := range s.Auth.Headers {
		texts = append(texts, text)
	}
	for _, text := range texts {
		refs = append(refs, secretRef.FindAllString(text, -1)...)
	}
	return refs
}

// TLS is how the connection is made safe. CA, Certificate and Key are PEM, or references to it.
type TLS struct {
	CA, Certificate, Key string
	ServerName           string
	Minimum              string // 1.2, 1.3
	NoVerify             bool   // the certificate of the destination is not verified
}

// Rejects bound what is kept of refused records, for each host.
type Rejects struct {
	Keep int64
	For  time.Duration
}

// Batch bounds one delivery: records, bytes before compression, and how long the first record waits.
type Batch struct {
	Records int
	Bytes   int64
	Wait    time.Duration
}

// Retry says how to go on after a delivery that failed for now: the first pause, the longest pause, and after how
// long in all the records are put aside.
type Retry struct{ First, Longest, GiveUp time.Duration }

// Defaults of the language.
var (
	DefaultBatch   = Batch{Records: 2000, Bytes: 1 << 20, Wait: time.Second}
	DefaultRetry   = Retry{First: 500 * time.Millisecond, Longest: time.Minute, GiveUp: 72 * time.Hour}
	DefaultBuffer  = Buffer{Disk: 256 << 20, AtLimit: Pause}
	DefaultRejects = Rejects{Keep: 256 << 20, For: 14 * 24 * time.Hour}
)

// Encoding is the form in which records wait for this destination.
func (s Spec) Encoding() record.Encoding {
	switch s.Kind {
	case OTLP, Syslog: // syslog is made of it when it is sent
		return record.OTLP
	case Discard:
		return record.Nothing
	}
	return record.NDJSON
}

// Where is where records go, in words.
func (s Spec) Where() string {
	switch {
	case len(s.URLs) > 0:
		return s.URLs[0]
	case s.Path != "":
		return s.Path
	case s.Address != "":
		return s.Address
	}
	return s.Name
}

// Defaults of what is not said.
const (
	DefaultAtOnce = 4
	DefaultDrain  = time.Hour
)

// Joined tells whether a body is its segments one after the other.
func (s Spec) Joined() bool { return s.Kind != OTLP && s.Encoded != "json-array" }

// Segment is a run of encoded records of one origin.
type Segment struct {
	Origin *record.Origin
	Bytes  []byte
}

// ContentType is the media type of Body.
func (s Spec) ContentType() string {
	switch {
	case s.Kind == OTLP:
		return "application/x-protobuf"
	case s.Encoded == "json-array":
		return "application/json"
	}
	return "application/x-ndjson"
}

// AppendBody joins segments to the uncompressed body of one delivery.
func (s Spec) AppendBody(dst []byte, segments []Segment) []byte {
	if s.Kind == OTLP {
		for i := 0; i < len(segments); {
			j := i + 1
			for j < len(segments) && segments[j].Origin == segments[i].Origin {
				j++
			}
			if j == i+1 {
				dst = record.AppendResourceLogs(dst, segments[i].Origin, segments[i].Bytes)
			} else {
				var joined []byte
				for _, seg := range segments[i:j] {
					joined = append(joined, seg.Bytes...)
				}
				dst = record.AppendResourceLogs(dst, segments[i].Origin, joined)
			}
			i = j
		}
		return dst
	}
	if s.Encoded != "json-array" {
		for _, seg := range segments {
			dst = append(dst, seg.Bytes...)
		}
		return dst
	}
	dst = append(dst, '[')
	start := len(dst)
	for _, seg := range segments {
		dst = append(dst, seg.Bytes...)
	}
	for i := start; i < len(dst); i++ { // a raw newline stands only at the end of a record
		if dst[i] == '\n' {
			dst[i] = ','
		}
	}
	dst[len(dst)-1] = ']'
	return dst
}

// Outcome is what an answer means for the records of a delivery.
type Outcome uint8

// The outcomes.
const (
	Accepted Outcome = iota
	Again            // try again, slower
	Refused          // these records will never be taken
)

// Classify reads the status of an HTTP answer. Only what blames the records themselves refuses them: a wrong path or
// a missing right is the desk's to mend, and the records wait for it.
func Classify(status int) Outcome {
	switch {
	case status >= 200 && status < 300:
		return Accepted
	case status == 400, status == 413, status == 422:
		return Refused
	}
	return Again
}

// Pause is how long to wait before try number n (from 1): doubling from First to Longest, with full jitter in the
// upper half; roll is a random number in [0,1).
func (r Retry) Pause(n int, roll float64) time.Duration {
	d := float64(r.First) * math.Pow(2, float64(min(n-1, 40)))
	d = min(d, float64(r.Longest))
	return time.Duration(d/2 + roll*d/2)
}
