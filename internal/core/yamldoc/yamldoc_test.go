package yamldoc

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseKeepsPositions(t *testing.T) {
	t.Parallel()
	docs, problems := Parse("a.yaml", []byte("# head\nsource: one\nread:\n  files: [a, \"b c\"]\n---\nformat: two\nn: 3\n---\n# only a comment\n"))
	require.Empty(t, problems)
	require.Len(t, docs, 2)
	assert.Equal(t, 1, docs[0].Line)
	assert.Equal(t, 6, docs[1].Line)
	assert.Equal(t, "format: two\nn: 3\n", docs[1].Text)
	files := docs[0].Root.Get("read").Get("files")
	require.Equal(t, List, files.Kind)
	assert.Equal(t, 4, files.Items[1].Line)
	assert.Equal(t, 14, files.Items[1].Column)
	assert.Equal(t, "b c", files.Items[1].Value)
	assert.Equal(t, Int, docs[1].Root.Get("n").Kind)
	assert.Equal(t, 7, docs[1].Root.Get("n").Line)
}

func TestParseRefuses(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		text, reason string
		line         int
	}{
		"tag":        {"a: 1\nb: !has(x)\n", "quote it", 2},
		"alias":      {"a: &x 1\nb: *x\n", "anchors and aliases", 1},
		"merge":      {"a: 1\n<<: {b: 2}\n", "anchors and aliases", 2},
		"twice":      {"a: 1\nb: 2\na: 3\n", "", 3},
		"not closed": {"a: [1, 2\n", "", 1},
		"deep":       {strings.Repeat("[", 500), "nested too deeply", 1},
		"deep lists": {strings.Repeat("- ", 500) + "x", "nested too deeply", 1},
		"long":       {strings.Repeat("a", MaxFile+1), "at most", 1},
		"in a later": {"a: 1\n---\nb: [\n", "", 3},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			_, problems := Parse("f.yaml", []byte(c.text))
			require.NotEmpty(t, problems)
			assert.Contains(t, problems[0].Error(), c.reason)
			assert.GreaterOrEqual(t, problems[0].Line, c.line)
			assert.Equal(t, "f.yaml", problems[0].File)
		})
	}
}

func TestReaderCollects(t *testing.T) {
	t.Parallel()
	docs, _ := Parse("f.yaml", []byte("name: x\nsise: 3\nage: old\nwait: 30\nempty:\nsecret: 1\nlist: a\n"))
	r := &Reader{File: "f.yaml"}
	f := r.Fields(docs[0].Root, "a thing")
	f.Text("name")
	f.Size("size", 0)
	f.Int("age", 0, 0)
	f.Duration("wait", 0)
	f.Text("empty")
	f.Texts("list")
	f.Later("secret")
	f.Require("colour", "such as red")
	f.Close()
	var all []string
	for _, p := range r.Problems {
		all = append(all, p.Error())
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{
		`f.yaml:3:6: age: expected a whole number, 0 or more, found "old"`,
		`f.yaml:4:7: wait: expected a duration with its unit, such as 30s, found "30"`,
		`f.yaml:5:7: empty has no value; expected a value (quote it if it begins with ! or #, or leave the key out)`,
		`f.yaml:7:7: list: expected a list, found "a"`,
		`f.yaml:1:1: a thing needs "colour": such as red`,
		`f.yaml:2:1: a thing has no key "sise" (did you mean "size"?)`,
		`f.yaml:6:1: "secret" is not available yet`,
	} {
		assert.Contains(t, text, want)
	}
}

func TestUnits(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]int64{"64MiB": 64 << 20, "1KiB": 1024, "512B": 512, "1.5GiB": 3 << 29} {
		got, err := ParseSize(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"64", "64MB", "-1KiB", "", "MiB", "9999999TiB"} {
		_, err := ParseSize(text)
		assert.Error(t, err, text)
	}
	for text, want := range map[string]time.Duration{"30s": 30 * time.Second, "14d": 14 * 24 * time.Hour, "1h30m": 90 * time.Minute, "500ms": 500 * time.Millisecond} {
		got, err := ParseDuration(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"30", "0", "-5s", "d", "1.5d", "99999999d"} {
		_, err := ParseDuration(text)
		assert.Error(t, err, text)
	}
	for _, d := range []time.Duration{time.Second, 90 * time.Second, time.Minute, time.Hour, 25 * time.Hour, 72 * time.Hour, 90 * time.Minute, 250 * time.Millisecond} {
		back, err := ParseDuration(FormatDuration(d))
		require.NoError(t, err, FormatDuration(d))
		assert.Equal(t, d, back)
	}
	for _, n := range []int64{1, 1000, 1024, 5 << 20, 3<<30 + 1} {
		back, err := ParseSize(FormatSize(n))
		require.NoError(t, err)
		assert.Equal(t, n, back)
	}
}

func TestNearest(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "harbour-archive", Nearest("harbour-archiv", []string{"watch-desk", "harbour-archive"}))
	assert.Empty(t, Nearest("x", []string{"harbour-archive"}))
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("a: 1\n---\nb: [x, {c: d}]\n"))
	f.Add([]byte("a: |\n  x\n  ---\n y"))
	f.Add([]byte("? a\n: - b\n  - c"))
	f.Fuzz(func(t *testing.T, text []byte) {
		docs, _ := Parse("f", text)
		for _, d := range docs {
			require.NotNil(t, d.Root)
		}
		joined := ""
		parts := Split(string(text))
		for i, p := range parts {
			require.Equal(t, p.Text, string(text)[p.Start:p.End])
			if i > 0 {
				require.GreaterOrEqual(t, p.Start, parts[i-1].End)
				joined += string(text)[parts[i-1].End:p.Start]
			}
			joined += p.Text
		}
		require.Equal(t, string(text), joined, "nothing is lost between documents")
	})
}

func FuzzQuote(f *testing.F) {
	f.Add("a\"b\\c\n\x00é")
	f.Fuzz(func(t *testing.T, s string) {
		if strings.ContainsRune(s, '\uFFFD') || strings.ToValidUTF8(s, "") != s {
			return
		}
		for _, r := range s { // characters that YAML does not allow in a document at all
			if r >= 0x80 && r < 0xa0 || r == 0x2028 || r == 0x2029 || r == 0xfeff || r == 0xfffe || r == 0xffff {
				return
			}
		}
		docs, problems := Parse("f", []byte("k: "+Quote(s)+"\n"))
		require.Empty(t, problems)
		require.Equal(t, s, docs[0].Root.Get("k").Value)
	})
}
