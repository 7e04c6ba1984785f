package test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// TestUnclaimed: what no format read and no route took is counted and shown from all hosts, one of a shape, without
// private data; the console takes it to the workbench.
func TestUnclaimed(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	logs := t.TempDir()
	r := newReceiver(t, nil)
	token := d.joinToken(0, nil)
	for _, name := range []string{"a", "b"} {
		d.agent(name, t.TempDir(), token)
	}
	eventually(t, time.Minute, "both", func() bool { return d.connected("a") && d.connected("b") })
	text := linesCatalogue(logs+"/*.log", r.URL)
	text = strings.Replace(text, "format: raw\n", "format: json\nsteps: [{mask: [email]}]\n", 1)
	d.publish(text)
	d.rollOut()
	out, code := d.cli("unclaimed")
	assert.Zero(t, code)
	assert.Contains(t, out, "Nothing.")
	require.NoError(t, os.WriteFile(filepath.Join(logs, "x.log"), []byte("{\"lane\": 9}\n{\"lane\": 2, \"n\": 1}\n"+
		"{\"lane\": 3, \"n\": 5}\nno json for ada.vos@whimbrel.example\nhalf {\n"), 0o644))
	var l contract.UnclaimedList
	eventually(t, time.Minute, "both to have told", func() bool {
		l = get[contract.UnclaimedList](t, first(d.api.ListUnclaimed(context.Background(), nil)), nil)
		return len(l.Items) == 1 && l.Items[0].Records == 4 && len(l.Items[0].Examples) == 2 &&
			l.Items[0].Examples[1].Hosts == 2
	})
	assert.Empty(t, l.Silent)
	for _, u := range l.Items {
		assert.Equal(t, "lines", u.Source)
		assert.InDelta(t, 0.4, u.Share, 0.001)
		require.NotEmpty(t, u.Examples)
		for _, e := range u.Examples {
			assert.Equal(t, 2, e.Hosts)
			assert.NotContains(t, e.Text, "ada.vos")
		}
	}
	out, code = d.cli("unclaimed", "lines", "--hosts", `host.name == "a"`)
	assert.Zero(t, code)
	assert.Contains(t, out, "▲ lines: 2 records not read by its format, 40.0 %")
	assert.NotContains(t, out, "other")
	out, code = d.cli("unclaimed", "nothing")
	assert.Zero(t, code)
	assert.Contains(t, out, "Nothing.")

	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	tab := d.browse(ctx)
	require.NoError(t, tab.Open(d.url+"/unclaimed"))
	require.NoError(t, tab.See("4 not read by its format, 40 %"))
	require.NoError(t, tab.Click("Take these to the workbench"))
	require.NoError(t, tab.See("As it came in"))
}
