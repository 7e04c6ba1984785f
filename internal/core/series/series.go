// Package series holds numbers over time: columns of values in steps of equal length, packed small.
package series

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Key names a column. Destination is "" for what is counted before records are routed.
type Key struct{ Source, Destination, Number string }

// The numbers. What records were dropped for, which mask found something in them, and which sender they came from, are
// numbers of their own: Dropped with a colon and the reason, Masked with a colon and the mask; those of OfSenders with
// an at sign and the sender.
const (
	Read         = "read"         // records
	Bytes        = "bytes"        // of input
	Unparsed     = "unparsed"     // records that the format could not read
	Dropped      = "dropped"      // records that the source's own rules dropped
	Masked       = "masked"       // records in which a mask found something
	NoZone       = "no-zone"      // records whose time says no zone
	Acknowledged = "acknowledged" // records, of a destination
	Sent         = "sent"         // bytes that a destination has acknowledged, before compression
	Rejected     = "rejected"     // records that a destination refused for good
	Discarded    = "discarded"    // records that were given up
	Waiting      = "waiting"      // records that wait, the most in a step
	Disk         = "disk"         // bytes of the buffer on disk, the most in a step
	Lag          = "lag"          // seconds, age of the oldest record that waits, the most in a step
)

// Numbers are all of them, in the order in which they are told.
var Numbers = []string{Read, Bytes, Unparsed, Dropped, Masked, NoZone, Acknowledged, Sent, Rejected, Discarded,
	Waiting, Disk, Lag}

// IsLevel tells whether a number is how much there is, and not how much came in a step: of several steps, and of
// several hosts for a lag, it is the most that counts.
func IsLevel(number string) bool {
	number, _, _ = CutSender(number)
	return number == Waiting || number == Disk || number == Lag
}

// IsLag tells whether a number is a lag, which does not add up over hosts.
func IsLag(number string) bool {
	number, _, _ = CutSender(number)
	return number == Lag
}

// Known tells whether there is such a number.
func Known(number string) bool {
	if of, sender, ok := CutSender(number); ok {
		return OfSenders(of) && sender != ""
	}
	return isPartOf(number, Numbers)
}

// isPartOf tells whether a number, or what it is a part of by its reason or mask, is in a list.
func isPartOf(number string, list []string) bool {
	base, name, part := strings.Cut(number, ":")
	return slices.Contains(list, base) && (!part || (base == Dropped || base == Masked) && name != "")
}

// AllParts is how all parts of a number by reason or mask are asked for, of which a number is one; false for another.
func AllParts(number string) (all string, ok bool) {
	number, sender, of := CutSender(number)
	base, _, part := strings.Cut(number, ":")
	if !part {
		return "", false
	}
	if all = base + ":*"; of {
		all = OfSender(all, sender)
	}
	return all, true
}

// Senders are the numbers that are kept of each sender too, with their parts by reason and by mask.
var Senders = []string{Read, Bytes, Unparsed, Dropped, Masked, Acknowledged, Sent, Rejected, Waiting, Lag}

// OfSenders tells whether a number is kept of each sender too.
func OfSenders(number string) bool { return isPartOf(number, Senders) }

// OfSender is a number of one sender.
func OfSender(number, sender string) string { return number + "@" + sender }

// CutSender parts a number of one sender; false for another number.
func CutSender(number string) (of, sender string, ok bool) { return strings.Cut(number, "@") }

// Block is columns of values in N steps from Start. A step in which nothing was heard is a gap: its values are 0 and
// say nothing.
type Block struct {
	Start int64 // Unix seconds, a whole number of steps
	Step  int64 // seconds
	Heard []bool
	Cols  map[Key][]int64
}

// New makes an empty block of n steps.
func New(start, step int64, n int) *Block {
	return &Block{Start: start, Step: step, Heard: make([]bool, n), Cols: map[Key][]int64{}}
}

// End is when its last step ends, in Unix seconds.
func (b *Block) End() int64 { return b.Start + b.Step*int64(len(b.Heard)) }

// At is the step in which a moment lies; false outside.
func (b *Block) At(unix int64) (int, bool) {
	i := (unix - b.Start) / b.Step
	return int(i), unix >= b.Start && i < int64(len(b.Heard))
}

// Add adds to a sum, or raises a level. A column beyond MaxColumns is left out.
func (b *Block) Add(k Key, i int, v int64) {
	if v == 0 {
		return
	}
	col := b.Cols[k]
	if col == nil {
		if len(b.Cols) >= MaxColumns {
			return
		}
		col = make([]int64, len(b.Heard))
		b.Cols[k] = col
	}
	if IsLevel(k.Number) {
		col[i] = max(col[i], v)
		return
	}
	if sum := col[i] + v; sum >= col[i] { // what grows beyond all bounds stays at the bound
		col[i] = sum
	}
}

// Put adds what another block of equal or finer steps holds. What lies outside is left out.
func (b *Block) Put(from *Block) {
	for i, heard := range from.Heard {
		if at, in := b.At(from.Start + from.Step*int64(i)); heard && in {
			b.Heard[at] = true
		}
	}
	for k, col := range from.Cols {
		for i, v := range col {
			if at, in := b.At(from.Start + from.Step*int64(i)); in {
				b.Add(k, at, v)
			}
		}
	}
}

// Sum is what a column comes to: the sum, or of a level the most.
func Sum(number string, col []int64) (out int64) {
	for _, v := range col {
		if IsLevel(number) {
			out = max(out, v)
		} else {
			out += v
		}
	}
	return out
}

// version is the first byte of a packed block.
const version = 1

// MaxColumns bounds the columns of a block: those of ten thousand senders whose records go to several destinations,
// and of all sources beside them.
const MaxColumns = 1 << 18

// maxSteps and maxValues bound what Unpack takes.
const (
	maxSteps  = 4096
	maxValues = 1 << 28
)

// Pack writes a block. Each column is the differences between its values as zig-zag varints, where a run of equal
// values is a zero and its length; a column that equals an earlier one is the number of that one. What never was
// anything but zero is left out.
func (b *Block) Pack() []byte {
	keys := make([]Key, 0, len(b.Cols))
	for k, col := range b.Cols {
		if slices.ContainsFunc(col, func(v int64) bool { return v != 0 }) {
			keys = append(keys, k)
		}
	}
	slices.SortFunc(keys, compare)
	texts := map[string]uint64{}
	var words []string
	word := func(s string) uint64 {
		i, ok := texts[s]
		if !ok {
			i = uint64(len(words))
			texts[s] = i
			words = append(words, s)
		}
		return i
	}
	var body []byte
	same := map[string]uint64{} // packed columns, and which they are
	for i, k := range keys {
		body = binary.AppendUvarint(body, word(k.Source))
		body = binary.AppendUvarint(body, word(k.Destination))
		body = binary.AppendUvarint(body, word(k.Number))
		packed := packColumn(b.Cols[k])
		if j, ok := same[string(packed)]; ok {
			body = binary.AppendUvarint(body, j)
			continue
		}
		same[string(packed)] = uint64(i) + 1
		body = append(binary.AppendUvarint(body, 0), packed...)
	}
	out := []byte{version}
	out = binary.AppendVarint(out, b.Start)
	out = binary.AppendUvarint(out, uint64(b.Step))
	out = binary.AppendUvarint(out, uint64(len(b.Heard)))
	for i := 0; i < len(b.Heard); { // runs, beginning with one of heard steps
		for _, what := range []bool{true, false} {
			n := 0
			for i+n < len(b.Heard) && b.Heard[i+n] == what {
				n++
			}
			out = binary.AppendUvarint(out, uint64(n))
			if i += n; i == len(b.Heard) {
				break
			}
		}
	}
	out = binary.AppendUvarint(out, uint64(len(words)))
	for _, w := range words {
		out = append(binary.AppendUvarint(out, uint64(len(w))), w...)
	}
	return append(binary.AppendUvarint(out, uint64(len(keys))), body...)
}

func compare(a, b Key) int {
	if c := strings.Compare(a.Source, b.Source); c != 0 {
		return c
	}
	if c := strings.Compare(a.Destination, b.Destination); c != 0 {
		return c
	}
	return strings.Compare(a.Number, b.Number)
}

func packColumn(col []int64) (out []byte) {
	before := int64(0)
	for i := 0; i < len(col); {
		n := 0
		for i+n < len(col) && col[i+n] == before {
			n++
		}
		if n > 0 {
			out = binary.AppendUvarint(append(out, 0), uint64(n))
			i += n
			continue
		}
		out = binary.AppendVarint(out, col[i]-before)
		before = col[i]
		i++
	}
	return out
}

// ErrDamaged says that bytes are no packed block.
var ErrDamaged = errors.New("the numbers are damaged")

// unpacker reads a packed block. After an error it reads zeros.
type unpacker struct {
	rest []byte
	bad  bool
}

func (u *unpacker) uvarint() uint64 {
	v, n := binary.Uvarint(u.rest)
	return u.took(v, n)
}

func (u *unpacker) varint() int64 {
	v, n := binary.Varint(u.rest)
	u.took(0, n)
	if u.bad {
		return 0
	}
	return v
}

func (u *unpacker) took(v uint64, n int) uint64 {
	if n <= 0 || u.bad {
		u.bad = true
		return 0
	}
	u.rest = u.rest[n:]
	return v
}

// upTo reads a number that must be below or at a bound.
func (u *unpacker) upTo(most int) int {
	v := u.uvarint()
	if v > uint64(most) {
		u.bad = true
		return 0
	}
	return int(v)
}

// Unpack reads what Pack wrote. wants chooses columns; nil takes all.
func Unpack(packed []byte, wants func(Key) bool) (*Block, error) {
	if len(packed) == 0 || packed[0] != version {
		return nil, fmt.Errorf("%w: another version", ErrDamaged)
	}
	u := &unpacker{rest: packed[1:]}
	start, step := u.varint(), u.upTo(1<<31)
	b := New(start, int64(step), u.upTo(maxSteps))
	if step == 0 {
		u.bad = true
	}
	for i, what := 0, true; i < len(b.Heard) && !u.bad; what = !what {
		n := u.upTo(len(b.Heard) - i)
		if n == 0 && i > 0 {
			u.bad = true
		}
		for range n {
			b.Heard[i] = what
			i++
		}
	}
	words := make([]string, 0, 8)
	for n := u.upTo(3 * MaxColumns); n > 0 && !u.bad; n-- {
		length := u.upTo(len(u.rest))
		words = append(words, string(u.rest[:min(length, len(u.rest))]))
		u.rest = u.rest[min(length, len(u.rest)):]
	}
	word := func() string {
		if i := u.upTo(len(words) - 1); i < len(words) {
			return words[i]
		}
		u.bad = true
		return ""
	}
	type place struct {
		key    Key
		packed []byte
	}
	var places []place
	for n := u.upTo(min(MaxColumns, maxValues/max(1, len(b.Heard)))); n > 0 && !u.bad; n-- {
		p := place{key: Key{word(), word(), word()}}
		if j := u.upTo(len(places)); j > 0 {
			p.packed = places[j-1].packed
		} else {
			from := u.rest
			u.column(len(b.Heard), nil)
			p.packed = from[:len(from)-len(u.rest)]
		}
		places = append(places, p)
		if !u.bad && (wants == nil || wants(p.key)) {
			if b.Cols[p.key] != nil {
				u.bad = true
				break
			}
			col := make([]int64, len(b.Heard))
			(&unpacker{rest: p.packed}).column(len(col), col)
			b.Cols[p.key] = col
		}
	}
	if u.bad || len(u.rest) > 0 {
		return nil, ErrDamaged
	}
	return b, nil
}

// column reads n values, into a column where there is one.
func (u *unpacker) column(n int, into []int64) {
	before := int64(0)
	for i := 0; i < n && !u.bad; {
		run := 1
		if d := u.varint(); d != 0 {
			before += d
		} else if run = u.upTo(n - i); run == 0 {
			u.bad = true
		}
		for range run {
			if into != nil {
				into[i] = before
			}
			i++
		}
	}
}
