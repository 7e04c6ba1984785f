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
	docs, problems := Parse(
		"a.yaml",
		[]byte("# head\nsource: one\nread:\n  files: [a, \"b c\"]\n---\nformat: two\nn: 3\n---\n# only a comment\n"),
	)
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
	for text, want := range map[string]time.Duration{"30s": 30 * time.Second, "14d": 14 * 24 * time.Hour,
		"1h30m": 90 * time.Minute, "500ms": 500 * time.Millisecond} {
		got, err := ParseDuration(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"30", "0", "-5s", "d", "1.5d", "99999999d"} {
		_, err := ParseDuration(text)
		assert.Error(t, err, text)
	}
	for _, d := range []time.Duration{time.Second, 90 * time.Second, time.Minute, time.Hour, 25 * time.Hour,
		72 * time.Hour, 90 * time.Minute, 250 * time.Millisecond} {
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

func TestRatesAndShares(t *testing.T) {
	t.Parallel()
	amount, bytes, per, err := ParseRate("5MiB/s")
	require.NoError(t, err)
	assert.Equal(t, []any{5.0 * (1 << 20), true, time.Second}, []any{amount, bytes, per})
	amount, bytes, per, err = ParseRate("500/m")
	require.NoError(t, err)
	assert.Equal(t, []any{500.0, false, time.Minute}, []any{amount, bytes, per})
	for _, text := range []string{"5MiB", "/s", "5/year", "x/s", "-1/s", "NaN/s"} {
		_, _, _, err := ParseRate(text)
		assert.Error(t, err, text)
	}
	share, err := ParseShare("95%")
	require.NoError(t, err)
	assert.InDelta(t, 0.95, share, 1e-12)
	for _, text := range []string{"95", "101%", "-1%", "%", "NaN%"} {
		_, err := ParseShare(text)
		assert.Error(t, err, text)
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
