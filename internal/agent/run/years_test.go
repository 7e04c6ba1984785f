package run

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/hostconfig"
)

// TestYearsOfOldFiles: what a file holds that is read from its start is dated by when it was last written, over a turn
// of the year too; what is written into it later is dated by when it is read.
func TestYearsOfOldFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir)
	now := time.Now().UTC()
	written := time.Date(now.Year()-2, 2, 3, 9, 0, 0, 0, time.UTC)
	at := []time.Time{written.AddDate(0, -2, 0), written.AddDate(0, -1, -4), written.AddDate(0, -1, 0), written}
	var text strings.Builder
	for _, x := range at {
		fmt.Fprintf(&text, "%s lock-2 gated[7]: %s\n", x.Format(time.Stamp), x.Format(time.RFC3339))
	}
	b.write("a.log", text.String())
	require.NoError(t, os.Chtimes(filepath.Join(dir, "a.log"), written, written))
	c, err := hostconfig.Read(
		fmt.Appendf(
			nil,
			"synaxis: 1\nhost: h\nsources:\n  - source: lines\n    read: {files: [%q], first-read: start}\n    "+
				"format: syslog\n    time: {zone: UTC}\n    send: [out]\ndestinations:\n  - destination: out\n    "+
				"deliver: {file: {path: %q}}\n    batch: {wait: 5ms}\n",
			filepath.Join(dir, "*.log"),
			filepath.Join(dir, "out"),
		),
		hostconfig.Runs,
	)
	require.NoError(t, err)
	require.NoError(t, b.Apply(c))
	defer b.Stop()
	records := func() (out [][2]string) {
		raw, _ := os.ReadFile(filepath.Join(dir, "out"))
		for line := range strings.Lines(string(raw)) {
			var r struct{ Time, Body string }
			if json.Unmarshal([]byte(line), &r) == nil {
				out = append(out, [2]string{r.Time, r.Body})
			}
		}
		return out
	}
	require.Eventually(t, func() bool { return len(records()) == len(at) }, longest, 10*time.Millisecond)
	late := now.AddDate(0, 0, -3).Truncate(time.Second)
	b.write("a.log", fmt.Sprintf("%s lock-2 gated[7]: %s\n", late.Format(time.Stamp), late.Format(time.RFC3339)))
	require.Eventually(t, func() bool { return len(records()) == len(at)+1 }, longest, 10*time.Millisecond)
	for _, r := range records() {
		assert.Equal(t, r[1], strings.Replace(r[0], ".000000000Z", "Z", 1))
	}
}
