package pipeline

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
	"synaxis/internal/core/wire"
	"synaxis/internal/core/yamldoc"
)

func run(
	t *testing.T,
	src Source,
	spec format.Spec,
	data string,
	flush bool,
) (bodies []string, b *record.Batch, used int, c Counts) {
	tr, err := Compile(src, spec, Parts{})
	require.NoError(t, err)
	b = &record.Batch{Arena: []byte(data)}
	used, c = tr.Run(b, 1000, 42, 100, flush)
	for i := range b.Records {
		bodies = append(bodies, string(b.Bytes(b.Records[i].Body)))
	}
	return bodies, b, used, c
}

func TestRun(t *testing.T) {
	t.Parallel()
	kv, _ := format.BuiltIn("keyvalue")
	raw, _ := format.BuiltIn("raw")
	bodies, b, used, c := run(
		t,
		Source{Unparsed: "keep", KeepOriginal: true},
		kv,
		"a=1 msg=x\n\nnothing\nb=2\ntorn",
		false,
	)
	assert.Equal(t, []string{"x", "nothing", "b=2"}, bodies)
	assert.Equal(t, Counts{Numbers: wire.Numbers{Read: 3, Bytes: int64(used), Unparsed: 1, Blank: 1}}, c)
	assert.Equal(t, len("a=1 msg=x\n\nnothing\nb=2\n"), used)
	assert.Equal(t, int64(1000+used), b.Records[2].End)
	assert.Equal(t, "a=1 msg=x", string(b.Bytes(b.Records[0].Original)))
	assert.NotZero(t, b.Records[1].Flags&record.Unparsed)

	bodies, _, _, c = run(t, Source{Unparsed: "drop"}, kv, "a=1\nnothing\n", false)
	assert.Equal(t, []string{"a=1"}, bodies)
	assert.Equal(t, int64(1), c.All().Dropped)

	bodies, _, _, c = run(t, Source{}, raw, "a\n\nb", true)
	assert.Equal(t, []string{"a", "", "b"}, bodies, "blank lines are records of raw")
	assert.Zero(t, c.Blank)

	bodies, _, _, _ = run(t, Source{}, raw, "ok \xff\xfe end\n", false)
	assert.Equal(t, []string{`ok \xff\xfe end`}, bodies)

	bodies, _, _, _ = run(t, Source{Begin: "^=="}, raw, "== 1\n a\n== 2\n b\n", true)
	assert.Equal(t, []string{"== 1\n a", "== 2\n b"}, bodies)
}

// TestWatchedFields: how often a field is there is counted of what the format reads, whatever becomes of the record.
func TestWatchedFields(t *testing.T) {
	t.Parallel()
	kv, _ := format.BuiltIn("keyvalue")
	for name, c := range map[string]struct {
		data string
		want map[string]int64
	}{
		"always":             {"lane=1 a=2\nlane=3 a=4\n", map[string]int64{"lane": 2, "doc": 0}},
		"sometimes":          {"lane=1 doc=x\nlane=\"\" doc=y\na=3\n", map[string]int64{"lane": 1, "doc": 2}},
		"of what it reads":   {"lane=1\nno pair here\n", map[string]int64{"lane": 1, "doc": 0}},
		"nothing comes":      {"", nil},
		"of what is dropped": {"lane=7\nlane=8\n", map[string]int64{"lane": 2, "doc": 0}},
	} {
		src := Source{Unparsed: "keep", Watch: Watch{Filled: []string{"lane", "doc"}}}
		if name == "of what is dropped" {
			docs, problems := yamldoc.Parse("t", []byte("drop: fields.lane == 7\n"))
			require.Empty(t, problems)
			src.Steps = []Step{{Kind: Drop, Value: docs[0].Root.Get("drop")}}
		}
		_, _, _, got := run(t, src, kv, c.data, true)
		assert.Equal(t, c.want, got.Filled, name)
	}
}

// TestTheShortWay: a source without steps, guards and conditions sends records as they are read, and gives what the
// long way gives.
func TestTheShortWay(t *testing.T) {
	t.Parallel()
	to := func(names ...string) (out []Entry) {
		for _, n := range names {
			out = append(out, Entry{To: n})
		}
		return out
	}
	data := "a=1 level=warn msg=x\n\nnothing \xff\n2\nb=2 time=2031-04-02T06:15:09Z\n" + strings.Repeat(
		"c=3 msg=\"many of them\"\n",
		40,
	) + "torn"
	for name, c := range map[string]struct {
		src    Source
		short  bool
		routes uint64
	}{
		"one way":                 {Source{Send: to("a")}, true, 1},
		"several ways, each":      {Source{Send: to("a", "b", "c")}, true, 7},
		"what no entry took":      {Source{Send: []Entry{{To: "a"}, {To: "b", Otherwise: true}}}, true, 1},
		"otherwise alone":         {Source{Send: []Entry{{To: "b", Otherwise: true}}}, true, 1},
		"nowhere":                 {Source{}, true, 0},
		"unread ones elsewhere":   {Source{Send: to("a"), Unparsed: "b"}, false, 1},
		"unread ones are dropped": {Source{Send: to("a"), Unparsed: "drop"}, false, 1},
		"with the original":       {Source{Send: to("a"), KeepOriginal: true}, false, 1},
		"records of several":      {Source{Send: to("a"), Begin: "^[a-z]="}, true, 1},
		"latin-1":                 {Source{Send: to("a"), Encoding: "latin-1"}, true, 1},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			kv, _ := format.BuiltIn("keyvalue")
			short, err := Compile(c.src, kv, Parts{})
			require.NoError(t, err)
			assert.Equal(t, c.short, short.direct)
			long, err := Compile(c.src, kv, Parts{})
			require.NoError(t, err)
			long.direct = false
			b1, b2 := &record.Batch{Arena: []byte(data)}, &record.Batch{Arena: []byte(data)}
			used1, c1 := short.Run(b1, 1000, 42, 30, true)
			used2, c2 := long.Run(b2, 1000, 42, 30, true)
			assert.Equal(t, used2, used1)
			assert.Equal(t, c2, c1)
			assert.Equal(t, b2.Records, b1.Records)
			assert.Equal(t, b2.Values, b1.Values)
			assert.Equal(t, b2.Arena, b1.Arena)
			assert.Equal(t, c.routes, b1.Records[0].Routes)
		})
	}
}

func TestRunStopsAtTheLimit(t *testing.T) {
	t.Parallel()
	raw, _ := format.BuiltIn("raw")
	tr, err := Compile(Source{}, raw, Parts{})
	require.NoError(t, err)
	b := &record.Batch{Arena: []byte(strings.Repeat("x\n", 10))}
	used, c := tr.Run(b, 0, 0, 3, false)
	assert.Equal(t, 6, used)
	assert.Equal(t, int64(3), c.Read)
}

// TestTryOfALongLog: what goes beyond one window is treated like what does not, to the last line, and so is a record
// that is larger than a window.
func TestTryOfALongLog(t *testing.T) {
	t.Parallel()
	raw, _ := format.BuiltIn("raw")
	tr, err := Compile(Source{Begin: "^=="}, raw, Parts{})
	require.NoError(t, err)
	var log strings.Builder
	for range 30_000 {
		log.WriteString("== the tide is out and the ramp is steep\n  and goes on\n")
	}
	log.WriteString("== " + strings.Repeat("x", tryWindow+tryWindow/2) + "\n== last")
	records, counts := tr.Try([]byte(log.String()), time.Unix(0, 0))
	require.EqualValues(t, len(records), counts.Read)
	require.EqualValues(t, log.Len(), counts.Bytes)
	for i, r := range records[:30_000] {
		require.Equal(t, 2*i+1, r.Line)
		require.Equal(t, 2, r.Lines)
	}
	long := 0
	for _, r := range records[30_000 : len(records)-1] { // in pieces, if the bound of a record asks for it
		assert.Equal(t, 60_001, r.Line)
		long += len(r.Original)
	}
	assert.Equal(t, 3+tryWindow+tryWindow/2, long)
	last := records[len(records)-1]
	assert.Equal(t, "== last", last.Original)
	assert.Equal(t, 60_002, last.Line)
}

// TestALineWithoutEnd: a line of 100 MiB is cut at the bound of a record, piece by piece, each marked, and what
// follows is read.
func TestALineWithoutEnd(t *testing.T) {
	t.Parallel()
	raw, _ := format.BuiltIn("raw")
	tr, err := Compile(Source{Most: 4 << 20}, raw, Parts{})
	require.NoError(t, err)
	const size = 100 << 20
	b := &record.Batch{}
	truncated, whole, rest := 0, 0, 0
	var left []byte
	for fed := 0; ; {
		b.Reset()
		b.Arena = append(b.Arena[:0], left...)
		n := min(tr.MaxRecord()+(256<<10)-len(left), size-fed)
		for range n {
			b.Arena = append(b.Arena, 'x')
		}
		if fed += n; fed == size {
			b.Arena = append(b.Arena, "\nnext\n"...)
		}
		have := len(b.Arena)
		used, _ := tr.Run(b, int64(fed), 0, 100, fed == size)
		for i := range b.Records {
			switch r := &b.Records[i]; {
			case r.Flags&record.Truncated != 0:
				truncated++
				assert.EqualValues(t, 4<<20, r.Body.Len)
			case string(b.Bytes(r.Body)) == "next":
				rest++
			default:
				whole++
			}
		}
		if fed == size && used == have {
			break
		}
		left = append(left[:0], b.Arena[used:have]...)
	}
	assert.Equal(t, size/(4<<20), truncated)
	assert.Equal(t, 1, rest)
	assert.LessOrEqual(t, whole, 1, "the end of the line")
}

// TestEncodingsOfASource: what leaves is UTF-8, whatever the file is in, and positions are those of the file.
func TestEncodingsOfASource(t *testing.T) {
	t.Parallel()
	kv, _ := format.BuiltIn("keyvalue")
	for encoding, data := range map[string]string{"latin-1": "ort=M\xfcnde n=1\nort=\xd8 n=2\n",
		"utf-16le": "o\x00r\x00t\x00=\x00M\x00\xfc\x00n\x00d\x00e\x00 " +
			"\x00n\x00=\x001\x00\n\x00o\x00r\x00t\x00=\x00\xd8\x00 \x00n\x00=\x002\x00\n\x00"} {
		bodies, b, used, _ := run(t, Source{Encoding: encoding, KeepOriginal: true}, kv, data, false)
		require.Equal(t, []string{"ort=Münde n=1", "ort=Ø n=2"}, bodies, encoding)
		assert.Equal(t, len(data), used)
		assert.Equal(t, int64(1000+len(data)), b.Records[1].End)
		assert.Equal(t, "ort=Münde n=1", string(b.Bytes(b.Records[0].Original)))
	}
}

// TestNothingIsAllocatedForARecord: cutting, reading, steps, masks and ways work in what the batch has.
func TestNothingIsAllocatedForARecord(t *testing.T) {
	spec, _ := format.BuiltIn("web-combined")
	tr, err := Compile(
		source(
			t,
			"guards: [passport, email, payment-card]\nsteps:\n  - drop: fields.http.response.status_code == "+
				"304\nsend: [{to: a, when: fields.http.response.status_code >= 500}, {otherwise: b}]",
		),
		spec,
		parts(passport),
	)
	require.NoError(t, err)
	line := `198.51.100.7 - - [02/Apr/2031:06:15:09 +0100] "GET /fares?doc=PA1234567 HTTP/1.1" 200 512 "-" "Explorer/9"` + "\n"
	data := []byte(strings.Repeat(line, 500))
	b := &record.Batch{Origin: record.NewOrigin("h", "", "s", "", nil)}
	once := func() {
		b.Reset()
		b.Arena = append(b.Arena[:0], data...)
		tr.Run(b, 1, 0, 1000, true)
	}
	once()
	require.Len(t, b.Records, 500)
	assert.Less(t, testing.AllocsPerRun(20, once), 50.0, "of 500 records, some for the batch at most")
}
