package run

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/hostconfig"
)

// TestLinks: who may write into a folder of logs cannot have the agent read what is elsewhere, least of all its own
// folder; links between folders that the source names, and all others where it says so, are followed.
func TestLinks(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		links, pattern string
		want           []string
	}{
		"near":               {"near", "logs/*.log", []string{"plain", "within"}},
		"near, both folders": {"near", "{logs,other}/*.log", []string{"plain", "within", "elsewhere"}},
		"near, deep":         {"near", "logs/**/*.log", []string{"plain", "within"}},
		"follow":             {"follow", "logs/*.log", []string{"plain", "within", "elsewhere"}},
		"follow, deep": {"follow", "logs/**/*.log", []string{"plain", "within", "elsewhere",
			"in a linked folder"}},
		"the folder is a link": {"near", "alias/*.log", []string{"plain", "within"}},
		"one file by its name": {"near", "logs/to-other.log", nil},
		"one file, follow":     {"follow", "logs/to-other.log", []string{"elsewhere"}},
		"what holds the agent": {"follow", "**/*.log", []string{"plain", "within", "elsewhere",
			"in a linked folder"}},
		"what holds the agent ": {"near", "**/*.log", []string{"plain", "within", "elsewhere", "in a linked folder"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			b := newBench(t, dir)
			defer b.Stop()
			for _, d := range []string{"logs/sub", "other", "far"} {
				require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
			}
			b.write("logs/plain.log", "plain\n")
			b.write("logs/sub/within.txt", "within\n")
			b.write("other/elsewhere.log", "elsewhere\n")
			b.write("far/far.log", "in a linked folder\n")
			b.write("state/own.log", "the agent's secret\n")
			for at, to := range map[string]string{"logs/to-within.log": "sub/within.txt",
				"logs/to-other.log": "../other/elsewhere.log", "logs/to-state.log": filepath.Join(dir, "state",
					"own.log"),
				"logs/state": "../state", "logs/linked": "../far", "alias": "logs", "logs/loop.log": "loop.log",
				"logs/nowhere.log": "/nowhere"} {
				require.NoError(t, os.Symlink(to, filepath.Join(dir, at)))
			}
			require.NoError(t, b.Apply(b.config(c.pattern, "")), "near is the default")
			if c.links == "follow" {
				text := fmt.Appendf(
					nil,
					"synaxis: 1\nhost: h\nsources:\n  - source: lines\n    read: {files: [%q], first-read: start, "+
						"links: follow}\n    format: raw\n    send: [out]\ndestinations:\n  - destination: out\n    "+
						"deliver: {file: {path: %q}}\n    batch: {wait: 5ms}\n",
					filepath.Join(dir, c.pattern),
					filepath.Join(dir, "out"),
				)
				config, err := hostconfig.Read(text, hostconfig.Runs)
				require.NoError(t, err)
				require.NoError(t, b.Apply(config))
			}
			require.Eventually(
				t,
				func() bool { return len(b.arrived()) >= len(c.want) },
				longest,
				10*time.Millisecond,
				"%v of %v",
				b.arrived(),
				c.want,
			)
			time.Sleep(700 * time.Millisecond) // another look at the patterns
			var got []string
			for body := range b.arrived() {
				got = append(got, body)
			}
			assert.ElementsMatch(t, c.want, got)
		})
	}
}

// TestSwappedFolder: a folder of logs that is replaced by a link while the agent runs is not followed.
func TestSwappedFolder(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir)
	defer b.Stop()
	for _, d := range []string{"logs", "private"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	b.write("logs/a.log", "a\n")
	b.write("private/p.log", "private\n")
	require.NoError(t, b.Apply(b.config("logs/*.log", "")))
	require.Eventually(t, func() bool { return b.arrived()["a"] == 1 }, longest, 10*time.Millisecond)
	require.NoError(t, os.Rename(filepath.Join(dir, "logs"), filepath.Join(dir, "away")))
	require.NoError(t, os.Symlink("private", filepath.Join(dir, "logs")))
	require.Eventually(
		t,
		func() bool { return b.Sources()[0].Code == "not-readable" },
		longest,
		10*time.Millisecond,
	)
	assert.Contains(t, b.Sources()[0].Reason, "read: {links: follow}")
	assert.NotContains(t, b.arrived(), "private")
}

// TestOwnFolder: no config reads or writes in the agent's own folder, by whatever way it is named.
func TestOwnFolder(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := newBench(t, dir)
	defer b.Stop()
	require.NoError(t, os.Symlink("state", filepath.Join(dir, "alias")))
	for _, place := range []string{"state", "state/", "state/deep/er", "alias", "./state", "other/../state"} {
		for what, text := range map[string]string{
			"read": fmt.Sprintf("sources:\n  - source: lines\n    read: {files: [%q]}\n    format: raw\n    send: "+
				"[out]\ndestinations:\n  - destination: out\n    deliver: {discard: {}}\n", dir+"/"+place+"/*.json"),
			"write": fmt.Sprintf("sources:\n  - source: lines\n    read: {files: [/nowhere]}\n    format: raw\n    "+
				"send: [out]\ndestinations:\n  - destination: out\n    deliver: {file: {path: %q}}\n", dir+"/"+place+
				"/identity.json"),
		} {
			config, err := hostconfig.Read([]byte("synaxis: 1\nhost: h\n"+text), hostconfig.Runs)
			require.NoError(t, err, "%s %s", what, place)
			assert.ErrorContains(t, b.Check(config), "the agent's own folder", "%s %s", what, place)
			assert.ErrorContains(t, b.Apply(config), "the agent's own folder", "%s %s", what, place)
		}
	}
}
