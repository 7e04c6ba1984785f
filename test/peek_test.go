package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// looking is a source with private data, a drop before its mask, and a step.
func looking(logs, url string) string {
	return strings.Replace(linesCatalogue(logs+"/*.log", url), "format: raw\n",
		"format: keyvalue\nsteps:\n  - drop: fields.lane == 9\n  - set: {wide: fields.lane > 4}\n  - mask: [email]\n", 1)
}

// peekEvents reads a look to its end, or until enough is told.
func peekEvents(t *testing.T, resp *http.Response, err error, enough func(contract.PeekEvent) bool) (
	all []contract.PeekEvent, text string,
) {
	t.Helper()
	require.NoError(t, err)
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		require.Fail(t, "no look", string(raw))
	}
	in := bufio.NewScanner(resp.Body)
	in.Buffer(nil, 1<<20)
	for in.Scan() {
		text += in.Text()
		var e contract.PeekEvent
		require.NoError(t, json.Unmarshal(in.Bytes(), &e))
		all = append(all, e)
		if enough != nil && enough(e) {
			break
		}
	}
	return all, text
}

// TestPeek: records are seen as they come, with what became of them, and without private data; conditions choose;
// who leaves frees the host for others; and nothing of what is delivered changes.
func TestPeek(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	logs := t.TempDir()
	r := newReceiver(t, nil)
	state, token := t.TempDir(), d.joinToken(1, nil)
	agent := d.agent("h", state, token)
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("h") })
	d.publish(looking(logs, r.URL))
	d.rollOut()
	stop := make(chan struct{})
	written := make(chan int)
	go func() {
		n := 0
		f, err := os.OpenFile(filepath.Join(logs, "a.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		for err == nil {
			select {
			case <-stop:
				f.Close()
				written <- n
				return
			case <-time.After(10 * time.Millisecond):
				_, err = fmt.Fprintf(f, []string{"lane=4 mail=ada.vos@whimbrel.example n=%d\n",
					"lane=9 mail=bo.lee@whimbrel.example n=%d\n", "lane=5 mail=none n=%d\n"}[n%3], n)
				n++
			}
		}
		written <- -1
	}()
	ctx := context.Background()
	seconds, host := 60, "h"
	peek := func(q contract.PeekRequest, enough func(contract.PeekEvent) bool) ([]contract.PeekEvent, string) {
		q.Source, q.Seconds = "lines", &seconds
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		resp, err := d.api.Peek(ctx, q)
		return peekEvents(t, resp, err, enough)
	}
	seen := map[string]contract.TriedRecord{}
	all, text := peek(contract.PeekRequest{Host: &host}, func(e contract.PeekEvent) bool {
		if e.Record != nil {
			seen[fmt.Sprint(e.Record.Fields["lane"])] = *e.Record
		}
		return len(seen) == 3
	})
	assert.Equal(t, contract.PeekEventKindBegin, all[0].Kind)
	assert.Equal(t, []string{"h"}, *all[0].Hosts)
	assert.NotContains(t, text, "ada.vos")
	assert.NotContains(t, text, "bo.lee")
	assert.Equal(t, "drop", *seen["9"].Dropped)
	assert.Equal(t, []string{"out"}, *seen["4"].To)
	assert.Equal(t, "mail", strings.SplitN(strings.SplitN(*seen["9"].Original, " ", 3)[1], "=", 2)[0])
	for _, e := range all {
		if e.Record != nil {
			assert.Equal(t, filepath.Join(logs, "a.log"), *e.File)
		}
	}

	where := "fields.lane == 5"
	all, _ = peek(contract.PeekRequest{Where: &where}, func(e contract.PeekEvent) bool { return e.Record != nil })
	assert.InDelta(t, 5, all[len(all)-1].Record.Fields["lane"], 0)

	for range 5 { // more than one host takes at once: those that left do not count
		resp, err := d.api.PeekUnmasked(ctx, contract.PeekRequest{Source: "lines", Seconds: &seconds})
		_, text = peekEvents(t, resp, err, func(e contract.PeekEvent) bool {
			return e.Record != nil && strings.Contains(*e.Record.Original, "bo.lee@whimbrel.example")
		})
		assert.Contains(t, text, "bo.lee@whimbrel.example")
	}

	second := 1
	resp, err := d.api.Peek(ctx, contract.PeekRequest{Source: "lines", Seconds: &second})
	all, _ = peekEvents(t, resp, err, nil)
	last := all[len(all)-1]
	require.Equal(t, contract.PeekEventKindEnd, last.Kind)
	assert.Positive(t, *last.Passed)
	assert.LessOrEqual(t, *last.Looked, *last.Passed)
	assert.LessOrEqual(t, *last.Shown, *last.Looked)

	for words, q := range map[string]contract.PeekRequest{
		"runs a source nothing":  {Source: "nothing"},
		"there is no host x":     {Source: "lines", Host: ptr("x")},
		"where: ":                {Source: "lines", Where: ptr("fields.lane >")},
		"hosts: ":                {Source: "lines", Hosts: ptr("labels.site ==")},
		"seconds: a look":        {Source: "lines", Seconds: ptr(601)},
		"maximum string length ": {Source: strings.Repeat("x", 64)},
	} {
		resp, err := d.api.Peek(ctx, q)
		require.NoError(t, err)
		raw, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		resp.Body.Close()
		if words != "maximum string length " {
			assert.Contains(t, string(raw), words)
		}
		assert.GreaterOrEqual(t, resp.StatusCode, 400, words)
	}

	out, code := d.cli("peek", "h", "lines", "--for", "2s")
	assert.Zero(t, code, out)
	for _, want := range []string{"lines on h until", "lane=4 mail=[email]", "2 set: wide=false", "✖ dropped (drop)",
		"1 drop: ends the record here", "→ out", "shown of"} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "ada.vos")
	out, code = d.cli("peek", "lines", "--for", "1s", "--unmasked", "--where", "fields.lane == 9")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "lane=9 mail=bo.lee@whimbrel.example")
	assert.NotContains(t, out, "ada.vos")
	out, code = d.cli("peek", "lines", "--for", "1s", "-o", "json")
	assert.Zero(t, code, out)
	for line := range strings.Lines(out) {
		assert.True(t, json.Valid([]byte(line)), line)
	}
	out, _ = d.cli("audit", "list")
	assert.Contains(t, out, "source peek")

	resp, err = d.api.Peek(ctx, contract.PeekRequest{Source: "lines", Seconds: &seconds})
	over := false
	all, _ = peekEvents(t, resp, err, func(e contract.PeekEvent) bool {
		if !over && e.Record != nil {
			over = true
			agent.stop()
		}
		return false
	})
	require.Equal(t, contract.PeekEventKindEnd, all[len(all)-1].Kind, "the host left, so it is over")
	assert.Contains(t, *all[len(all)-2].Reason, "the agent of h")
	eventually(t, time.Minute, "the host to be away", func() bool { return !d.connected("h") })
	out, code = d.cli("peek", "lines")
	assert.NotZero(t, code)
	assert.Contains(t, out, "cannot be looked at now")
	close(stop)
	n := <-written
	require.Positive(t, n)
	d.agent("h", state, token)
	eventually(t, time.Minute, "all that is kept to arrive", func() bool {
		distinct, _ := r.count()
		return distinct == n-(n+1)/3
	})
}
