package pipeline

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/format"
	"synaxis/internal/core/record"
)

// TestUnclaimed: what the format does not read and no route takes is kept as an example, the newest of each shape and
// few in all, without private data, whether it is kept, dropped before its masks, or dropped for want of a route.
func TestUnclaimed(t *testing.T) {
	t.Parallel()
	keyvalue, _ := format.BuiltIn("keyvalue")
	for _, unparsed := range []string{"keep", "drop", "d"} {
		for _, steps := range []string{"", "steps: [{mask: [email]}]\n", "guards"} {
			text := "source: x\nhosts: all\nread: {files: [/a]}\nformat: keyvalue\nunparsed: " + unparsed + "\n" +
				strings.TrimSuffix(steps, "guards") + "send: [{to: d, when: fields.n > 4}]\n"
			src := source(t, text)
			if steps == "guards" {
				src.Guards = []string{"email"}
			}
			tr, err := Compile(src, keyvalue, parts())
			require.NoError(t, err, text)
			tr.Unclaimed = &Unclaimed{}
			now := time.Date(2031, 4, 2, 12, 0, 0, 0, time.UTC)
			b := &record.Batch{Origin: record.NewOrigin("h", "", "x", "/a", nil)}
			run := func(line string) {
				now = now.Add(time.Second)
				b.Reset()
				b.Arena = append(b.Arena[:0], line+"\n"...)
				used, _ := tr.Run(b, 1, now.UnixNano(), 10, true)
				require.Positive(t, used)
			}
			for i := range 40 {
				run(fmt.Sprintf("%s said no word to ada.vos%d@whimbrel.example", strings.Repeat("ab ", i%15), i))
				run(fmt.Sprintf("n=%d mail=bo.lee@whimbrel.example", i%5))
				run(fmt.Sprintf("n=%d", 5+i))
			}
			for reason, most := range map[string]int{"unparsed": unclaimedEach, "no-route": 1} {
				got := tr.Unclaimed.Examples(reason)
				if reason == "no-route" && unparsed == "keep" {
					most = 1 // what is kept unparsed has no n, so that no route takes it either: it counts as unparsed
				}
				require.Len(t, got, most, text)
				for _, e := range got {
					assert.Equal(t, "/a", e.File)
					if steps != "" {
						assert.NotContains(t, e.Text, "@whimbrel", text)
						assert.Contains(t, e.Text, "***")
					}
				}
				assert.True(t, now.Sub(got[len(got)-1].At) < 5*time.Second, "the newest is the last")
			}
			run(strings.Repeat("é", 100_000))
			got := tr.Unclaimed.Examples("unparsed")
			assert.LessOrEqual(t, len(got[len(got)-1].Text), unclaimedText+3)
		}
	}
	for a, b := range map[string]string{"lane 4 of T-1234": "lane 77 of T-9", "x=0a1f y": "x=ff00 y", "": ""} {
		assert.Equal(t, shape(a), shape(b))
	}
	for a, b := range map[string]string{"lane 4": "gate 4", "a b": "a  b", "x=1": "x:1"} {
		assert.NotEqual(t, shape(a), shape(b))
	}
}
