package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestPreflight: hosts rehearse a draft and change nothing; what they find is grouped, kept with the draft, and tells
// by the exit code whether there is trouble.
func TestPreflight(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	recv := newReceiver(t, nil)
	token := d.joinToken(0, nil)
	for _, name := range []string{"a", "b"} {
		d.agent(name, filepath.Join(dir, name), token)
	}
	eventually(t, 15*time.Second, "both", func() bool { return d.connected("a") && d.connected("b") })
	file := filepath.Join(dir, "x.log")
	appendLines(t, file, 0, 10)
	load := func(text string) int {
		draft := get[contract.Draft](t, first(d.api.LoadDraft(context.Background(), contract.NewDraft{Whole: true,
			Files: []contract.File{{Path: "all.yaml", Text: text}}})), nil)
		return draft.Id
	}
	good := load(linesCatalogue(file, recv.URL))
	out, code := d.cli("preflight", "run", fmt.Sprint(good))
	assert.Zero(t, code, out)
	assert.Contains(t, out, "2 hosts rehearsed, 2 found nothing to say")
	_, all := recv.count()
	assert.Zero(t, all, "nothing was collected or delivered")
	bad := load(linesCatalogue(file+"/*.log", "http://127.0.0.1:9/in"))
	out, code = d.cli("preflight", "run", fmt.Sprint(bad))
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "✖ 2 hosts: path lines: cannot be read: not a directory")
	assert.Contains(t, out, "✖ 2 hosts: destination out: ")
	assert.Contains(t, out, "connection refused")
	shown, code := d.cli("preflight", "show", fmt.Sprint(bad))
	assert.Zero(t, code)
	assert.Contains(t, shown, "2 hosts: path lines", "it is kept with the draft")
	out, code = d.cli("preflight", "run", fmt.Sprint(bad), "--hosts", `host.name == "b"`)
	assert.Equal(t, 1, code, out)
	assert.Contains(t, out, "✖ 1 host: ")
	out, code = d.cli("preflight", "run", fmt.Sprint(good), "--send-test")
	assert.Zero(t, code, out)
	_, all = recv.count()
	assert.Equal(t, 2, all, "one test record of each host")
	_, err := os.Stat(filepath.Join(dir, "a", "last-good.json"))
	assert.ErrorIs(t, err, os.ErrNotExist, "nothing runs on the hosts")
	_, code = d.cli("preflight", "show", "99")
	assert.Equal(t, 1, code)
	_, code = d.cli("preflight", "run", "x")
	assert.Equal(t, 2, code)
	require.True(t, d.connected("a"))
}

// TestRevisionDiff: two revisions are held against each other, both ways.
func TestRevisionDiff(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	token := d.joinToken(0, nil)
	for _, name := range []string{"a", "b"} {
		d.agent(name, filepath.Join(t.TempDir(), name), token)
	}
	eventually(t, 15*time.Second, "both", func() bool { return d.connected("a") && d.connected("b") })
	d.publish(linesCatalogue("/srv/${host.name}/one.log", "http://127.0.0.1:9/in"))
	d.publish(linesCatalogue("/srv/${host.name}/two.log", "http://127.0.0.1:9/in"))
	out, code := d.cli("revision", "diff", "1", "2")
	assert.Zero(t, code, out)
	assert.Contains(t, out, "Revision 2 against revision 1: 1 definition; 2 hosts would change, 0 stay as they are.")
	assert.Contains(t, out, "2 hosts change like this: a, b", "the host's own name does not part them")
	assert.Contains(t, out, "/srv/a/two.log")
	back, code := d.cli("revision", "diff", "2", "1")
	assert.Zero(t, code)
	assert.NotEqual(t, out, back)
	_, code = d.cli("revision", "diff", "2", "7")
	assert.Equal(t, 1, code)
	_, code = d.cli("revision", "diff", "2", "x")
	assert.Equal(t, 2, code)
}
