package record

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"google.golang.org/protobuf/encoding/protowire"
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

var errNotOTLP = errors.New("it is no protobuf of this form")

// ReadOTLP reads an ExportLogsServiceRequest in protobuf (opentelemetry/proto/logs/v1/logs.proto) and calls add for
// each record, with its body and what it brings along; these are parts of data. A body that is no text is written as
// JSON. Attributes of the resource get the prefix resource., those of the scope scope.; the ids of trace and span are
// fields in hexadecimal. add may end it by an error.
func ReadOTLP(data []byte, add func(body []byte, given *Given) error) error {
	return eachField(data, func(n protowire.Number, v field) error {
		if n != 1 || v.kind != protowire.BytesType { // ResourceLogs
			return nil
		}
		var resource []GivenField
		if err := eachField(v.bytes, func(n protowire.Number, v field) error { // the resource may stand behind
			if n != 1 || v.kind != protowire.BytesType {
				return nil
			}
			return eachField(v.bytes, func(n protowire.Number, v field) (err error) {
				if n == 1 && v.kind == protowire.BytesType {
					resource, err = appendGiven(resource, "resource.", v.bytes)
				}
				return err
			})
		}); err != nil {
			return err
		}
		return eachField(v.bytes, func(n protowire.Number, v field) error {
			if n != 2 || v.kind != protowire.BytesType { // ScopeLogs
				return nil
			}
			return readScope(v.bytes, resource, add)
		})
	})
}

// field is the value of a field: bits of a varint or a fixed number, or bytes.
type field struct {
	kind  protowire.Type
	bits  uint64
	bytes []byte
}

// eachField calls f with each field of a message.
func eachField(data []byte, f func(n protowire.Number, v field) error) error {
	for len(data) > 0 {
		number, kind, n := protowire.ConsumeTag(data)
		if n < 0 {
			return errNotOTLP
		}
		data = data[n:]
		v := field{kind: kind}
		switch kind {
		case protowire.BytesType:
			v.bytes, n = protowire.ConsumeBytes(data)
		case protowire.VarintType:
			v.bits, n = protowire.ConsumeVarint(data)
		case protowire.Fixed64Type:
			v.bits, n = protowire.ConsumeFixed64(data)
		case protowire.Fixed32Type:
			var bits uint32
			bits, n = protowire.ConsumeFixed32(data)
			v.bits = uint64(bits)
		default:
			n = protowire.ConsumeFieldValue(number, kind, data)
		}
		if n < 0 {
			return errNotOTLP
		}
		data = data[n:]
		if err := f(number, v); err != nil {
			return err
		}
	}
	return nil
}

func readScope(data []byte, resource []GivenField, add func([]byte, *Given) error) error {
	shared := slices.Clone(resource)
	text := func(name string, p []byte) {
		if len(p) > 0 {
			shared = append(shared, GivenField{Name: []byte(name), Kind: Text, Text: p})
		}
	}
	if err := eachField(data, func(n protowire.Number, v field) error {
		if n != 1 || v.kind != protowire.BytesType { // InstrumentationScope
			return nil
		}
		return eachField(v.bytes, func(n protowire.Number, v field) (err error) {
			switch {
			case v.kind != protowire.BytesType:
			case n == 1:
				text("scope.name", v.bytes)
			case n == 2:
				text("scope.version", v.bytes)
			case n == 3:
				shared, err = appendGiven(shared, "scope.", v.bytes)
			}
			return err
		})
	}); err != nil {
		return err
	}
	return eachField(data, func(n protowire.Number, v field) error {
		if n != 2 || v.kind != protowire.BytesType { // LogRecord
			return nil
		}
		return readLog(v.bytes, shared, add)
	})
}

func readLog(data []byte, shared []GivenField, add func([]byte, *Given) error) error {
	g := &Given{Fields: make([]GivenField, 0, len(shared)+8)}
	var body, severity []byte
	var observed int64
	id := func(name string, p []byte) {
		if len(p) > 0 {
			g.Fields = append(g.Fields, GivenField{Name: []byte(name), Kind: Text, Text: idText(p)})
		}
	}
	err := eachField(data, func(n protowire.Number, v field) (err error) {
		switch {
		case n == 1 && v.kind == protowire.Fixed64Type:
			g.Time = int64(v.bits)
		case n == 11 && v.kind == protowire.Fixed64Type:
			observed = int64(v.bits)
		case n == 2 && v.kind == protowire.VarintType && v.bits <= 24:
			g.Level = uint8(v.bits)
		case v.kind != protowire.BytesType:
		case n == 3:
			severity = v.bytes
		case n == 5:
			body, err = anyText(v.bytes)
		case n == 6:
			g.Fields, err = appendGiven(g.Fields, "", v.bytes)
		case n == 9:
			id("trace_id", v.bytes)
		case n == 10:
			id("span_id", v.bytes)
		case n == 12 && len(v.bytes) > 0:
			g.Fields = append(g.Fields, GivenField{Name: []byte("event_name"), Kind: Text, Text: v.bytes})
		}
		return err
	})
	if err != nil {
		return err
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
	g.Fields = append(g.Fields, shared...)
	return add(body, g)
}

// idText is an id in hexadecimal. In JSON an id is written so, where other bytes are base64: read as that, its 32 or
// 16 digits became 24 or 12 bytes.
func idText(p []byte) []byte {
	if len(p) == 24 || len(p) == 12 {
		return base64.StdEncoding.AppendEncode(nil, p)
	}
	return hex.AppendEncode(nil, p)
}

// appendGiven adds a KeyValue.
func appendGiven(dst []GivenField, prefix string, data []byte) ([]GivenField, error) {
	var key, value []byte
	if err := eachField(data, func(n protowire.Number, v field) error {
		switch {
		case v.kind != protowire.BytesType:
		case n == 1:
			key = v.bytes
		case n == 2:
			value = v.bytes
		}
		return nil
	}); err != nil {
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
	err := eachField(value, func(n protowire.Number, v field) (err error) {
		set = true
		switch {
		case n == 1 && v.kind == protowire.BytesType:
			f.Kind, f.Text = Text, v.bytes
		case n == 2 && v.kind == protowire.VarintType:
			f.Kind, f.Num = Bool, min(v.bits, 1)
		case n == 3 && v.kind == protowire.VarintType:
			f.Kind, f.Num = Int, v.bits
		case n == 4 && v.kind == protowire.Fixed64Type:
			f.Kind, f.Num = Float, v.bits
		case (n == 5 || n == 6) && v.kind == protowire.BytesType:
			f.Kind = JSON
			f.Text, err = appendAny(nil, value, 0)
		case n == 7 && v.kind == protowire.BytesType:
			f.Kind, f.Text = Text, base64.StdEncoding.AppendEncode(nil, v.bytes)
		default:
			set = false
		}
		return err
	})
	if err != nil || !set { // an attribute without a value says nothing
		return dst, err
	}
	return append(dst, f), nil
}

// anyText is an AnyValue as the body of a record.
func anyText(data []byte) (out []byte, err error) {
	err = eachField(data, func(n protowire.Number, v field) (err error) {
		switch {
		case n == 1 && v.kind == protowire.BytesType:
			out = v.bytes
		case n == 7 && v.kind == protowire.BytesType:
			out = base64.StdEncoding.AppendEncode(nil, v.bytes)
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
	err := eachField(data, func(n protowire.Number, v field) (err error) {
		dst = dst[:at]
		switch {
		case n == 1 && v.kind == protowire.BytesType:
			dst = appendJSONText(dst, v.bytes)
		case n == 2 && v.kind == protowire.VarintType:
			dst = strconv.AppendBool(dst, v.bits != 0)
		case n == 3 && v.kind == protowire.VarintType:
			dst = strconv.AppendInt(dst, int64(v.bits), 10)
		case n == 4 && v.kind == protowire.Fixed64Type:
			dst = appendFloat(dst, math.Float64frombits(v.bits))
		case n == 5 && v.kind == protowire.BytesType:
			dst = append(dst, '[')
			err = eachField(v.bytes, func(n protowire.Number, v field) (err error) {
				if n == 1 && v.kind == protowire.BytesType {
					if dst[len(dst)-1] != '[' {
						dst = append(dst, ',')
					}
					dst, err = appendAny(dst, v.bytes, depth+1)
				}
				return err
			})
			dst = append(dst, ']')
		case n == 6 && v.kind == protowire.BytesType:
			dst = append(dst, '{')
			first := true
			err = eachField(v.bytes, func(n protowire.Number, v field) (err error) {
				if n == 1 && v.kind == protowire.BytesType {
					if !first {
						dst = append(dst, ',')
					}
					first = false
					dst, err = appendPair(dst, v.bytes, depth+1)
				}
				return err
			})
			dst = append(dst, '}')
		case n == 7 && v.kind == protowire.BytesType:
			dst = appendJSONText(dst, base64.StdEncoding.AppendEncode(nil, v.bytes))
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
	var key, value []byte
	if err := eachField(data, func(n protowire.Number, v field) error {
		switch {
		case v.kind != protowire.BytesType:
		case n == 1:
			key = v.bytes
		case n == 2:
			value = v.bytes
		}
		return nil
	}); err != nil {
		return dst, err
	}
	return appendAny(append(appendJSONText(dst, key), ':'), value, depth)
}

// appendJSONText writes bytes that may be no UTF-8 as a JSON string.
func appendJSONText(dst, p []byte) []byte { return AppendJSONString(dst, []byte(validText(p))) }

// validText is a text in which what is no UTF-8 is replaced.
func validText(p []byte) string { return strings.ToValidUTF8(string(p), "\uFFFD") }
