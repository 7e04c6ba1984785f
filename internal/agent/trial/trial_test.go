package trial

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/wire"
)

// longest bounds a wait that would otherwise hang. It measures no speed: the machine may be busy.
const longest = time.Minute

const plain = `sources:
  - source: gates
    read: {files: [%[1]q]}
    format: gate
    send: [one]
formats:
  - format: gate
    template: '{lane:int} {who} {result}'
destinations:
  - destination: one
    deliver: {discard: {}}
`

const changed = `sources:
  - source: gates
    read: {files: [%[1]q]}
    format: gate
    steps:
      - drop: fields.verdict == "test"
      - mask: [names]
    send: [one, two]
  - source: other
    read: {files: ["%[1]s.other"]}
    format: raw
    send: [one]
masks:
  - mask: names
    find: 'ada'
    fill: '#'
formats:
  - format: gate
    template: '{lane} {who} {verdict}'
destinations:
  - destination: one
    deliver: {discard: {}}
  - destination: two
    deliver: {file: {path: /nowhere/out}}
`

func read(t *testing.T, text string, args ...any) hostconfig.Config {
	t.Helper()
	c, err := hostconfig.Read([]byte("synaxis: 1\nhost: h\n"+fmt.Sprintf(text, args...)), hostconfig.Runs)
	require.NoError(t, err)
	return c
}

// runs is a host that runs a config, and reads files alone.
func runs(c hostconfig.Config) Host {
	return Host{Config: func() hostconfig.Config { return c }, Tap: func(string) *pipeline.Tap { return nil },
		Named: func(string) []string { return nil }}
}

func write(t *testing.T, path, text string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

func eventually(t *testing.T, what string, done func() bool) {
	t.Helper()
	require.Eventually(t, done, longest, 20*time.Millisecond, what)
}

// TestBothWays: what came before is not read; what comes is treated both ways, and the trial tells what differs.
func TestBothWays(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "a.log")
	write(t, path, "1 old passed\n")
	tr, err := Start("x", runs(read(t, plain, path)), read(t, changed, path), time.Minute)
	require.NoError(t, err)
	defer tr.Stop()
	time.Sleep(3 * turnEvery)
	write(t, path, "4 ada passed\n5 eve passed\nnot a gate line at all\n6 half")
	source := func(name string) wire.TrialSource {
		for _, s := range tr.Report().Sources {
			if s.Name == name {
				return s
			}
		}
		return wire.TrialSource{}
	}
	eventually(t, "the lines", func() bool { s := source("gates"); return s.Now.Read == 3 && s.Then.Read == 3 })
	write(t, path, " done\n")
	eventually(t, "the rest of a line", func() bool {
		s := source("gates")
		return s.Now.Read == 4 &&
			s.Then.Read == 4
	})
	s := source("gates")
	assert.EqualValues(t, 1, s.Then.Masked)
	assert.EqualValues(t, 0, s.Now.Masked)
	assert.Contains(t, s.Now.Fields, "result")
	assert.NotContains(t, s.Then.Fields, "result")
	assert.Contains(t, s.Then.Fields, "verdict")
	assert.Equal(t, map[string]int64{"int": 3}, s.Now.Fields["lane"])
	assert.Equal(t, map[string]int64{"text": 4}, s.Then.Fields["lane"])
	assert.NotContains(t, s.Now.Destinations, "two")
	assert.EqualValues(t, s.Then.Read-s.Then.Dropped, s.Then.Destinations["two"].Records)
	assert.Positive(t, s.Then.Destinations["two"].Bytes)
	assert.NotEmpty(t, s.Examples)
	for _, e := range s.Examples {
		assert.NotContains(t, e.Then, "ada", "examples are masked as they would be sent")
	}
	o := source("other")
	assert.Nil(t, o.Now)
	require.NotNil(t, o.Then)
	write(t, path+".other", "new\n")
	eventually(t, "a file that comes later, from its start", func() bool { return source("other").Then.Read == 1 })
}

// TestSameIsSame: a config beside itself differs in nothing, and goes on over rotations and truncations.
func TestSameIsSame(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "a.log")
	write(t, path, "")
	c := read(t, plain, path)
	tr, err := Start("x", runs(c), c, time.Minute)
	require.NoError(t, err)
	defer tr.Stop()
	time.Sleep(3 * turnEvery)
	read := func() int64 { return tr.Report().Sources[0].Now.Read }
	write(t, path, "1 a b\n2 c d\n")
	eventually(t, "two lines", func() bool { return read() == 2 })
	require.NoError(t, os.Rename(path, path+".1"))
	write(t, path, "3 e f\n")
	eventually(t, "the next file", func() bool { return read() == 3 })
	require.NoError(t, os.Truncate(path, 0))
	time.Sleep(3 * turnEvery)
	write(t, path, "4 g h\n")
	eventually(t, "what comes after a truncation", func() bool { return read() == 4 })
	s := tr.Report().Sources[0]
	assert.Zero(t, s.Differ)
	assert.Equal(t, s.Now.Fields, s.Then.Fields)
}

// TestTooMuch: what is more than it may take of a core is passed over, and that is told.
func TestTooMuch(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "a.log")
	write(t, path, "")
	c := read(t, plain, path)
	tr, err := Start("x", runs(c), c, time.Minute)
	require.NoError(t, err)
	defer tr.Stop()
	time.Sleep(3 * turnEvery)
	write(t, path, strings.Repeat("1 somebody passed\n", 600_000))
	eventually(t, "it to pass some over", func() bool { return tr.Report().Skipped > behind })
	eventually(t, "it to read the end", func() bool { return tr.Report().Sources[0].Now.Read > 100 })
}

// TestEnds: by its time, by being stopped, and one host runs one at a time.
func TestEnds(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "a.log")
	c := read(t, plain, path)
	tr, err := Start("x", runs(c), c, 200*time.Millisecond)
	require.NoError(t, err)
	eventually(t, "its time to be over", func() bool { return tr.Report().Ended })

	var all Trials
	config := func(text []byte) (hostconfig.Config, error) { return hostconfig.Read(text, hostconfig.Runs) }
	text := "synaxis: 1\nhost: h\n" + fmt.Sprintf(plain, path)
	ask := func(id string, start, stop bool) (*wire.Trial, error) {
		return all.Answer(wire.Ask{Config: text, Trial: &wire.TrialAsk{ID: id, Start: start, Stop: stop,
			Seconds: 60}}, runs(c), config)
	}
	_, err = ask("a", false, false)
	require.ErrorContains(t, err, "runs no such trial")
	_, err = ask("a", true, false)
	require.NoError(t, err)
	_, err = ask("b", true, false)
	require.ErrorContains(t, err, "another trial runs")
	_, err = ask("a", false, true)
	require.NoError(t, err)
	eventually(t, "it to end", func() bool { r, err := ask("a", false, false); return err == nil && r.Ended })
	_, err = ask("b", true, false)
	require.NoError(t, err)
	_, err = all.Answer(wire.Ask{}, runs(c), config)
	require.Error(t, err)
	all.runs.Stop()
}
