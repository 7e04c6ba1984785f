package yamldoc

import (
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// fill repeats a text up to the largest file.
func fill(s string) string { return strings.Repeat(s, MaxFile/len(s)) }

// hostile are files made to exhaust a reader.
func hostile() map[string]string {
	deep := strings.Builder{}
	for i := 0; deep.Len() < MaxFile-2000 && i < 1400; i++ {
		deep.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	keys := strings.Builder{}
	for i := 0; keys.Len() < MaxFile-20; i++ {
		fmt.Fprintf(&keys, "k%d: v\n", i)
	}
	flow := strings.Builder{}
	flow.WriteString("a: {")
	for i := 0; flow.Len() < MaxFile-40; i++ {
		fmt.Fprintf(&flow, "k%d: v, ", i)
	}
	flow.WriteString("z: z}\n")
	laughs := "a: &a [x]\n"
	for i := range 30 {
		laughs += fmt.Sprintf("b%d: &b%d [*a, *a, *a, *a, *a, *a, *a, *a]\n", i, i)
	}
	return map[string]string{
		"brackets": fill(
			"[",
		), "braces": fill("{a: "), "braces and brackets": fill("[{a: "), "closed": fill("]"), "dashes": fill("- "),
		"questions": fill("? "), "colons": fill(": "), "colons alone": fill(":"),
		"deep maps": deep.String(), "many keys": keys.String(), "long flow map": flow.String(),
		"long flow list": "a: [" + fill("x, ")[:MaxFile-20] + "y]\n",
		"long list": fill(
			"- x\n",
		), "laughs": laughs, "cycle": "a: &a {b: *a}\n", "anchors": fill("&a "), "aliases": fill("*a "), "tags": fill(
			"!a "), "merges": fill("<<: "),
		"documents": fill(
			"---\n",
		), "documents of one key": fill("---\na: 1\n"), "remarks": fill("# x\n"), "remarks behind": fill("a: b # x\n"),
		"blank lines": fill("\n"), "spaces": fill(" "), "tabs": fill("\t"), "tabs and lines": fill("\t\n"),
		"one text": "a: " + fill("x")[:MaxFile-10], "quotes": fill(`"`), "single quotes": fill("'"),
		"escapes": `a: "` + fill(`\x41`)[:MaxFile-20], "broken escapes": `a: "` + fill(`\q`)[:MaxFile-20],
		"open quote": `a: "` + fill("x\n")[:MaxFile-20], "text of lines": "a: " + fill("x\n ")[:MaxFile-20],
		"block": "a: |\n" + fill(" x\n")[:MaxFile-20], "folded": "a: >\n" + fill(" x\n\n")[:MaxFile-20],
		"deeper and deeper": fill("a:\n b:\n  c:\n   d:\n"),
		"quoted list":       "a: [" + fill(`"x", `)[:MaxFile-20] + `"y"]`, "bytes": fill("\xff\xfe"), "zeros": fill(
			"\x00"),
		"wide": fill("é: ü\n"), "carriage returns": fill("a: b\r"), "percent": fill("%"), "at": fill("@a\n"),
		"pipes":  fill("|\n"),
		"commas": "a: [" + fill(",")[:MaxFile-20] + "]", "nested lists": strings.Repeat("- ", 40) + fill("x\n"),
		"list of maps": fill("- a: b\n  c: [d, {e: f}]\n"),
	}
}

// TestHostileFiles: whatever a file holds, reading it ends within a second and 64 MiB.
func TestHostileFiles(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a while")
	}
	for name, text := range hostile() {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.GC()
			runtime.ReadMemStats(&before)
			began := time.Now()
			done := make(chan struct{})
			var peak uint64
			watched := make(chan struct{})
			go func() {
				defer close(watched)
				for {
					select {
					case <-done:
						return
					case <-time.After(5 * time.Millisecond):
						var m runtime.MemStats
						runtime.ReadMemStats(&m)
						peak = max(peak, m.HeapAlloc)
					}
				}
			}()
			docs, problems := Parse("f.yaml", []byte(text))
			took := time.Since(began)
			close(done)
			<-watched
			runtime.ReadMemStats(&after)
			grew := max(peak, before.HeapAlloc) - before.HeapAlloc
			t.Logf(
				"%d documents, %d problems, %s, %d MiB",
				len(docs),
				len(problems),
				took.Round(time.Millisecond),
				grew>>20,
			)
			assert.Less(t, took, time.Second)
			assert.Less(t, grew, uint64(64<<20))
		})
	}
}
