package wire

import (
	"errors"
	"fmt"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
)

// Bounds of what is read from an agent. A few bytes on the wire can become an element of a hundred in memory, so
// elements are counted before anything is decoded.
const (
	MaxMessage  = 16 << 20 // bytes of one message over a WebSocket
	MaxPoll     = 4 << 20  // bytes of one message over plain HTTP, unpacked
	MaxMetrics  = 1 << 20  // bytes of one report of numbers, unpacked
	MaxElements = 100_000  // messages and members of lists within one message
)

// ErrElements says that a message has more than MaxElements parts.
var ErrElements = fmt.Errorf("the message has more than %d parts", MaxElements)

var errForm = errors.New("the message is no protobuf")

// Read decodes a message of an agent. It fails with ErrElements where that would take too much memory.
func Read(data []byte, m proto.Message) error {
	left := MaxElements
	if err := count(data, m.ProtoReflect().Descriptor(), &left, 0); err != nil {
		return err
	}
	return proto.UnmarshalOptions{DiscardUnknown: true}.Unmarshal(data, m)
}

// count goes through the fields of a message without keeping anything.
func count(data []byte, d protoreflect.MessageDescriptor, left *int, depth int) error {
	if depth > protowire.DefaultRecursionLimit {
		return errForm
	}
	for len(data) > 0 {
		number, kind, n := protowire.ConsumeTag(data)
		if n < 0 {
			return errForm
		}
		data = data[n:]
		size := protowire.ConsumeFieldValue(number, kind, data)
		if size < 0 {
			return errForm
		}
		value := data[:size]
		data = data[size:]
		field := d.Fields().ByNumber(number)
		if field == nil {
			continue
		}
		message := field.Kind() == protoreflect.MessageKind || field.Kind() == protoreflect.GroupKind
		switch {
		// packed
		case field.Cardinality() == protoreflect.Repeated && kind == protowire.BytesType && !message &&
			field.Kind() != protoreflect.StringKind && field.Kind() != protoreflect.BytesKind:
			*left -= 1 + size/8
		case message, field.Cardinality() == protoreflect.Repeated:
			*left--
		}
		if *left < 0 {
			return ErrElements
		}
		if message && kind == protowire.BytesType {
			inner, n := protowire.ConsumeBytes(value)
			if n < 0 {
				return errForm
			}
			if err := count(inner, field.Message(), left, depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// countJSON tells whether a JSON text has no more than MaxElements parts.
func countJSON(text []byte) error {
	quoted, parts := false, 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case !quoted && (c == '{' || c == '[' || c == ','):
			if parts++; parts > MaxElements {
				return ErrElements
			}
		}
	}
	return nil
}
