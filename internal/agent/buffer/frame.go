package buffer

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"time"

	"synaxis/internal/core/record"
)

// Frame is a run of encoded records of one origin.
type Frame struct {
	First    uint64 // number of its first record in the lane
	Encoding record.Encoding
	Origin   *record.Origin
	At       time.Time // when it was appended
	Stream   uint64    // what it was read from
	Bytes    []byte
	Ends     []uint32 // of each record, in Bytes
}

// Records is how many it has.
func (f Frame) Records() int { return len(f.Ends) }

// End is the number of the record behind its last.
func (f Frame) End() uint64 { return f.First + uint64(len(f.Ends)) }

const (
	marker      = 0x0b2ef15a
	beforeSum   = 12
	frameHead   = 44
	maxFrame    = 64 << 20
	magic       = "synaxis1"
	headerFixed = len(magic) + 8
	maxHeader   = 4 << 10
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// kinds of frames.
const (
	kindRecords = iota
	kindOrigin
)

// head are the numbers of a frame.
type head struct {
	first    uint64
	records  uint32
	kind     uint8
	encoding uint8
	origin   uint16
	at       int64
	stream   uint64
}

// open begins a frame; the caller appends its payload and calls seal with what stood before it.
func (h head) open(dst []byte) []byte {
	dst = binary.LittleEndian.AppendUint32(dst, marker)
	dst = append(dst, 0, 0, 0, 0, 0, 0, 0, 0)
	dst = binary.LittleEndian.AppendUint64(dst, h.first)
	dst = binary.LittleEndian.AppendUint32(dst, h.records)
	dst = append(dst, h.kind, h.encoding)
	dst = binary.LittleEndian.AppendUint16(dst, h.origin)
	dst = binary.LittleEndian.AppendUint64(dst, uint64(h.at))
	return binary.LittleEndian.AppendUint64(dst, h.stream)
}

// seal writes length and checksum of the frame that begins at a place.
func seal(dst []byte, at int) {
	body := dst[at+beforeSum:]
	binary.LittleEndian.PutUint32(dst[at+4:], uint32(len(body)))
	binary.LittleEndian.PutUint32(dst[at+8:], crc32.Checksum(body, castagnoli))
}

// appendRecords writes a frame of records.
func appendRecords(dst []byte, h head, f Frame) []byte {
	at := len(dst)
	dst = h.open(dst)
	for _, end := range f.Ends {
		dst = binary.LittleEndian.AppendUint32(dst, end)
	}
	dst = append(dst, f.Bytes...)
	seal(dst, at)
	return dst
}

// originText is an origin as it is written.
type originText struct {
	Host   string         `json:"host"`
	HostID string         `json:"hostId"`
	Source string         `json:"source"`
	File   string         `json:"file,omitempty"`
	Sender string         `json:"sender,omitempty"`
	Labels []record.Label `json:"labels,omitempty"`
}

// appendOrigin writes a frame of an origin.
func appendOrigin(dst []byte, h head, o *record.Origin) ([]byte, error) {
	at := len(dst)
	dst = h.open(dst)
	text, err := json.Marshal(originText{o.Host, o.HostID, o.Source, o.File, o.Sender, o.Labels})
	if err != nil {
		return nil, fmt.Errorf("buffer: origin: %w", err)
	}
	dst = append(dst, text...)
	seal(dst, at)
	return dst, nil
}

var (
	errTorn   = errors.New("the frame ends too early")
	errDamage = errors.New("the frame is damaged")
)

// readFrame reads the frame at the beginning of data. Its payload is a part of data; size is the whole frame's.
// errTorn says that data holds only a part of it.
func readFrame(data []byte) (h head, payload []byte, size int, err error) {
	if len(data) < frameHead {
		return h, nil, 0, errTorn
	}
	length := int(binary.LittleEndian.Uint32(data[4:]))
	if binary.LittleEndian.Uint32(data) != marker || length < frameHead-beforeSum || length > maxFrame {
		return h, nil, 0, errDamage
	}
	size = beforeSum + length
	if len(data) < size {
		return h, nil, size, errTorn
	}
	body := data[beforeSum:size]
	if crc32.Checksum(body, castagnoli) != binary.LittleEndian.Uint32(data[8:]) {
		return h, nil, size, errDamage
	}
	h = head{
		first:    binary.LittleEndian.Uint64(data[12:]),
		records:  binary.LittleEndian.Uint32(data[20:]),
		kind:     data[24],
		encoding: data[25],
		origin:   binary.LittleEndian.Uint16(data[26:]),
		at:       int64(binary.LittleEndian.Uint64(data[28:])),
		stream:   binary.LittleEndian.Uint64(data[36:]),
	}
	return h, data[frameHead:size], size, nil
}

// frame makes a Frame of what was read. Its bytes are a copy.
func (h head) frame(payload []byte, o *record.Origin) (Frame, error) {
	n := int(h.records)
	if len(payload) < 4*n || o == nil {
		return Frame{}, errDamage
	}
	f := Frame{First: h.first, Encoding: record.Encoding(h.encoding), Origin: o, At: time.Unix(0, h.at),
		Stream: h.stream, Ends: make([]uint32, n), Bytes: append([]byte(nil), payload[4*n:]...)}
	last := uint32(0)
	for i := range f.Ends {
		f.Ends[i] = binary.LittleEndian.Uint32(payload[4*i:])
		if f.Ends[i] < last || int(f.Ends[i]) > len(f.Bytes) {
			return Frame{}, errDamage
		}
		last = f.Ends[i]
	}
	if int(last) != len(f.Bytes) || int(h.encoding) >= record.Encodings {
		return Frame{}, errDamage
	}
	return f, nil
}

func readOrigin(payload []byte) (*record.Origin, error) {
	var o originText
	if err := json.Unmarshal(payload, &o); err != nil {
		return nil, errDamage
	}
	if o.Sender != "" {
		return record.NewSenderOrigin(o.Host, o.HostID, o.Source, o.Sender, o.Labels), nil
	}
	return record.NewOrigin(o.Host, o.HostID, o.Source, o.File, o.Labels), nil
}

// header begins a segment of an agent.
func header(host string) []byte {
	text, _ := json.Marshal(map[string]string{"host": host}) // texts always become JSON
	dst := binary.LittleEndian.AppendUint32([]byte(magic), uint32(len(text)))
	dst = binary.LittleEndian.AppendUint32(dst, crc32.Checksum(text, castagnoli))
	return append(dst, text...)
}

// errForeign says that a segment is another agent's.
var errForeign = errors.New("the segment is another agent's")

// readHeader checks the header of a segment and answers its length.
func readHeader(data []byte, host string) (int, error) {
	if len(data) < headerFixed || string(data[:len(magic)]) != magic {
		return 0, errDamage
	}
	n := int(binary.LittleEndian.Uint32(data[len(magic):]))
	if n > maxHeader || len(data) < headerFixed+n {
		return 0, errDamage
	}
	text := data[headerFixed : headerFixed+n]
	var who struct {
		Host string `json:"host"`
	}
	if crc32.Checksum(text, castagnoli) != binary.LittleEndian.Uint32(data[len(magic)+4:]) ||
		json.Unmarshal(text, &who) != nil {
		return 0, errDamage
	}
	if who.Host != host {
		return 0, errForeign
	}
	return headerFixed + n, nil
}
