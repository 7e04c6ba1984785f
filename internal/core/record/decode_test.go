package record

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// random is a batch of one record of any kind.
func random(rnd *rand.Rand) *Batch {
	o := NewOrigin("h", "me", "s", "/var/log/a.log", []Label{{"a", "1"}, {"site", "northpier"}})
	b := &Batch{Origin: o, Schema: NewSchema(), Masks: []string{"passport", "phone"}}
	text := func() []byte {
		return []byte(strings.Repeat([]string{"a", "ü", `"`, "\\", "\n", "\x01", " "}[rnd.IntN(7)], rnd.IntN(20)))
	}
	r := Record{Time: rnd.Int64N(4e18), Observed: rnd.Int64N(4e18), Body: b.Put(text()), End: rnd.Int64N(1 << 47)}
	r.Level = []uint8{0, Trace, Debug, Info, Warn, Error, Fatal}[rnd.IntN(7)]
	if rnd.IntN(2) == 0 {
		r.Flags |= HasOriginal
		r.Original = b.Put(text())
	}
	for _, f := range []uint8{Unparsed, Truncated, MoreFields} {
		if rnd.IntN(4) == 0 {
			r.Flags |= f
		}
	}
	r.TimeNote = TimeNote(rnd.IntN(int(TimeGuessedDate) + 1))
	r.Masked = rnd.Uint64N(4)
	if rnd.IntN(3) == 0 {
		r.Weight = rnd.Float64() * 10
	}
	if rnd.IntN(2) == 0 {
		b.UID = NewUID("me", rnd.Uint64())
	}
	for i := range rnd.IntN(8) {
		slot, _ := b.Schema.Slot(fmt.Appendf(nil, "field.%d", i))
		v := Value{Slot: slot, Kind: Kind(rnd.IntN(5))}
		switch v.Kind {
		case Text:
			v.Span = b.Put(text())
		case Int:
			v.Num = uint64(rnd.Int64() - math.MaxInt64/2)
		case Float:
			v.Num = math.Float64bits(rnd.NormFloat64() + 0.5)
		case Bool:
			v.Num = rnd.Uint64N(2)
		case JSON:
			v.Span = b.Put([]byte([]string{`["x",1,true]`, `{"a":[{"b":2.5}]}`}[rnd.IntN(2)]))
		}
		b.Values = append(b.Values, v)
		r.N++
	}
	attribute := rnd.IntN(3) == 0 // what is no id is an attribute, and stands where it stood
	for _, x := range contextFields {
		if rnd.IntN(3) > 0 {
			continue
		}
		slot, _ := b.Schema.Slot([]byte(x.name))
		text := "ev.docked"
		if x.digits > 0 {
			text = fmt.Sprintf("%0*x", x.digits, 1+rnd.IntN(200))
		}
		if attribute {
			text = []string{"", "x" + text, strings.Repeat("0", x.digits), text[1:], text[1:] + "G",
				text[1:] + "A"}[rnd.IntN(6)]
			if x.digits == 0 {
				text = ""
			}
		}
		b.Values = append(b.Values, Value{Slot: slot, Kind: Text, Span: b.Put([]byte(text))})
		r.N++
	}
	b.Records = append(b.Records, r)
	return b
}

// TestTranscode: a record that goes from one encoding into the other is what it would have been in the first place.
func TestTranscode(t *testing.T) {
	t.Parallel()
	rnd := rand.New(rand.NewPCG(4, 4))
	var enc Encoder
	for range 3000 {
		b := random(rnd)
		lines, protos := enc.Encode(NDJSON, b), enc.Encode(OTLP, b)
		wantLines, wantProtos := string(lines.Bytes), string(protos.Bytes)
		toProto, err := Transcode(lines, OTLP)
		require.NoError(t, err, wantLines)
		assert.Equal(t, wantProtos, string(toProto.Bytes), wantLines)
		toLines, err := Transcode(protos, NDJSON)
		require.NoError(t, err)
		assert.Equal(t, wantLines, string(toLines.Bytes))
		assert.Equal(t, []uint32{uint32(len(wantLines))}, toLines.Ends)
	}
}

// TestIDs: an id has 128 bits, is the same for the same place of a stream, and another for another host, stream or
// place.
func TestIDs(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, host := range []string{"a", "b"} {
		for _, stream := range []uint64{1, 2, 1 << 63} {
			for _, end := range []int64{1, 2, 1 << 40} {
				b := &Batch{UID: NewUID(host, stream)}
				id := string(b.appendUID(nil, &Record{End: end}))
				assert.Len(t, id, UIDSize)
				assert.Equal(t, id, string(b.appendUID(nil, &Record{End: end})))
				assert.False(t, seen[id])
				seen[id] = true
			}
		}
	}
}
