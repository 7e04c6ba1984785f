package test

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestConsoleKnowing: by keys to a host, its numbers as a picture, where one changes, a notice that somebody looks
// after, and maintenance that begins and ends.
func TestConsoleKnowing(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	d.agent("gate-a", filepath.Join(dir, "state"), d.joinToken(1, map[string]string{"site": "northpier"}))
	eventually(t, time.Minute, "the agent", func() bool { return d.connected("gate-a") })
	d.publish(fmt.Sprintf("source: gates\nhosts: all\nread: {files: [\"%s/gate.log\"]}\nformat: raw\nsend: [nowhere]\n"+
		"---\ndestination: nowhere\ndeliver: {discard: {}}\n---\nnotice: gates-silent\nwhen: source == \"gates\"\n"+
		"to: [{syslog: {address: \"127.0.0.1:9\"}}]\n", dir))
	d.rollOut()
	eventually(t, time.Minute, "something to be wrong", func() bool {
		l := get[contract.NoticeList](t, first(d.api.ListNotices(context.Background())), nil)
		return len(l.Items[0].Alerts) == 1
	})
	ctx, stop := context.WithTimeout(context.Background(), 4*time.Minute)
	defer stop()
	tab := d.browse(ctx)
	js := func(script string) string {
		t.Helper()
		out, err := tab.Eval(script)
		require.NoError(t, err)
		return out
	}
	see := func(text string) {
		t.Helper()
		require.NoError(t, tab.See(text))
	}
	see("northpier")
	see("gates: no file matches")
	js(`(window.dispatchEvent(new KeyboardEvent('keydown', { key: 'k', ctrlKey: true })), '')`)
	const field = `input[aria-label^="Go to"]`
	require.NoError(t, tab.Type(field, "gate-a"))
	eventually(t, time.Minute, "the host among what is found", func() bool {
		return js(`[...document.querySelectorAll('[role=option]')].map((e) => e.innerText.replace('\n', ' ')).join()`) ==
			"gate-a host"
	})
	key := func(name string) string {
		return fmt.Sprintf(`(document.querySelector('%s').dispatchEvent(new KeyboardEvent('keydown',
			{ key: '%s', bubbles: true, cancelable: true })), '')`, field, name)
	}
	js(key("ArrowDown"))
	js(key("Enter"))
	see("Uncollected")
	assert.Equal(t, "/hosts/gate-a", js(`location.pathname`))
	require.NoError(t, tab.Click("Numbers"))
	see("Where does it change?")
	eventually(t, time.Minute, "the picture", func() bool { return js(`String(!!document.querySelector('.chart canvas'))`) == "true" })
	require.NoError(t, tab.Click("Find it"))
	see("Read goes as it went")

	require.NoError(t, tab.Click("Sources"))
	require.NoError(t, tab.Click("probe"))
	require.NoError(t, tab.Click("Send it"))
	see("acknowledged by nowhere")
	see("arrived on 1")
	require.NoError(t, tab.Click("Close"))
	require.NoError(t, tab.Click("look"))
	see("for another")
	require.NoError(t, tab.Click("Stop"))
	see("Stopped")
	require.NoError(t, tab.Click("Flow"))
	see("What hosts read and destinations acknowledged")
	require.NoError(t, tab.Click("What it costs"))
	see("What each source costs each destination in a day")

	require.NoError(t, tab.Click("Notices"))
	see("gates-silent")
	see("no file matches")
	require.NoError(t, tab.Click("Look after it…"))
	require.NoError(t, tab.Type(`input[aria-label="A word to others"]`, "the scanner is new"))
	require.NoError(t, tab.Click("Look after it"))
	see("admin looks after it: the scanner is new")
	require.NoError(t, tab.Type(`input[placeholder="site=northpier"]`, "site=northpier"))
	require.NoError(t, tab.Click("Start"))
	see("Nothing is told of site=northpier until")
	require.NoError(t, tab.Click("End it"))
	require.NoError(t, tab.Gone("Nothing is told of"))
}
