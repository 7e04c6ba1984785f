package pipeline

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
)

// watchedSteps are steps in any order, before and after which masks may stand.
var watchedSteps = []string{
	`drop: fields.who.startsWith("a")`, `keep: size(fields.who) > 4`, `set: {copy: fields.who, told: body}`,
	`set: {joined: "fields.who + \"/\" + fields.n"}`, `rename: {who: person}`, `remove: [n]`, `mask: [email]`,
	`mask: [email, payment-card]`, `sample: {keep: 1 in 3}`, `limit: {records: 5/s}`, `drop: fields.n == 7`,
	`set: {loud: 'fields.who + "!"'}`,
	`parse: {from: who, format: halves}`, `set: {greets: '"hello " + fields.person'}`,
}

// halves cuts private data into parts, which are private too.
var halves = format.Spec{Name: "halves", Kind: "template", Template: "{user}@{place:remainder}"}

// TestWatchedIsTheSame: that somebody looks changes nothing of what leaves, whatever the steps, the chunks and the
// clock; what is told of a record is what became of it; and nobody is shown what the masks of the source would take.
func TestWatchedIsTheSame(t *testing.T) {
	t.Parallel()
	keyvalue, _ := format.BuiltIn("keyvalue")
	shown, droppedShown := 0, 0
	for seed := range uint64(300) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		var steps strings.Builder
		for range rnd.IntN(5) {
			fmt.Fprintf(&steps, "  - %s\n", watchedSteps[rnd.IntN(len(watchedSteps))])
		}
		fmt.Fprintf(&steps, "  - mask: [email]\n") // wherever it stands, it is never shown
		text := "source: x\nhosts: all\nread: {files: [/a]}\nformat: keyvalue\nsteps:\n" + steps.String() + "send: [out]\n"
		src := source(t, text)
		if seed%3 == 0 {
			src.Guards = []string{"email", "payment-card"}
		}
		var log strings.Builder
		for i := range 200 {
			fmt.Fprintf(&log, "who=%s@whimbrel.example card=4539578763621486 n=%d note=%q\n",
				[]string{"ada.vos", "bo", "mirre.dal"}[rnd.IntN(3)], i%11, "tell ada.vos@whimbrel.example")
		}
		made := func(looks ...*Look) (out []string, c Counts) {
			p := parts()
			p.Formats = func(string) (format.Spec, bool) { return halves, true }
			tr, err := Compile(src, keyvalue, p)
			require.NoError(t, err, text)
			if len(looks) > 0 {
				tr.Tap = &Tap{}
				for _, l := range looks {
					tr.Tap.Open(l)
				}
			}
			enc := record.Encoder{}
			b := &record.Batch{Origin: record.NewOrigin("h", "id", "x", "/a", nil)}
			at, now := 0, time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC).UnixNano()
			for at < log.Len() {
				b.Reset()
				b.Arena = append(b.Arena[:0], log.String()[at:min(log.Len(), at+5000)]...)
				used, n := tr.Run(b, int64(at), now, 1000, at+5000 >= log.Len())
				e := enc.Encode(record.NDJSON, b)
				out = append(out, strings.Split(strings.TrimSpace(string(e.Bytes)), "\n")...)
				e.Release()
				at += used
				c.Add(n)
			}
			return out, c
		}
		plain, counts := made()
		var covered, clear []Tried
		watched, seenCounts := made(
			&Look{Take: func(r []Tried, o *record.Origin) {
				covered = append(covered, r...)
				assert.Equal(t, "/a", o.File)
			}},
			&Look{Clear: true, Take: func(r []Tried, _ *record.Origin) { clear = append(clear, r...) }},
		)
		sent := func(lines []string) (out []string) {
			for _, l := range lines {
				if l != "" {
					out = append(out, l)
				}
			}
			return out
		}
		require.Equal(t, sent(plain), sent(watched), text)
		require.Equal(t, counts, seenCounts)
		require.Len(t, clear, len(covered))
		require.LessOrEqual(t, len(covered), tapRecords, "the clock stood still")
		for i, y := range covered {
			shown++
			if y.Dropped != "" {
				droppedShown++
			}
			assert.Equal(t, clear[i].Dropped, y.Dropped)
			assert.Equal(t, clear[i].To, y.To)
			all, err := json.Marshal(y)
			require.NoError(t, err)
			for _, private := range []string{"ada.vos", "mirre.dal", "bo@"} {
				require.NotContains(t, string(all), private, text)
			}
			if len(src.Guards) > 0 {
				require.NotContains(t, string(all), "4539578763621486", text)
			}
			for _, m := range append(append([]Mark{}, y.Private...), y.Marks...) {
				require.LessOrEqual(t, m.Start, m.End)
			}
			for _, m := range y.Private {
				require.Equal(t, blanked, y.Original[m.Start:m.End])
			}
			assert.Contains(t, clear[i].Original, "@whimbrel.example")
		}
	}
	assert.Greater(t, shown, 1000)
	assert.Greater(t, droppedShown, 100)
}

// TestWatchedIsBounded: in a second of a busy source a few hundred records are looked at, and it is told how many
// passed; who has gone is told nothing more.
func TestWatchedIsBounded(t *testing.T) {
	t.Parallel()
	raw, _ := format.BuiltIn("raw")
	tr, err := Compile(Source{}, raw, Parts{})
	require.NoError(t, err)
	tr.Tap = &Tap{}
	seen := 0
	l := &Look{Take: func(r []Tried, _ *record.Origin) { seen += len(r) }}
	tr.Tap.Open(l)
	b := &record.Batch{}
	now := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
	second := func() (read int64) {
		for range 100 {
			now = now.Add(10 * time.Millisecond)
			for rest := strings.Repeat("line\n", 500); rest != ""; {
				b.Reset()
				b.Arena = append(b.Arena[:0], rest...)
				used, c := tr.Run(b, 1, now.UnixNano(), 1000, false)
				rest = rest[used:]
				read += c.Read
			}
		}
		return read
	}
	assert.EqualValues(t, 50_000, second())
	assert.EqualValues(t, 50_000, tr.Tap.Passed())
	assert.LessOrEqual(t, seen, 11*tapRecords)
	assert.GreaterOrEqual(t, seen, 9*tapRecords)
	tr.Tap.Close(l)
	before := seen
	second()
	assert.Equal(t, before, seen)
	assert.EqualValues(t, 50_000, tr.Tap.Passed())
}

// TestMasksAreCounted: each record counts once for each mask that found something in it, in a step or a guard, however
// often, and not for those that found nothing; runs begin anew.
func TestMasksAreCounted(t *testing.T) {
	t.Parallel()
	keyvalue, _ := format.BuiltIn("keyvalue")
	src := source(t, "source: x\nhosts: all\nread: {files: [/a]}\nformat: keyvalue\nsteps: [{mask: [email]}]\nsend: [out]\n")
	src.Guards = []string{"email", "payment-card"}
	tr, err := Compile(src, keyvalue, parts())
	require.NoError(t, err)
	b := &record.Batch{Origin: record.NewOrigin("h", "", "x", "/a", nil)}
	for range 3 {
		b.Reset()
		b.Arena = append(b.Arena[:0], "a=ada@whimbrel.example b=bo@whimbrel.example\nc=4539578763621486 a=x\nn=4\n"+
			"a=cy@whimbrel.example c=4539578763621486\n"...)
		_, c := tr.Run(b, 1, 1e18, 100, true)
		assert.Equal(t, map[string]int64{"email": 2, "payment-card": 2}, c.All().Masks)
		assert.EqualValues(t, 3, c.Masked)
	}
	b.Reset()
	b.Arena = append(b.Arena[:0], "n=4\n"...)
	_, c := tr.Run(b, 1, 1e18, 100, true)
	assert.Empty(t, c.All().Masks)
}
