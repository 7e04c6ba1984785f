package test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

// TestProbe: a marked record goes the real way to every end that there is, and each is told: taken and found, dropped
// by a step, refused, held by a destination that takes nothing until it is over, and not read. It is no sign of life
// of what writes the log, and leaves no file behind.
func TestProbe(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	logs, state := t.TempDir(), t.TempDir()
	good := newReceiver(t, nil)
	good.keep = &lockedBuffer{}
	bad := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if text, err := io.ReadAll(q.Body); err != nil || strings.Contains(string(text), "poison") {
			http.Error(w, "poison", http.StatusBadRequest)
		}
	}))
	defer bad.Close()
	gone := newReceiver(t, func(int) int { return http.StatusServiceUnavailable })
	table := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		id := q.URL.Query().Get("id")
		if !strings.Contains(good.keep.String(), id) {
			http.NotFound(w, q)
			return
		}
		fmt.Fprintln(w, "1 record of", id)
	}))
	defer table.Close()
	d.agent("h", state, d.joinToken(1, nil))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("h") })
	destination := func(name, url, more string) string {
		return fmt.Sprintf("---\ndestination: %s\ndeliver: {http: {url: %q%s}}\nbatch: {wait: 20ms}\n"+
			"retry: {first: 50ms, longest: 200ms}\n", name, url, more)
	}
	source := func(name, more, to string) string {
		return fmt.Sprintf("---\nsource: %s\nhosts: all\nread: {files: [%q]}\n%ssend: %s\n", name,
			filepath.Join(logs, name+".log"), more, to)
	}
	d.publish(source("fine", "format: json\nexpect: {every: 1h}\n", "[{to: good}]") +
		source("two", "format: keyvalue\nsteps: [{mask: [email]}]\n", "[{to: good}, {to: sidelined}]") +
		source("dropping", "format: keyvalue\nsteps: [{set: {a: 1}}, {drop: 'fields.n == 4'}]\n", "[{to: good}]") +
		source("refused", "format: raw\n", "[{to: bad}]") + source("held", "format: raw\n", "[{to: gone}]") +
		source("own", "format: mine\n", "[{to: good}]") + "---\nformat: mine\ntemplate: '{n:int} {who:token}'\n" +
		destination("good", good.URL, fmt.Sprintf(", look-up: %q", table.URL+"/?id={probe}")) +
		destination("bad", bad.URL, "") + destination("gone", gone.URL, "") +
		destination("sidelined", good.URL, "") + "isolate: true\n")
	d.rollOut()
	probe := func(args ...string) (string, int) { return d.cli(append([]string{"probe"}, args...)...) }
	contains := func(out string, all ...string) {
		t.Helper()
		for _, want := range all {
			assert.Contains(t, out, want)
		}
	}

	out, code := probe("fine", "--host", "h", "--field", "lane:int=4", "--field", "note=two words")
	assert.Zero(t, code, out)
	contains(out, "a line of json", "read", "queued for good", "acknowledged by good", "found at good")
	id := strings.Fields(out)[1]
	contains(good.keep.String(), `"`+wire.ProbeLabel+`":"`+id+`"`, `"lane":4`, `"note":"two words"`)
	eventually(t, time.Minute, "its log to be missed, as before", func() bool {
		return slices.ContainsFunc(d.host("h").Sources, func(s contract.HostSource) bool {
			return s.Name == "fine" && s.Verdict.Code != nil && *s.Verdict.Code == "path-matches-nothing"
		})
	})
	for _, s := range d.host("h").Sources {
		assert.Nil(t, s.Numbers.LastRecord, s.Name)
	}

	out, code = probe("two", "--host", "h", "--line", "n=1 mail=ada.vos@whimbrel.example")
	assert.Zero(t, code, out)
	contains(out, "acknowledged by good", "acknowledged by sidelined", "mail=********")
	assert.NotContains(t, out, "ada.vos")

	out, code = probe("dropping", "--host", "h", "--field", "n:int=4")
	assert.Equal(t, 1, code, out)
	contains(out, "✖", "dropped: drop  step 2, drop")

	others := make(chan struct{}) // what it takes beside shows that the record is to blame
	go func() {
		for n := 0; ; n++ {
			select {
			case <-others:
				return
			case <-time.After(100 * time.Millisecond):
				appendLines(t, filepath.Join(logs, "refused.log"), n, n+1)
			}
		}
	}()
	out, code = probe("refused", "--host", "h", "--line", "poison")
	close(others)
	assert.Equal(t, 1, code, out)
	contains(out, "refused by bad", "it is among the rejects")

	out, code = probe("held", "--host", "h", "--for", "3s")
	assert.Equal(t, 1, code, out)
	contains(out, "queued for gone", "✖ stuck: gone has not acknowledged it: ", "503")

	out, code = probe("own", "--host", "h")
	assert.Equal(t, 1, code, out)
	contains(out, "give a line: the agent cannot make one for template", "there is none to copy")
	require.NoError(t, os.WriteFile(filepath.Join(logs, "own.log"), []byte("4 ada\n5 bo\n"), 0o644))
	out, code = probe("own", "--host", "h")
	assert.Zero(t, code, out)
	contains(out, "a copy of its newest line", "5 bo")

	out, code = probe("fine", "--all-hosts")
	assert.Zero(t, code, out)
	contains(out, "HOST", "● arrived", "good ")

	for _, args := range [][]string{{"fine"}, {"fine", "--host", "h", "--all-hosts"}, {"fine", "--host", "h", "--field", "a"},
		{"fine", "--host", "h", "--field", "a:int=b"}, {"fine", "--host", "h", "--field", "a:date=b"}} {
		_, code = probe(args...)
		assert.Equal(t, 2, code, args)
	}
	for words, args := range map[string][]string{
		"runs a source nothing": {"nothing", "--host", "h"}, "there is no host x": {"fine", "--host", "x"},
		"a line or fields, not both": {"fine", "--host", "h", "--line", "{}", "--field", "a=1"},
		"it is one line":             {"fine", "--host", "h", "--line", "{}\n{}"},
		"from 1 to 600":              {"fine", "--host", "h", "--for", "11m"},
	} {
		out, code = probe(args...)
		assert.NotZero(t, code)
		assert.Contains(t, out, words)
	}
	out, _ = d.cli("audit", "list")
	assert.Contains(t, out, "source probe")

	eventually(t, time.Minute, "the files of probes to be gone", func() bool {
		left, err := os.ReadDir(filepath.Join(state, "probes"))
		return err == nil && len(left) == 0
	})
	eventually(t, time.Minute, "the books to balance", func() bool {
		for _, s := range d.host("h").Sources {
			if s.Name == "held" && s.Numbers.Pending != 1 || s.Name != "held" && s.Numbers.Pending != 0 {
				return false
			}
		}
		return true
	})
}
