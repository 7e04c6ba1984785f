package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var fence = regexp.MustCompile("(?ms)^```\\w*\n(.*?)^```$")

// TestReadingPage follows the newcomer's page to the letter: what it has her write is written, and what it prints is
// what the commands print.
func TestReadingPage(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../docs/reading.md")
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "crane"), 0o700))
	require.NoError(t, os.Symlink(filepath.Join(bin, "synaxis"), filepath.Join(dir, "synaxis")))
	commands := 0
	for _, m := range fence.FindAllStringSubmatch(string(page), -1) {
		block := m[1]
		switch {
		case strings.HasPrefix(block, "[02.04.2031"):
			require.NoError(t, os.WriteFile(filepath.Join(dir, "crane.log"), []byte(block), 0o600))
		case strings.HasPrefix(block, "format: "):
			require.NoError(t, os.WriteFile(filepath.Join(dir, "crane", "crane.yaml"), []byte(block), 0o600))
		default:
			line, want, _ := strings.Cut(block, "\n")
			line, ok := strings.CutPrefix(line, "$ ")
			require.True(t, ok, "a block that is neither a file nor a command: %s", block)
			cmd := exec.Command("sh", "-c", line)
			cmd.Dir = dir
			cmd.Env = []string{"HOME=" + dir, "PATH=" + dir + ":/usr/bin:/bin"}
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s: %s", line, out)
			commands++
			if strings.HasPrefix(line, "synaxis check") { // also measures the masks, which a busy machine makes slow
				assert.Contains(t, string(out), "5 definitions in 1 file: ")
				assert.NotContains(t, string(out), "✖")
				continue
			}
			got := regexp.MustCompile(`(?m) +$`).ReplaceAllString(string(out), "")
			assert.Equal(t, strings.TrimRight(want, "\n"), strings.TrimRight(got, "\n"), line)
		}
	}
	assert.Equal(t, 7, commands)
}
