package hostconfig

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const good = `synaxis: 1
host: "g1"
hash: abc
labels: {"a": "b"}
sources:
  - source: gates  # revision 3
    read: {files: ["/a"], first-read: now}
    format: "raw"
    send: ["desk"]
destinations:
  - destination: desk
    deliver: {discard: {}}
`

func TestRead(t *testing.T) {
	t.Parallel()
	c, err := Read([]byte(good), Runs)
	require.NoError(t, err)
	assert.Equal(t, "g1", c.Host)
	assert.Equal(t, "abc", c.Hash)
	assert.Equal(t, "gates", c.Sources[0].Name)
}

// TestRefusesWhatItDoesNotKnow: a part from the future is never passed over.
func TestRefusesWhatItDoesNotKnow(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, want string }{
		"form":    {"synaxis: 2\n", "form 2 of the host config; this agent reads form 1"},
		"section": {good + "muscles: []\n", `has no key "muscles"`},
		"key":     {good[:len(good)-1] + "\n    teleport: true\n", `has no key "teleport"`},
		"later": {"synaxis: 1\nsources:\n  - source: ss\n    read: {files: [/a], links: follow}\n    format: raw\n" +
			"    send: [dd]\ndestinations:\n  - destination: dd\n    deliver: {discard: {}}\n",
			"needs the part links, which this agent cannot run"},
		"of the desk": {good[:len(good)-1] + "\n    budget: 1GiB/day\n", `has no key "budget"`},
		"delivery": {"synaxis: 1\ndestinations:\n  - destination: dd\n    deliver: {carrier-pigeon: {}}\n",
			`has no key "carrier-pigeon"`},
		"format": {"synaxis: 1\nsources:\n  - source: ss\n    read: {files: [/a]}\n    format: future\n    " +
			"send: [dd]\ndestinations:\n  - destination: dd\n    deliver: {discard: {}}\n", "needs format future"},
		"destination": {"synaxis: 1\nsources:\n  - source: ss\n    read: {files: [/a]}\n    format: raw\n    send: " +
			"[dd]\n", "sends to dd, which is not in the config"},
		"two":     {good + "---\n" + good, "expected one document"},
		"no yaml": {"a: [", ""},
		"empty":   {"", "expected one document"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			runs := Runs
			if name == "later" { // an agent of before
				runs = Baseline
			}
			_, err := Read([]byte(c.text), runs)
			require.ErrorContains(t, err, c.want)
		})
	}
}

// TestOlderAgent: an agent that lacks a part refuses a config that needs it.
func TestOlderAgent(t *testing.T) {
	t.Parallel()
	text := "synaxis: 1\nsources:\n  - source: ss\n    read: {files: [/a]}\n    format: syslog\n    send: " +
		"[dd]\ndestinations:\n  - destination: dd\n    deliver: {discard: {}}\n"
	_, err := Read([]byte(text), Baseline)
	require.ErrorContains(t, err, "needs the part format-syslog")
	_, err = Read([]byte(text), Runs)
	require.NoError(t, err)
	for _, more := range []string{"masks: [{mask: mm, find: x}]\n", "sources:\n  - source: ss\n    read: {files: " +
		"[/a]}\n    format: raw\n    guards: [phone]\n    send: [dd]\n"} {
		_, err = Read([]byte("synaxis: 1\n"+more), Baseline)
		require.ErrorContains(t, err, "needs the part masks", "an agent that cannot mask does not pass over it")
	}
	_, err = Read(
		[]byte(
			"synaxis: 1\nsources:\n  - source: ss\n    read: {files: [/a]}\n    format: raw\n    steps: [{drop: "+
				"'true'}]\n    send: [{to: dd, when: 'level > 1'}]\n",
		),
		Baseline,
	)
	require.ErrorContains(t, err, "needs the part steps")
	require.ErrorContains(t, err, "needs the part conditions")
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(good))
	f.Fuzz(func(_ *testing.T, text []byte) { _, _ = Read(text, Runs) })
}
