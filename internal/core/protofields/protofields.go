// Package protofields goes through the fields of a protobuf message without making anything of them: for what is read
// so often that the generated types cost too much. https://protobuf.dev/programming-guides/encoding
package protofields

import (
	"errors"

	"google.golang.org/protobuf/encoding/protowire"
)

// ErrForm says that bytes are no protobuf.
var ErrForm = errors.New("it is no protobuf of this form")

// Field is the value of a field: the bits of a varint or of a fixed number, or bytes.
type Field struct {
	Number protowire.Number
	Type   protowire.Type
	Bits   uint64
	Bytes  []byte // a part of what was read
}

// Is tells whether it is a field of a number and a type.
func (f Field) Is(number protowire.Number, t protowire.Type) bool {
	return f.Number == number && f.Type == t
}

// Next is the first field of a message, and what comes behind it. The message has one at least.
func Next(data []byte) (v Field, rest []byte, err error) {
	// most fields are bytes with a small number and a small length: a byte each
	if len(data) > 1 && data[0]&(0x80|7) == byte(protowire.BytesType) && data[1] < 0x80 && data[0]>>3 != 0 {
		if end := 2 + int(data[1]); end <= len(data) {
			return Field{protowire.Number(data[0] >> 3), protowire.BytesType, 0, data[2:end]}, data[end:], nil
		}
	}
	number, kind, n := protowire.ConsumeTag(data)
	if n < 0 || number > protowire.MaxValidNumber {
		return v, nil, ErrForm
	}
	data = data[n:]
	v.Number, v.Type = number, kind
	switch kind {
	case protowire.BytesType:
		v.Bytes, n = protowire.ConsumeBytes(data)
	case protowire.VarintType:
		v.Bits, n = protowire.ConsumeVarint(data)
	case protowire.Fixed64Type:
		v.Bits, n = protowire.ConsumeFixed64(data)
	case protowire.Fixed32Type:
		var bits uint32
		bits, n = protowire.ConsumeFixed32(data)
		v.Bits = uint64(bits)
	default:
		n = protowire.ConsumeFieldValue(number, kind, data)
	}
	if n < 0 {
		return v, nil, ErrForm
	}
	return v, data[n:], nil
}

// Each calls f with each field of a message, in order, until it fails.
func Each(data []byte, f func(Field) error) error {
	for len(data) > 0 {
		v, rest, err := Next(data)
		if err == nil {
			err = f(v)
		}
		if err != nil {
			return err
		}
		data = rest
	}
	return nil
}

// EachMessage calls f with each message that a field of a number holds.
func EachMessage(data []byte, number protowire.Number, f func([]byte) error) error {
	return Each(data, func(v Field) error {
		if !v.Is(number, protowire.BytesType) {
			return nil
		}
		return f(v.Bytes)
	})
}
