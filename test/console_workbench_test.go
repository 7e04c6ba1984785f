package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/test/browser"
)

// TestWorkbenchInTheConsole: lines are pasted, a format is chosen among candidates, a part of a line becomes a field,
// private data is masked, and all of it is kept in a draft, with samples that hold nothing private; a log of a host
// becomes a source.
func TestWorkbenchInTheConsole(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	root := filepath.Join(dir, "log")
	require.NoError(t, os.MkdirAll(root, 0o755))
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(root, "crew.log"),
			[]byte(strings.Repeat("2031-04-02T06:15:09Z INFO ramp 4 is shut\n", 50)),
			0o644,
		),
	)
	d.publish(
		"destination: out\ndeliver: {discard: {}}\n---\nsource: lanes\nhosts: all\nread: {files: " +
			"[/nowhere/*.log]}\nformat: raw\nsend: [out]\n",
	)
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the host to join", func() bool { return d.connected("gate-a") })
	out, code := d.cli("host", "set", "gate-a", "log_root="+root)
	require.Zero(t, code, out)

	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	tabContext, end, err := browser.New(ctx, 1280, 800)
	require.NoError(t, err)
	defer end()
	tab := browser.Tab{Context: tabContext}
	see := func(text string) { t.Helper(); require.NoError(t, tab.See(text)) }
	click := func(what string) { t.Helper(); require.NoError(t, tab.Click(what)) }
	fill := func(where, text string) { t.Helper(); require.NoError(t, tab.Type(where, text)) }
	run := func(script string) string {
		t.Helper()
		out, err := tab.Eval(script)
		require.NoError(t, err)
		return out
	}
	require.NoError(t, tab.Open(get[contract.SignInLink](t, first(d.api.CreateSignInLink(ctx)), nil).Url))
	see("What is wrong")

	click("Workbench")
	see("What reads the lines appears here")
	var lines strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&lines, "2031-04-02 06:15:%02d INFO ramp %d opened for crew%d@skerry.example\n", i%60, i%7, i)
	}
	lines.WriteString("ramp 4 rebooted\n2031-04-02 06:16:00 WARN ramp 4 slow again\n")
	fill("textarea", lines.String())
	see("template")
	see("raw")
	see("The times have no zone: choose one")
	see("✖ 1 not read")
	see("email — mask it")
	fill("#zone", "Europe/Lisbon")
	require.NoError(t, tab.Gone("The times have no zone"))
	assert.Contains(
		t,
		run(`document.querySelector('[role=grid] tbody tr').innerText`),
		"not read",
		"what was not read comes first",
	)
	assert.Less(
		t,
		run(`String(document.querySelectorAll('[role=grid] tbody tr').length)`),
		"60",
		"only the rows in sight are drawn",
	)
	took := ""
	eventually(t, 10*time.Second, "the trying to come to rest", func() bool {
		took = run(`/1,002 records in (\d+) ms/.exec(document.body.innerText)?.[1] ?? ''`)
		return took != ""
	})
	t.Logf("1,002 records were tried in %s ms, over the wire", took)

	click("▲ 1,000 email — mask it")
	see("email masked")
	see("steps: [{mask: [email]}]")
	run(`document.querySelectorAll('[role=grid] tbody tr')[1].click(); ''`)
	see("As it goes out to out")
	see("1 mask")
	assert.NotContains(t, run(`document.querySelector('section[aria-label^="Record at"]').innerText`), "crew0@")

	// A part of the line becomes a field, and the template says so.
	click("Format")
	run(
		`(() => { const s = document.querySelector('section[aria-label^="Record at"] [data-from]'); const n = s.firstChild; const i = n.textContent.indexOf('ramp ') + 5
		const r = document.createRange(); r.setStart(n, i); r.setEnd(n, i + 1); getSelection().removeAllRanges(); getSelection().addRange(r)
		s.dispatchEvent(new MouseEvent('mouseup', { bubbles: true })); return '' })()`,
	)
	see("a field of the template")
	fill("section form input", "pier")
	click("Make it a field")
	see("{pier:int}")
	see("edited by hand")
	eventually(t, 10*time.Second, "the column", func() bool {
		return strings.Contains(run(`document.querySelector('[role=grid] thead')?.innerText ?? ''`), "pier int")
	})

	click("Save to a draft…")
	see("1 line of these hold no private data")
	click("Keep in the draft")
	see("From the workbench: new-log")
	see("In draft 2")
	text, code := d.cli("draft", "show", "2", "format", "new-log")
	require.Zero(t, code, text)
	assert.Contains(t, text, "ramp 4 slow again")
	assert.Contains(t, text, "pier: 4")
	assert.NotContains(t, text, "skerry", "no sample holds private data")
	out, code = d.cli("draft", "check", "2")
	assert.Contains(t, out, "nothing found", "what was saved is good, samples and all: %s", out)
	assert.Zero(t, code, out)

	// What stands on a later line of a record is not masked because its first line holds nothing.
	require.NoError(t, tab.Open(d.url+"/workbench"))
	fill(
		"textarea",
		"Apr 02, 2031 6:15:09 AM gate.Ramp open\nINFO: opened for kelp@skerry.example\nApr 02, 2031 6:15:10 AM "+
			"gate.Ramp shut\nWARNING: shut by wrasse@skerry.example\n",
	)
	see("each of several lines")
	see("▲ 2 email — mask it")
	click("▲ 2 email — mask it")
	see("● 2 email masked")

	// A file in another encoding, packed, is characters here, and the source says how a host must read it.
	file := filepath.Join(dir, "tide.log.1.gz")
	var z bytes.Buffer
	pack := gzip.NewWriter(&z)
	_, _ = pack.Write(
		[]byte(wide("\ufeff2031-04-02T06:15:09Z INFO Küste frei\r\n2031-04-02T06:15:10Z WARN Fähre später\r\n")),
	)
	require.NoError(t, pack.Close())
	require.NoError(t, os.WriteFile(file, z.Bytes(), 0o600))
	require.NoError(t, tab.Open(d.url+"/workbench"))
	require.NoError(t, tab.File("input[type=file]", file))
	see("2 lines of utf-16le, from tide.log.1.gz")
	see("Fähre später")
	click("Source")
	see("encoding: utf-16le")
	require.NoError(t, os.WriteFile(file, []byte("\x7fELF\x02\x01\x01\x00\x00\x00\x00\x03\x00"), 0o600))
	require.NoError(t, tab.File("input[type=file]", file))
	see("tide.log.1.gz: much of it is not text")

	// From a host, and from there to a source.
	require.NoError(t, tab.Open(d.url+"/hosts/gate-a/uncollected"))
	click("Look for logs that nobody collects")
	see("crew.log")
	click("Draft a source")
	see("source in draft 3")
	see("${setting.log_root}/crew.log")
	require.NoError(t, tab.Open(d.url+"/workbench?host=gate-a&path="+filepath.Join(root, "crew.log")))
	see("50 lines, from")
	see("as on gate-a")
	require.NoError(t, tab.Open(d.url+"/workbench"))
	click("From a host…")
	see("before anything is masked")
	fill("#from-name", "gate-a")
	fill("#from-path", filepath.Join(root, "nothing.log"))
	click("Read the lines")
	see("no such file")
	require.NoError(t, tab.Open(d.url+"/coverage"))
	see("Nothing is masked in 1 of 1 source.")
}
