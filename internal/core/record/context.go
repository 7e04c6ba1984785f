package record

import (
	"encoding/hex"
	"slices"

	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	"google.golang.org/protobuf/encoding/protowire"
)

// Names of the fields that tell which trace a record belongs to, as OpenTelemetry's "Trace Context in non-OTLP Log
// Formats" has them, and of which kind an event is.
const (
	traceID    = "trace_id"
	spanID     = "span_id"
	traceFlags = "trace_flags"
	eventName  = "event_name"
)

// contextFields are the fields that OTLP has a place of its own for, with how many digits of hexadecimal they have; 0
// for any text.
var contextFields = []struct {
	name   string
	number protowire.Number // of LogRecord
	digits int
}{
	{traceID, 9, 32},
	{spanID, 10, 16},
	{traceFlags, 8, 2},
	{eventName, 12, 0},
}

// contextOf is the place of a name in contextFields, from 1; 0 for any other.
func contextOf(name string) uint8 {
	for i, x := range contextFields {
		if x.name == name {
			return uint8(i + 1)
		}
	}
	return 0
}

// appendContext writes the text of a field into the place that OTLP has for it. It answers false where the text is not
// what may stand there: an attribute has it then.
func appendContext(p []byte, which int, text []byte) ([]byte, bool) {
	x := contextFields[which]
	if x.digits == 0 && len(text) > 0 {
		return appendTagged(p, x.number, text), true
	}
	if len(text) != x.digits || !slices.ContainsFunc(text, func(c byte) bool { return c != '0' }) {
		return p, false
	}
	for _, c := range text {
		if (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return p, false
		}
	}
	var id [16]byte
	n, _ := hex.Decode(id[:], text)
	if x.name == traceFlags {
		return protowire.AppendFixed32(protowire.AppendTag(p, x.number, protowire.Fixed32Type), uint32(id[0])), true
	}
	return appendTagged(p, x.number, id[:n]), true
}

// context puts the fields of contextFields onto the record.
func (d *Decoder) context(log *logs.LogRecord) error {
	for i, text := range []string{hex.EncodeToString(log.TraceId), hex.EncodeToString(log.SpanId),
		flagsText(byte(log.Flags)), log.EventName} {
		if text == "" {
			continue
		}
		if err := d.add(contextFields[i].name, text); err != nil {
			return err
		}
	}
	return nil
}

// flagsText are the flags of a trace as W3C's Trace Context writes them; empty for none.
func flagsText(flags byte) string {
	if flags == 0 {
		return ""
	}
	return hex.EncodeToString([]byte{flags})
}
