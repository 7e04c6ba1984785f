// Package record holds log records in batches and encodes them for the wire.
//
// A Batch is one arena of bytes plus flat arrays without pointers; the values of a record are spans of the arena.
// A batch is filled, encoded and reset by one goroutine; the encoded bytes outlive it.
package record

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"slices"
	"strings"
)

// Span is a part of a batch's arena: offset and length in bytes.
type Span struct{ Off, Len uint32 }

// Kind tells how a Value is to be understood.
type Kind uint8

// The kinds of values. Int, Float and Bool live in Num; Text and JSON in Span. JSON is a list or object as JSON text.
const (
	Text Kind = iota
	Int
	Float
	Bool
	JSON
)

// Value is one field of a record. Slot is its place in the batch's Schema. Span of an int is where it is written, or
// empty. Num of a text that was written with escapes is where its raw form stands, made by Raw; otherwise it is 0.
type Value struct {
	Num  uint64
	Span Span
	Slot uint16
	Kind Kind
}

// Raw puts a span into the Num of a text.
func (s Span) Raw() uint64 { return uint64(s.Off)<<32 | uint64(s.Len) }

// RawSpan is what Raw put into Num.
func (v Value) RawSpan() (s Span, ok bool) {
	return Span{uint32(v.Num >> 32), uint32(v.Num)}, v.Kind == Text && v.Num != 0
}

// Flags of a record.
const (
	Unparsed    uint8 = 1 << iota // the format could not read it; the body is the line
	HasOriginal                   // Original is set
	Truncated                     // cut at the bound of one record
	MoreFields                    // had more field names than a schema holds
)

// TimeNote says what was odd about the time of a record.
type TimeNote uint8

// Notes on time.
const (
	TimeGood        TimeNote = iota
	TimeUnreadable           // the observed time stands in
	TimeNoZone               // no zone known; the observed time stands in
	TimeRepeated             // in a repeated hour; the earlier one was taken
	TimeSkipped              // in an hour that the clock skipped
	TimeGuessedYear          // the year was not given
	TimeGuessedDate          // only the time of day was given
)

// String is the word that goes on the record.
func (n TimeNote) String() string {
	return [...]string{"", "unreadable", "no-zone", "repeated-hour", "skipped-hour", "guessed-year", "guessed-date"}[n]
}

// Levels, as OpenTelemetry's severity numbers. Zero is "not set".
const (
	Trace uint8 = 1
	Debug uint8 = 5
	Info  uint8 = 9
	Warn  uint8 = 13
	Error uint8 = 17
	Fatal uint8 = 21
)

var levelNames = [...]string{"TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"}

// LevelName returns the name of a severity number, or "" when it is not set.
func LevelName(level uint8) string {
	if level == 0 || level > 24 {
		return ""
	}
	return levelNames[(level-1)/4]
}

var levelWords = map[string]uint8{
	"trace": Trace, "debug": Debug, "dbg": Debug, "verbose": Debug, "info": Info, "information": Info, "notice": Info,
	"warn": Warn, "warning": Warn, "error": Error, "err": Error, "severe": Error, "fatal": Fatal, "critical": Fatal,
	"crit": Fatal, "alert": Fatal, "emerg": Fatal, "emergency": Fatal, "panic": Fatal,
	"trc": Trace, "vrb": Debug, "inf": Info, "wrn": Warn, "eror": Error, "ftl": Fatal,
	"fatal error": Fatal, "parse error": Error, "recoverable fatal error": Error, "core error": Error,
	"compile error": Error, "core warning": Warn, "compile warning": Warn,
	"deprecated": Warn, "ddebug": Debug,
	"fehler": Error, "warnung": Warn, "hinweis": Info, "erreur": Error, "avertissement": Warn, "errore": Error,
	"avviso": Warn, "erro": Error, "aviso": Warn,
	// in other languages
	"advertencia": Warn, "fout": Error, "waarschuwing": Warn, "błąd": Error, "ostrzeżenie": Warn, "ошибка": Error,
	"предупреждение": Warn,
	// the first letter
	"t": Trace, "v": Debug, "d": Debug, "i": Info, "n": Info, "w": Warn, "e": Error, "f": Fatal, "c": Fatal,
	// as programs count that leave room between
	"10": Trace, "20": Debug, "30": Info, "40": Warn, "50": Error, "60": Fatal,
}

// ParseLevel reads the words that programs write for a level, in any case. Zero when it is none of them.
func ParseLevel(word string) uint8 {
	if l, ok := levelWords[word]; ok {
		return l
	}
	return levelWords[strings.ToLower(word)]
}

// Record is one log event. Times are Unix nanoseconds. End is the offset in the file after it.
type Record struct {
	Time, Observed, End int64
	Body, Original      Span
	First               uint32 // into Batch.Values
	N                   uint16
	Level, Flags        uint8
	TimeNote            TimeNote
	Routes              uint64  // bit i: it goes to destination i of its treatment
	Masked              uint64  // bit i: the mask i of Batch.Masks found something in it
	Weight              float64 // how many records it stands for after sampling; 0 for one
}

// Batch is a run of records of one origin.
type Batch struct {
	Origin  *Origin
	Arena   []byte
	Records []Record
	Values  []Value
	Schema  *Schema
	Masks   []string // that note their names on records
	// when the file was last written, in Unix nanoseconds, where that dates its records better than Observed; or 0
	Written int64
	Stream  uint64  // what it was read from: records of one stream stay in order
	UID     []byte  // what the ids of its records begin with, made by NewUID; nil for none
	Leaving Leaving // whether what it was read from is going away
}

// Leaving says whether records can be read again from where they came.
type Leaving uint8

// The ways in which a file goes away.
const (
	Stays   Leaving = iota
	Rotated         // it left its path, and may be deleted soon
	Deleted         // nothing can find it any more
)

// UIDSize is how many characters the id of a record has.
const UIDSize = 32

// NewUID is what the ids of the records of one stream of a host begin with: the first 80 bits of the SHA-256 of both,
// in hexadecimal. The other 48 bits are the place in the stream behind the record.
func NewUID(hostID string, stream uint64) []byte {
	sum := sha256.Sum256(binary.BigEndian.AppendUint64([]byte(hostID+"\n"), stream))
	return hex.AppendEncode(nil, sum[:10])
}

// hexPairs are all bytes in hexadecimal.
var hexPairs = func() (t [256]uint16) {
	for i := range t {
		t[i] = uint16(hexDigits[i>>4]) | uint16(hexDigits[i&15])<<8
	}
	return t
}()

// appendUID writes the id of a record.
func (b *Batch) appendUID(dst []byte, r *Record) []byte {
	n := len(dst)
	dst = append(dst, b.UID...)
	dst = slices.Grow(dst, 12)[:n+UIDSize]
	place, end := dst[n+UIDSize-12:], uint64(r.End)
	for i := range 6 {
		binary.LittleEndian.PutUint16(place[2*i:], hexPairs[byte(end>>(40-8*i))])
	}
	return dst
}

// Reset empties the batch and keeps its memory.
func (b *Batch) Reset() {
	b.Arena, b.Records, b.Values = b.Arena[:0], b.Records[:0], b.Values[:0]
}

// Bytes returns a span of the arena.
func (b *Batch) Bytes(s Span) []byte { return b.Arena[s.Off : s.Off+s.Len] }

// Put copies bytes into the arena.
func (b *Batch) Put(p []byte) Span {
	s := Span{uint32(len(b.Arena)), uint32(len(p))}
	b.Arena = append(b.Arena, p...)
	return s
}

// Fields returns the values of a record.
func (b *Batch) Fields(r *Record) []Value { return b.Values[r.First : r.First+uint32(r.N)] }

// Field returns the value of a named field of a record.
func (b *Batch) Field(r *Record, name string) (Value, bool) {
	slot, ok := b.Schema.Lookup(name)
	if !ok {
		return Value{}, false
	}
	for _, v := range b.Fields(r) {
		if v.Slot == slot {
			return v, true
		}
	}
	return Value{}, false
}

// maxSlots bounds the names in one schema, so that a log with random keys cannot fill the memory.
const maxSlots = 10000

// Schema gives field names small numbers and keeps each name encoded for every face. It belongs to one goroutine.
type Schema struct {
	slots map[string]uint16
	names []string
	json  [][]byte // "name":
	otlp  [][]byte // KeyValue.key

	context []uint8 // the place in contextFields, from 1; 0 for any other name
}

// NewSchema returns a schema that knows the given names.
func NewSchema(names ...string) *Schema {
	s := &Schema{slots: map[string]uint16{}}
	for _, n := range names {
		s.Slot([]byte(n))
	}
	return s
}

// Slot returns the number of a name, giving it one when it is new; ok is false when the schema is full.
func (s *Schema) Slot(name []byte) (slot uint16, ok bool) {
	if slot, ok := s.slots[string(name)]; ok {
		return slot, true
	}
	if len(s.names) >= maxSlots {
		return 0, false
	}
	slot = uint16(len(s.names))
	n := string(name)
	s.slots[n] = slot
	s.names = append(s.names, n)
	s.json = append(s.json, append(AppendJSONString(nil, name), ':'))
	s.otlp = append(s.otlp, appendTagged(nil, 1, name))
	s.context = append(s.context, contextOf(n))
	return slot, true
}

// Frozen is the schema as it is now, for one who reads a batch while another gives new names their numbers. It knows
// names by their numbers only.
func (s *Schema) Frozen() *Schema {
	return &Schema{names: s.names, json: s.json, otlp: s.otlp, context: s.context}
}

// Lookup returns the number of a name that the schema knows.
func (s *Schema) Lookup(name string) (uint16, bool) {
	slot, ok := s.slots[name]
	return slot, ok
}

// Len is how many names there are.
func (s *Schema) Len() int { return len(s.names) }

// Name returns the name of a slot.
func (s *Schema) Name(slot uint16) string { return s.names[slot] }

// Label is one key and value, of a host or a source.
type Label struct{ Key, Value string }

// Origin is where the records of a batch come from. Make it with NewOrigin, which encodes it once.
type Origin struct {
	Host, HostID, Source, File string
	Sender                     string // address of who sent them to a listener, or ""
	Labels                     []Label

	jsonTail []byte // ,"host":... without notes
	otlpHead []byte // Resource and Scope, as fields of ResourceLogs and ScopeLogs
	otlpFrom []byte // the attribute log.file.path or source.address
	scope    []byte
}

// Attributes of OpenTelemetry's conventions for the file and the sender of a record.
const (
	fileAttribute   = "log.file.path"
	senderAttribute = "source.address"
)

// SenderLabel is the label that has the name of a sender that a definition knows.
const SenderLabel = "sender"

// SenderName is the name by which a definition knows who sent records to a listener, or "".
func (o *Origin) SenderName() string {
	if o == nil || o.Sender == "" {
		return ""
	}
	for _, l := range o.Labels {
		if l.Key == SenderLabel {
			return l.Value
		}
	}
	return ""
}

// NewSenderOrigin prepares an origin of records that somebody sent. Labels must be sorted by key.
func NewSenderOrigin(host, hostID, source, sender string, labels []Label) *Origin {
	o := NewOrigin(host, hostID, source, "", labels)
	if o.Sender = sender; sender != "" {
		o.jsonTail = AppendJSONString(append(o.jsonTail, `,"sender":`...), []byte(sender))
		o.otlpFrom = textAttribute(6, senderAttribute, sender)
	}
	return o
}

// NewOrigin prepares an origin. Labels must be sorted by key.
func NewOrigin(host, hostID, source, file string, labels []Label) *Origin {
	o := &Origin{Host: host, HostID: hostID, Source: source, File: file, Labels: labels}
	t := append(o.jsonTail, `,"host":`...)
	t = AppendJSONString(t, []byte(host))
	t = append(t, `,"source":`...)
	t = AppendJSONString(t, []byte(source))
	if len(labels) > 0 {
		t = append(t, `,"labels":{`...)
		for i, l := range labels {
			if i > 0 {
				t = append(t, ',')
			}
			t = append(AppendJSONString(t, []byte(l.Key)), ':')
			t = AppendJSONString(t, []byte(l.Value))
		}
		t = append(t, '}')
	}
	if file != "" {
		t = append(t, `,"file":`...)
		t = AppendJSONString(t, []byte(file))
		o.otlpFrom = textAttribute(6, fileAttribute, file)
	}
	o.jsonTail = t

	resource := textAttribute(1, "host.name", host)
	if hostID != "" {
		resource = append(resource, textAttribute(1, "host.id", hostID)...)
	}
	for _, l := range labels {
		resource = append(resource, textAttribute(1, "label."+l.Key, l.Value)...)
	}
	o.otlpHead = appendTagged(nil, 1, resource)
	o.scope = appendTagged(nil, 1, appendTagged(nil, 1, []byte(source)))
	return o
}
