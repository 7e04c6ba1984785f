package record

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"math"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"google.golang.org/protobuf/encoding/protowire"
)

// Encoding is a form in which records travel.
type Encoding uint8

// The encodings.
const (
	NDJSON    Encoding = iota // lines of JSON
	OTLP                      // log records (opentelemetry-proto, logs/v1) as fields of ScopeLogs
	Nothing                   // no bytes: records are only counted
	Encodings = int(Nothing) + 1
)

// Encoded is a run of encoded records. Ends[i] is the offset in Bytes after record i, so a run can be cut anywhere.
// Whoever is done with a run releases it.
type Encoded struct {
	Encoding Encoding
	Origin   *Origin
	Bytes    []byte
	Ends     []uint32
	memory   *memory
}

// memory is what runs are written into, used again when all that hold the run have released it.
type memory struct {
	bytes   []byte
	ends    []uint32
	holders atomic.Int32
}

var memories = sync.Pool{New: func() any { return new(memory) }}

// Release gives the memory of a run back, once for Encode and once for each Only. Bytes and Ends must not be used
// after it. Who never calls it leaves the memory to the garbage collector.
func (e *Encoded) Release() {
	if m := e.memory; m != nil && m.holders.Add(-1) == 0 {
		memories.Put(m)
	}
	e.memory, e.Bytes, e.Ends = nil, nil, nil
}

// Only is the part of a run that holds the records of one way: those of which the bit is set in Routes. It is the run
// itself when that is all of them.
func (e *Encoded) Only(b *Batch, bit int) Encoded {
	n := 0
	for i := range b.Records {
		n += int(b.Records[i].Routes >> bit & 1)
	}
	if n == len(b.Records) {
		if e.memory != nil {
			e.memory.holders.Add(1)
		}
		return *e
	}
	out := fresh(e.Encoding, e.Origin)
	from := uint32(0)
	for i := range b.Records {
		if b.Records[i].Routes>>bit&1 != 0 {
			out.Bytes = append(out.Bytes, e.Bytes[from:e.Ends[i]]...)
			out.Ends = append(out.Ends, uint32(len(out.Bytes)))
		}
		from = e.Ends[i]
	}
	out.memory.bytes, out.memory.ends = out.Bytes, out.Ends
	return out
}

// fresh is an empty run, which its caller holds.
func fresh(enc Encoding, o *Origin) Encoded {
	m := memories.Get().(*memory)
	m.holders.Store(1)
	return Encoded{Encoding: enc, Origin: o, Bytes: m.bytes[:0], Ends: m.ends[:0], memory: m}
}

// Encoder turns batches into bytes. It caches the last second it wrote, so each goroutine needs its own.
type Encoder struct {
	time, observed stamp
	each           [2]int // bytes of a record, about, by encoding
}

// Encode encodes all records of a batch.
func (e *Encoder) Encode(enc Encoding, b *Batch) Encoded {
	out := fresh(enc, b.Origin)
	if enc == Nothing {
		out.Ends = append(out.Ends, make([]uint32, len(b.Records))...)
		out.Bytes, out.memory.ends = nil, out.Ends
		return out
	}
	if e.each[enc] == 0 {
		e.each[enc] = 400
	}
	out.Bytes = slices.Grow(out.Bytes, len(b.Records)*(e.each[enc]+e.each[enc]/16)+256)
	for i := range b.Records {
		if enc == OTLP {
			out.Bytes = e.appendOTLP(out.Bytes, b, &b.Records[i])
		} else {
			out.Bytes = e.AppendNDJSON(out.Bytes, b, &b.Records[i])
		}
		out.Ends = append(out.Ends, uint32(len(out.Bytes)))
	}
	if n := len(b.Records); n > 0 {
		e.each[enc] = len(out.Bytes)/n + 1
	}
	out.memory.bytes, out.memory.ends = out.Bytes, out.Ends
	return out
}

// stamp is a time in RFC 3339, in UTC with nine digits, between what stands before and behind it. It is written anew
// only where another time differs.
type stamp struct {
	before, behind string
	second, nanos  int64
	text           []byte
}

const layout = "2006-01-02T15:04:05.000000000Z"

// at is the stamp of Unix nanoseconds.
func (t *stamp) at(nanos int64) []byte {
	if t.nanos == nanos &&
		t.text != nil { // all records of a batch were read at one time, and many were written at one
		return t.text
	}
	sec, frac := nanos/1e9, nanos%1e9
	if frac < 0 {
		sec, frac = sec-1, frac+1e9
	}
	if t.second != sec || t.text == nil {
		t.second = sec
		t.text = append(time.Unix(sec, 0).UTC().AppendFormat(append(t.text[:0], t.before...), layout), t.behind...)
	}
	t.nanos = nanos
	for i := len(t.before) + len(layout) - 2; i > len(t.before)+len(layout)-11; i-- {
		t.text[i] = byte('0' + frac%10)
		frac /= 10
	}
	return t.text
}

// AppendNDJSON writes one record as a line of JSON.
func (e *Encoder) AppendNDJSON(dst []byte, b *Batch, r *Record) []byte {
	if e.time.before == "" {
		e.time.before, e.observed.before, e.observed.behind = `{"time":"`, `","observed":"`, `"`
	}
	dst = append(append(dst, e.time.at(r.Time)...), e.observed.at(r.Observed)...)
	if r.Level != 0 {
		dst = append(dst, `,"level":"`...)
		dst = append(append(dst, LevelName(r.Level)...), '"')
	}
	dst = append(dst, `,"body":`...)
	dst = AppendJSONString(dst, b.Bytes(r.Body))
	if r.Flags&HasOriginal != 0 {
		dst = append(dst, `,"original":`...)
		dst = AppendJSONString(dst, b.Bytes(r.Original))
	}
	if r.N > 0 {
		sep := append(dst, `,"fields":{`...)
		dst = sep
		for i, v := range b.Fields(r) {
			if i > 0 {
				dst = append(dst, ',')
			}
			dst = append(dst, b.Schema.json[v.Slot]...)
			switch v.Kind {
			case Text:
				dst = AppendJSONString(dst, b.Bytes(v.Span))
			case JSON:
				dst = append(dst, b.Bytes(v.Span)...)
			case Int:
				dst = strconv.AppendInt(dst, int64(v.Num), 10)
			case Bool:
				dst = strconv.AppendBool(dst, v.Num != 0)
			case Float:
				dst = appendFloat(dst, math.Float64frombits(v.Num))
			}
		}
		dst = append(dst, '}')
	}
	dst = append(dst, b.Origin.jsonTail...)
	if b.UID != nil {
		dst = append(b.appendUID(append(dst, `,"id":"`...), r), '"')
	}
	if r.Flags&(Unparsed|Truncated|MoreFields) != 0 || r.TimeNote != TimeGood || r.Masked != 0 || r.Weight != 0 {
		dst = append(dst, `,"notes":{`...)
		start := len(dst)
		if r.Flags&Unparsed != 0 {
			dst = append(dst, `"parsed":false,`...)
		}
		if r.Flags&Truncated != 0 {
			dst = append(dst, `"truncated":true,`...)
		}
		if r.Flags&MoreFields != 0 {
			dst = append(dst, `"fields":"too many names",`...)
		}
		if r.Masked != 0 {
			dst = append(dst, `"masked":[`...)
			for i := range b.maskNames(r) {
				dst = append(AppendJSONString(dst, []byte(b.Masks[i])), ',')
			}
			dst = append(dst[:len(dst)-1], ']', ',')
		}
		if r.Weight != 0 {
			dst = append(appendFloat(append(dst, `"weight":`...), r.Weight), ',')
		}
		if r.TimeNote != TimeGood {
			dst = append(dst, `"time":"`...)
			dst = append(append(dst, r.TimeNote.String()...), '"', ',')
		}
		if len(dst) > start {
			dst = dst[:len(dst)-1]
		}
		dst = append(dst, '}')
	}
	return append(dst, '}', '\n')
}

// maskNames goes over the masks that found something in a record.
func (b *Batch) maskNames(r *Record) func(func(int) bool) {
	return func(yield func(int) bool) {
		for left := r.Masked; left != 0; left &= left - 1 {
			if !yield(bits.TrailingZeros64(left)) {
				return
			}
		}
	}
}

func appendFloat(dst []byte, f float64) []byte {
	if math.IsNaN(f) || math.IsInf(f, 0) { // JSON has no such numbers
		return append(strconv.AppendFloat(append(dst, '"'), f, 'g', -1, 64), '"')
	}
	return strconv.AppendFloat(dst, f, 'g', -1, 64)
}

const hexDigits = "0123456789abcdef"

// escapes are what stands for a byte inside a JSON string: nothing for itself.
var escapes = func() (t [256]string) {
	for i := range 0x20 {
		t[i] = string([]byte{'\\', 'u', '0', '0', hexDigits[i>>4], hexDigits[i&15]})
	}
	t['"'], t['\\'], t['\n'], t['\t'], t['\r'], t[0x7f] = `\"`, `\\`, `\n`, `\t`, `\r`, `\u007f`
	return
}()

// Eight bytes at once, as in Hacker's Delight, section 6-1: of a word, the lowest byte in which bit 7 is set is the
// first to escape.
const (
	ones  = 0x0101010101010101
	highs = 0x8080808080808080
)

func toEscape(w uint64) uint64 {
	quote, slash, del := w^('"'*ones), w^('\\'*ones), w^(0x7f*ones)
	return ((w-0x20*ones)&^w | (quote-ones)&^quote | (slash-ones)&^slash | (del-ones)&^del) & highs
}

// AppendJSONString writes valid UTF-8 as a JSON string. It copies and looks in one pass, eight bytes at once.
func AppendJSONString(dst, s []byte) []byte {
	n := len(dst) + 1
	dst = append(slices.Grow(dst, len(s)+len(s)/8+24), '"')
	out, i := dst[:cap(dst)], 0
	for len(s)-i >= 8 {
		w := binary.LittleEndian.Uint64(s[i:])
		binary.LittleEndian.PutUint64(out[n:], w)
		at := toEscape(w)
		if at == 0 {
			i, n = i+8, n+8
			continue
		}
		k := bits.TrailingZeros64(at) / 8
		e := escapes[s[i+k]]
		i, n = i+k+1, n+k+copy(out[n+k:], e)
		if len(out)-n < len(s)-i+24 { // what comes, an escape more, and the quote
			out = slices.Grow(out[:n], len(s)-i+64)
			out = out[:cap(out)]
		}
	}
	if r := len(s) - i; r > 0 && len(s) >= 8 { // the last eight bytes, of which r are left
		w := binary.LittleEndian.Uint64(s[len(s)-8:]) >> (8 * (8 - r))
		if toEscape(w)&(1<<(8*r)-1) == 0 {
			binary.LittleEndian.PutUint64(out[n:], w)
			i, n = len(s), n+r
		}
	}
	if k := len(s); k >= 4 && k < 8 { // four from each end, which are the same where they meet
		w := uint64(binary.LittleEndian.Uint32(s)) | uint64(binary.LittleEndian.Uint32(s[k-4:]))<<(8*(k-4))
		if toEscape(w)&(1<<(8*k)-1) == 0 {
			binary.LittleEndian.PutUint64(out[n:], w)
			i, n = k, n+k
		}
	}
	for ; i < len(s); i++ {
		if e := escapes[s[i]]; e != "" {
			if len(out)-n < 8*(len(s)-i)+8 {
				out = slices.Grow(out[:n], 8*(len(s)-i)+8)
				out = out[:cap(out)]
			}
			n += copy(out[n:], e)
			continue
		}
		out[n] = s[i]
		n++
	}
	out[n] = '"'
	return out[:n+1]
}

// appendOTLP writes one LogRecord as field 2 of ScopeLogs. Tags are written as the bytes that they are: a field's
// number times eight, and its wire type.
func (e *Encoder) appendOTLP(p []byte, b *Batch, r *Record) []byte {
	start := len(p) + 3 // the length takes two bytes nearly always; what takes others is moved
	p = append(p, 2<<3|2, 0, 0)
	p = append(p, 1<<3|1)
	p = binary.LittleEndian.AppendUint64(p, uint64(r.Time))
	if r.Level != 0 {
		p = append(p, 2<<3, r.Level, 3<<3|2)
		p = protowire.AppendString(p, LevelName(r.Level))
	}
	body := b.Bytes(r.Body)
	p = appendLen(append(p, 5<<3|2), sizeTagged(len(body)))
	p = append(appendLen(append(p, 1<<3|2), len(body)), body...)
	fields := b.Fields(r)
	for i := range fields {
		v := &fields[i]
		key := b.Schema.otlp[v.Slot]
		switch v.Kind {
		case Text:
			text := b.Bytes(v.Span)
			if x := b.Schema.context[v.Slot]; x != 0 {
				var ok bool
				if p, ok = appendContext(p, int(x)-1, text); ok {
					continue
				}
			}
			if n := len(key) + len(text) + 4; n < 1<<7 { // by far the most: all lengths take one byte
				at := len(p)
				p = slices.Grow(p, n+2)[:at+n+2]
				q := p[at:]
				q[0], q[1] = 6<<3|2, byte(n)
				copy(q[2:], key)
				q = q[2+len(key):]
				q[0], q[1], q[2], q[3] = 2<<3|2, byte(len(text)+2), 1<<3|2, byte(len(text))
				copy(q[4:], text)
				continue
			}
			value := sizeTagged(len(text))
			p = appendLen(append(p, 6<<3|2), len(key)+sizeTagged(value))
			p = append(p, key...)
			p = appendLen(append(p, 2<<3|2), value)
			p = append(appendLen(append(p, 1<<3|2), len(text)), text...)
		case Int:
			size := 2
			if v.Num >= 1<<7 {
				size = 1 + protowire.SizeVarint(v.Num)
			}
			p = appendKeyed(p, key, size)
			p = protowire.AppendVarint(append(p, 3<<3), v.Num)
		case Bool:
			p = append(appendKeyed(p, key, 2), 2<<3, byte(v.Num))
		case Float:
			p = append(appendKeyed(p, key, 9), 4<<3|1)
			p = binary.LittleEndian.AppendUint64(p, v.Num)
		case JSON:
			value := jsonValue(b.Bytes(v.Span))
			p = appendKeyed(p, key, len(value))
			p = append(p, value...)
		}
	}
	if r.Flags&HasOriginal != 0 {
		p = appendAttribute(p, 6, "log.record.original", b.Bytes(r.Original))
	}
	p = append(p, b.Origin.otlpFrom...)
	if b.UID != nil {
		p = b.appendUID(append(p, headUID...), r)
	}
	if r.Flags&Unparsed != 0 {
		p = append(p, noteParsed...)
	}
	if r.Flags&Truncated != 0 {
		p = append(p, noteTruncated...)
	}
	if r.Flags&MoreFields != 0 {
		p = appendAttribute(p, 6, "synaxis.fields", []byte("too many names"))
	}
	if r.TimeNote != TimeGood {
		p = appendAttribute(p, 6, "synaxis.time", []byte(r.TimeNote.String()))
	}
	if r.Masked != 0 {
		var list []byte
		for i := range b.maskNames(r) {
			list = appendTextValue(list, 1, []byte(b.Masks[i]))
		}
		value := appendTagged(nil, 5, list)
		p = appendKeyed(p, keyMasked, len(value))
		p = append(p, value...)
	}
	if r.Weight != 0 {
		p = appendKeyed(p, keyWeight, 9)
		p = protowire.AppendTag(p, 4, protowire.Fixed64Type)
		p = protowire.AppendFixed64(p, math.Float64bits(r.Weight))
	}
	p = append(p, 11<<3|1)
	p = binary.LittleEndian.AppendUint64(p, uint64(r.Observed))
	return closeLen(p, start)
}

// closeLen writes the length of what stands from start on into the two bytes before it.
func closeLen(p []byte, start int) []byte {
	n := len(p) - start
	if n >= 1<<7 && n < 1<<14 {
		p[start-2], p[start-1] = byte(n)|0x80, byte(n>>7)
		return p
	}
	var length [10]byte
	head := protowire.AppendVarint(length[:0], uint64(n))
	for range len(head) - 2 {
		p = append(p, 0)
	}
	copy(p[start-2+len(head):], p[start:start+n])
	copy(p[start-2:], head)
	return p[:start-2+len(head)+n]
}

// appendLen writes a length.
func appendLen(p []byte, n int) []byte {
	if n < 1<<7 {
		return append(p, byte(n))
	}
	return appendLong(p, n)
}

func appendLong(p []byte, n int) []byte {
	if n < 1<<14 {
		return append(p, byte(n)|0x80, byte(n>>7))
	}
	return protowire.AppendVarint(p, uint64(n))
}

var (
	// the attribute log.record.uid up to its value, which always has UIDSize characters
	headUID = func() []byte {
		whole := textAttribute(6, "log.record.uid", strings.Repeat("0", UIDSize))
		return whole[:len(whole)-UIDSize]
	}()
	noteParsed    = boolAttribute("synaxis.parsed", false)
	noteTruncated = boolAttribute("synaxis.truncated", true)
	keyMasked     = appendTagged(nil, 1, []byte("synaxis.masked"))
	keyWeight     = appendTagged(nil, 1, []byte("synaxis.weight"))
)

func boolAttribute(key string, v bool) []byte {
	k := appendTagged(nil, 1, []byte(key))
	p := appendKeyed(nil, k, 2)
	p = protowire.AppendTag(p, 2, protowire.VarintType)
	return protowire.AppendVarint(p, protowire.EncodeBool(v))
}

// appendKeyed opens attribute 6 with an encoded key and an AnyValue of the given size, whose bytes the caller appends.
func appendKeyed(p, key []byte, size int) []byte {
	p = appendLen(append(p, 6<<3|2), len(key)+sizeTagged(size))
	return appendLen(append(append(p, key...), 2<<3|2), size)
}

// sizeTagged is the size of a field of so many bytes whose number is below 16.
func sizeTagged(n int) int {
	switch {
	case n < 1<<7:
		return n + 2
	case n < 1<<14:
		return n + 3
	}
	return 1 + protowire.SizeVarint(uint64(n)) + n
}

func appendTagged(dst []byte, num protowire.Number, p []byte) []byte {
	dst = protowire.AppendTag(dst, num, protowire.BytesType)
	return protowire.AppendBytes(dst, p)
}

// appendTextValue writes AnyValue{string_value} as field num.
func appendTextValue(p []byte, num protowire.Number, text []byte) []byte {
	p = protowire.AppendTag(p, num, protowire.BytesType)
	p = protowire.AppendVarint(p, uint64(sizeTagged(len(text))))
	return appendTagged(p, 1, text)
}

func appendAttribute(p []byte, num protowire.Number, key string, text []byte) []byte {
	value := sizeTagged(sizeTagged(len(text)))
	p = protowire.AppendTag(p, num, protowire.BytesType)
	p = protowire.AppendVarint(p, uint64(sizeTagged(len(key))+value))
	p = appendTagged(p, 1, []byte(key))
	return appendTextValue(p, 2, text)
}

func textAttribute(num protowire.Number, key, text string) []byte {
	return appendAttribute(nil, num, key, []byte(text))
}

// jsonValue turns JSON text into an encoded AnyValue. Lists and objects are rare in fields, so this one may be slow.
func jsonValue(text []byte) []byte {
	var v any
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if d.Decode(&v) != nil {
		return appendTagged(nil, 1, text)
	}
	return anyValue(v)
}

func anyValue(v any) []byte {
	switch v := v.(type) {
	case string:
		return appendTagged(nil, 1, []byte(v))
	case bool:
		return protowire.AppendVarint(protowire.AppendTag(nil, 2, protowire.VarintType), protowire.EncodeBool(v))
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return protowire.AppendVarint(protowire.AppendTag(nil, 3, protowire.VarintType), uint64(n))
		}
		f, _ := v.Float64()
		return protowire.AppendFixed64(protowire.AppendTag(nil, 4, protowire.Fixed64Type), math.Float64bits(f))
	case []any:
		var list []byte
		for _, item := range v {
			list = appendTagged(list, 1, anyValue(item))
		}
		return appendTagged(nil, 5, list)
	case map[string]any:
		var list []byte
		for key, item := range v {
			kv := appendTagged(nil, 1, []byte(key))
			list = appendTagged(list, 1, appendTagged(kv, 2, anyValue(item)))
		}
		return appendTagged(nil, 6, list)
	}
	return nil
}

// AppendResourceLogs wraps encoded OTLP records of one origin as field 1 of ExportLogsServiceRequest (and LogsData).
func AppendResourceLogs(dst []byte, o *Origin, records []byte) []byte {
	scopeLogs := len(o.scope) + len(records)
	dst = protowire.AppendTag(dst, 1, protowire.BytesType)
	dst = protowire.AppendVarint(dst, uint64(len(o.otlpHead)+sizeTagged(scopeLogs)))
	dst = append(dst, o.otlpHead...)
	dst = protowire.AppendTag(dst, 2, protowire.BytesType)
	dst = protowire.AppendVarint(dst, uint64(scopeLogs))
	dst = append(dst, o.scope...)
	return append(dst, records...)
}

func appendNumber(dst []byte, bits uint64) []byte {
	return appendFloat(dst, math.Float64frombits(bits))
}
