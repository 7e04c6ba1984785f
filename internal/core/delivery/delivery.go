// Package delivery says what a destination is, and decides everything about delivering that needs no network: the
// body of a request, what an answer means, how long to wait before the next try.
package delivery

import (
	"math"
	"time"

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
	Name      string
	Kind      Kind
	URL       string
	Path      string
	Address   string // syslog: host and port
	Transport string // syslog: udp, tcp, tls
	Encoded   string // http: ndjson, json-array
	Headers   map[string]string
	Compress  string // none, gzip, zstd
	Batch     Batch
	Retry     Retry
	Buffer    struct{ Disk int64 }
	Verify    bool // the certificate of the destination

	Takes     map[string]string // the types that the receiver's table takes
	Budget    float64           // bytes that the fleet may send in BudgetPer; 0 for any
	BudgetPer time.Duration
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
	DefaultBatch = Batch{Records: 2000, Bytes: 1 << 20, Wait: time.Second}
	DefaultRetry = Retry{First: 500 * time.Millisecond, Longest: time.Minute, GiveUp: 72 * time.Hour}
)

// Encoding is the form in which records wait for this destination.
func (s Spec) Encoding() record.Encoding {
	switch s.Kind {
	case OTLP:
		return record.OTLP
	case Discard:
		return record.Nothing
	}
	return record.NDJSON
}

// Where is where records go, in words.
func (s Spec) Where() string {
	switch {
	case s.URL != "":
		return s.URL
	case s.Path != "":
		return s.Path
	case s.Address != "":
		return s.Address
	}
	return s.Name
}

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
