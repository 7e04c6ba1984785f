package record

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"google.golang.org/protobuf/encoding/protowire"

	"synaxis/internal/core/protofields"
)

// Given is what a record brings along that needs no format: its time and level, and typed fields.
type Given struct {
	Time   int64 // Unix nanoseconds; 0 for none
	Level  uint8 // 0 for none
	Fields []GivenField
}

// GivenField is a field with its value: Text, Int, Float and Bool as in Value, JSON as JSON text. Text of Text and
// JSON.
type GivenField struct {
	Name []byte
	Kind Kind
	Num  uint64
	Text []byte
}

// Empty tells whether nothing was given.
func (g *Given) Empty() bool { return g.Time == 0 && g.Level == 0 && len(g.Fields) == 0 }

// Size is how many bytes it takes, about.
func (g *Given) Size() int {
	n := 64
	for i := range g.Fields {
		n += 80 + len(g.Fields[i].Text)
	}
	return n
}

// ReadOTLP reads an ExportLogsServiceRequest in protobuf (opentelemetry/proto/logs/v1/logs.proto) and calls add for
// each record, with its body and what it brings along; these are parts of data. A body that is no text is written as
// JSON. Attributes of the resource get the prefix resource., those of the scope scope.; the ids of trace and span are
// fields in hexadecimal. add may end it by an error.
func ReadOTLP(data []byte, add func(body []byte, given *Given) error) error {
	r := otlpReader{add: add}
	return protofields.EachMessage(data, 1, func(logs []byte) error { // ResourceLogs
		var resource []GivenField
		if err := protofields.EachMessage(logs, 1, func(r []byte) error { // the resource may stand behind
			return protofields.EachMessage(r, 1, func(pair []byte) (err error) {
				resource, err = appendGiven(resource, "resource.", pair)
				return err
			})
		}); err != nil {
			return err
		}
		return protofields.EachMessage(logs, 2, func(scope []byte) error { return r.scope(scope, resource) })
	})
}

// otlpReader reads records. Of what they bring along it makes many at once.
type otlpReader struct {
	add    func(body []byte, given *Given) error
	given  []Given
	fields []GivenField
}

// Of what is made at once there are so many.
const (
	givenAtOnce  = 32
	fieldsAtOnce = 256
)

func (r *otlpReader) scope(data []byte, resource []GivenField) error {
	shared := slices.Clone(resource)
	text := func(name string, p []byte) {
		if len(p) > 0 {
			shared = append(shared, GivenField{Name: []byte(name), Kind: Text, Text: p})
		}
	}
	if err := protofields.EachMessage(data, 1, func(scope []byte) error { // InstrumentationScope
		return protofields.Each(scope, func(v protofields.Field) (err error) {
			switch {
			case v.Is(1, protowire.BytesType):
				text("scope.name", v.Bytes)
			case v.Is(2, protowire.BytesType):
				text("scope.version", v.Bytes)
			case v.Is(3, protowire.BytesType):
				shared, err = appendGiven(shared, "scope.", v.Bytes)
			}
			return err
		})
	}); err != nil {
		return err
	}
	return protofields.EachMessage(data, 2, func(log []byte) error { return r.log(log, shared) })
}

// next is a record's, with room for about so many fields.
func (r *otlpReader) next(fields int) *Given {
	if len(r.given) == cap(r.given) {
		r.given = make([]Given, 0, givenAtOnce)
	}
	r.given = r.given[:len(r.given)+1]
	if cap(r.fields)-len(r.fields) < fields {
		r.fields = make([]GivenField, 0, max(fieldsAtOnce, fields))
	}
	g := &r.given[len(r.given)-1]
	g.Fields = r.fields[len(r.fields):]
	return g
}

// made notes that a record has all its fields. Nobody else writes behind them.
func (r *otlpReader) made(g *Given) {
	n := len(g.Fields)
	if cap(g.Fields) == cap(r.fields)-len(r.fields) { // there was room
		r.fields = r.fields[:len(r.fields)+n]
	}
	g.Fields = g.Fields[:n:n]
}

func (r *otlpReader) log(data []byte, shared []GivenField) error {
	g := r.next(len(shared) + 8)
	var body, severity []byte
	var observed int64
	var flags byte
	id := func(name string, p []byte) {
		if len(p) > 0 {
			g.Fields = append(g.Fields, GivenField{Name: []byte(name), Kind: Text, Text: idText(p)})
		}
	}
	for len(data) > 0 {
		v, rest, err := protofields.Next(data)
		switch {
		case err != nil:
		case v.Number == 1 && v.Type == protowire.Fixed64Type:
			g.Time = int64(v.Bits)
		case v.Number == 11 && v.Type == protowire.Fixed64Type:
			observed = int64(v.Bits)
		case v.Number == 2 && v.Type == protowire.VarintType && v.Bits <= 24:
			g.Level = uint8(v.Bits)
		case v.Number == 8 && v.Type == protowire.Fixed32Type:
			flags = byte(v.Bits)
		case v.Type != protowire.BytesType:
		case v.Number == 3:
			severity = v.Bytes
		case v.Number == 5:
			body, err = anyText(v.Bytes)
		case v.Number == 6:
			g.Fields, err = appendGiven(g.Fields, "", v.Bytes)
		case v.Number == 9:
			id(traceID, v.Bytes)
		case v.Number == 10:
			id(spanID, v.Bytes)
		case v.Number == 12 && len(v.Bytes) > 0:
			g.Fields = append(g.Fields, GivenField{Name: []byte(eventName), Kind: Text, Text: v.Bytes})
		}
		if err != nil {
			return err
		}
		data = rest
	}
	if g.Time <= 0 { // as the data model says, when it was observed stands in
		g.Time = max(0, observed)
	}
	if g.Level == 0 {
		g.Level = ParseLevel(string(severity))
	}
	if len(severity) > 0 && string(severity) != LevelName(g.Level) {
		g.Fields = append(g.Fields, GivenField{Name: []byte("severity_text"), Kind: Text, Text: severity})
	}
	if text := flagsText(flags); text != "" {
		g.Fields = append(g.Fields, GivenField{Name: []byte(traceFlags), Kind: Text, Text: []byte(text)})
	}
	g.Fields = append(g.Fields, shared...)
	r.made(g)
	return r.add(body, g)
}

// idText is an id in hexadecimal. In JSON an id is written so, where other bytes are base64: read as that, its 32 or
// 16 digits became 24 or 12 bytes.
func idText(p []byte) []byte {
	if len(p) == 24 || len(p) == 12 {
		return base64.StdEncoding.AppendEncode(nil, p)
	}
	return hex.AppendEncode(nil, p)
}

// keyValue takes a KeyValue apart.
func keyValue(data []byte) (key, value []byte, err error) {
	for len(data) > 0 {
		v, rest, err := protofields.Next(data)
		switch {
		case err != nil:
			return nil, nil, err
		case v.Is(1, protowire.BytesType):
			key = v.Bytes
		case v.Is(2, protowire.BytesType):
			value = v.Bytes
		}
		data = rest
	}
	return key, value, nil
}

// appendGiven adds a KeyValue.
func appendGiven(dst []GivenField, prefix string, data []byte) ([]GivenField, error) {
	key, value, err := keyValue(data)
	if err != nil {
		return dst, err
	}
	if len(key) == 0 {
		return dst, nil
	}
	if prefix != "" {
		key = append([]byte(prefix), key...)
	}
	f := GivenField{Name: key}
	set := false
	for left := value; len(left) > 0; {
		v, rest, err := protofields.Next(left)
		set = true
		switch {
		case err != nil:
		case v.Number == 1 && v.Type == protowire.BytesType:
			f.Kind, f.Text = Text, v.Bytes
		case v.Number == 2 && v.Type == protowire.VarintType:
			f.Kind, f.Num = Bool, min(v.Bits, 1)
		case v.Number == 3 && v.Type == protowire.VarintType:
			f.Kind, f.Num = Int, v.Bits
		case v.Number == 4 && v.Type == protowire.Fixed64Type:
			f.Kind, f.Num = Float, v.Bits
		case (v.Number == 5 || v.Number == 6) && v.Type == protowire.BytesType:
			f.Kind = JSON
			f.Text, err = appendAny(nil, value, 0)
		case v.Number == 7 && v.Type == protowire.BytesType:
			f.Kind, f.Text = Text, base64.StdEncoding.AppendEncode(nil, v.Bytes)
		default:
			set = false
		}
		if err != nil {
			return dst, err
		}
		left = rest
	}
	if !set { // an attribute without a value says nothing
		return dst, nil
	}
	return append(dst, f), nil
}

// anyText is an AnyValue as the body of a record.
func anyText(data []byte) (out []byte, err error) {
	err = protofields.Each(data, func(v protofields.Field) (err error) {
		switch {
		case v.Number == 1 && v.Type == protowire.BytesType:
			out = v.Bytes
		case v.Number == 7 && v.Type == protowire.BytesType:
			out = base64.StdEncoding.AppendEncode(nil, v.Bytes)
		default:
			out, err = appendAny(nil, data, 0)
		}
		return err
	})
	return out, err
}

// deepest bounds values within values.
const deepest = 32

// appendAny writes an AnyValue as JSON.
func appendAny(dst, data []byte, depth int) ([]byte, error) {
	if depth > deepest {
		return dst, fmt.Errorf("values stand more than %d deep in each other", deepest)
	}
	at := len(dst)
	err := protofields.Each(data, func(v protofields.Field) (err error) {
		dst = dst[:at]
		switch {
		case v.Number == 1 && v.Type == protowire.BytesType:
			dst = appendJSONText(dst, v.Bytes)
		case v.Number == 2 && v.Type == protowire.VarintType:
			dst = strconv.AppendBool(dst, v.Bits != 0)
		case v.Number == 3 && v.Type == protowire.VarintType:
			dst = strconv.AppendInt(dst, int64(v.Bits), 10)
		case v.Number == 4 && v.Type == protowire.Fixed64Type:
			dst = appendFloat(dst, math.Float64frombits(v.Bits))
		case v.Number == 5 && v.Type == protowire.BytesType:
			dst = append(dst, '[')
			err = protofields.Each(v.Bytes, func(v protofields.Field) (err error) {
				if v.Number == 1 && v.Type == protowire.BytesType {
					if dst[len(dst)-1] != '[' {
						dst = append(dst, ',')
					}
					dst, err = appendAny(dst, v.Bytes, depth+1)
				}
				return err
			})
			dst = append(dst, ']')
		case v.Number == 6 && v.Type == protowire.BytesType:
			dst = append(dst, '{')
			first := true
			err = protofields.Each(v.Bytes, func(v protofields.Field) (err error) {
				if v.Number == 1 && v.Type == protowire.BytesType {
					if !first {
						dst = append(dst, ',')
					}
					first = false
					dst, err = appendPair(dst, v.Bytes, depth+1)
				}
				return err
			})
			dst = append(dst, '}')
		case v.Number == 7 && v.Type == protowire.BytesType:
			dst = appendJSONText(dst, base64.StdEncoding.AppendEncode(nil, v.Bytes))
		default:
			dst = append(dst, "null"...)
		}
		return err
	})
	if len(dst) == at {
		dst = append(dst, "null"...)
	}
	return dst, err
}

func appendPair(dst, data []byte, depth int) ([]byte, error) {
	key, value, err := keyValue(data)
	if err != nil {
		return dst, err
	}
	return appendAny(append(appendJSONText(dst, key), ':'), value, depth)
}

// appendJSONText writes bytes that may be no UTF-8 as a JSON string.
func appendJSONText(dst, p []byte) []byte { return AppendJSONString(dst, []byte(validText(p))) }

// validText is a text in which what is no UTF-8 is replaced.
func validText(p []byte) string { return strings.ToValidUTF8(string(p), "\uFFFD") }
