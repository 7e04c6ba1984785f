package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// violation is what axe finds on a page.
type violation struct {
	ID, Impact, Help string
	Nodes            []struct {
		HTML           string
		FailureSummary string
	}
}

// TestNoBarriers runs axe over every page of the console, and over what opens on them, in light and in dark. It finds
// nothing serious.
func TestNoBarriers(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	d := startDesk(t)
	ctx, stop := context.WithTimeout(context.Background(), 6*time.Minute)
	defer stop()
	logs := t.TempDir()
	lines := strings.Repeat("2031-04-02T06:15:09Z lane=4 call +351 210 555 017\n", 40)
	require.NoError(t, os.WriteFile(filepath.Join(logs, "gate.log"), []byte(lines), 0o600))
	list := "host,label.role,label.site,setting.root\n"
	for i := range 30 {
		list += fmt.Sprintf("gate-%02d,gate,northpier,/srv\n", i)
	}
	get[contract.ImportResult](t, first(d.api.ImportInventory(ctx, contract.InventoryImport{File: "x.csv",
		Text: list})), nil)
	d.publish(linesCatalogue(filepath.Join(logs, "*.log"), "http://127.0.0.1:9/in") +
		"---\nnotice: no-lines\nwhen: state != \"\"\nto: [{syslog: {address: \"127.0.0.1:9\"}}]\n")
	d.agent("gate-00", t.TempDir(), d.hostToken("gate-00"))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("gate-00") })
	get[contract.Rollout](t, first(d.api.StartRollout(ctx, contract.StartRolloutJSONRequestBody{Plan: &oneWave})), nil)
	get[contract.Host](t, first(d.api.RetireHost(ctx, "gate-29")), nil)
	_, code := d.cliIn("x\n", "secret", "set", "door")
	require.Zero(t, code)
	grant := get[contract.CreatedGrant](t, first(d.api.GrantSecret(ctx, "door", contract.NewGrant{To: "Ines"})), nil)
	second := "mask: berth\nfind: '\\d+'\nsamples: {hits: ['44']}\n---\nsource: more\nhosts: {role: gate}\n" +
		"read: {files: [/nowhere/*.log]}\nformat: gone\nsend: [{to: out, when: level >= WARN}, out]\n"
	draft := contract.NewDraft{Files: []contract.File{{Path: "more.yaml", Text: second}}}
	require.Equal(t, 2, get[contract.Draft](t, first(d.api.LoadDraft(ctx, draft)), nil).Id)

	tab := d.browse(ctx)
	check := func(what string) {
		t.Helper()
		_, err := tab.Eval(string(axe) + "\n;''")
		require.NoError(t, err, what)
		_, err = tab.Eval(`(() => { window.found = ''; setTimeout(() => window.axe.run(document, { resultTypes: ['violations'] })
			.then((r) => { window.found = JSON.stringify(r.violations.map((v) => ({ id: v.id, impact: v.impact,
				help: v.help,
				nodes: v.nodes.slice(0, 3).map((n) => ({ html: n.html.slice(0, 200),
					failureSummary: n.failureSummary })) }))) }), 200)
			return '' })()`)
		require.NoError(t, err, what)
		out := ""
		eventually(t, 30*time.Second, "axe on "+what, func() bool {
			out, err = tab.Eval(`window.found`)
			return err == nil && out != ""
		})
		var found []violation
		require.NoError(t, json.Unmarshal([]byte(out), &found), what)
		for _, v := range found {
			if v.Impact == "serious" || v.Impact == "critical" {
				assert.Fail(t, what, "%s (%s): %s\n%+v", v.ID, v.Impact, v.Help, v.Nodes)
			} else {
				t.Logf("%s: %s (%s): %s", what, v.ID, v.Impact, v.Help)
			}
		}
	}
	pages := []struct{ path, sees string }{
		{"/", "What is wrong"}, {"/hosts", "gate-00"}, {"/hosts?chosen=gate-01", "is chosen"}, {"/hosts?retired=yes",
			"gate-29"},
		{"/hosts/gate-00", "lines"}, {"/hosts/gate-00/uncollected", "gate-00"}, {"/hosts/gate-00/config",
			"synaxis: 1"},
		{"/hosts/gate-00/facts", "linux"}, {"/catalogue", "lines"}, {"/catalogue/source/lines", "lines"}, {"/coverage",
			"lines"},
		{"/workbench", "Workbench"}, {"/changes", "Changes"}, {"/changes/2/findings", "gone"}, {
			"/changes/2/definitions", "berth"},
		{"/changes/2/hosts", "host"}, {"/changes/2/masks", "not masked"}, {"/changes/2/edit/mask/berth", "berth"},
		{"/changes/2/edit/source/more?view=help", "more"}, {"/changes/2/edit/source/more?view=differences", "more"},
		{"/rollouts", "Rollout"}, {"/rollouts/1", "gate-00"}, {"/secrets", "door"}, {"/tokens", "token"}, {"/audit",
			"rollout start"},
		{"/catalogue/destination/out", "gate-00"}, {"/catalogue/destination/out/rejects", "Nothing"},
		{"/catalogue/destination/out/books", "difference"}, {"/changes/2/preflight", "Rehearse"},
		{"/changes/2/trial", "Try it"}, {"/rollouts/new", "would change"}, {"/hosts/gate-00/history", "rollout 1"},
		{"/hosts/gate-00/numbers", "Where does it change?"},
		{"/catalogue/source/lines/numbers", "Where does it change?"}, {"/notices", "no-lines"},
		{"/flow", "What hosts read"}, {"/cost", "What each source costs"}, {"/unclaimed", "of each shape"}, {"/senders", "Devices without an agent"},
		{"/peek", "Choose a source"}, {"/peek?source=lines", "Live look"},
		{"/nowhere/at/all", "nothing"},
	}
	for _, dark := range []bool{false, true} {
		_, err := tab.Eval(fmt.Sprintf(`(() => { localStorage.setItem('synaxis.theme', '%s'); return '' })()`,
			map[bool]string{false: "light", true: "dark"}[dark]))
		require.NoError(t, err)
		for _, p := range pages {
			require.NoError(t, tab.Open(d.url+p.path), p.path)
			require.NoError(t, tab.See(p.sees), p.path)
			check(fmt.Sprintf("%s, dark %v", p.path, dark))
		}
	}
	for _, opens := range []struct{ path, click, sees string }{
		{"/hosts", "Import…", "Import"}, {"/secrets", "New secret", "Name"}, {"/changes/2/findings", "Publish",
			"Publish"},
	} {
		require.NoError(t, tab.Open(d.url+opens.path))
		if tab.Click(opens.click) == nil {
			require.NoError(t, tab.See(opens.sees))
			check(opens.path + ", " + opens.click)
		}
	}
	_, err = tab.Eval(`(() => { fetch('/api/v1/session', { method: 'DELETE' }).then(() => { document.title = 'out' }); return '' })()`)
	require.NoError(t, err)
	eventually(t, 10*time.Second, "the end of the session", func() bool {
		title, err := tab.Eval(`document.title`)
		return err == nil && title == "out"
	})
	require.NoError(t, tab.Open(d.url+"/sign-in"))
	require.NoError(t, tab.See("Sign in"))
	check("/sign-in")
	require.NoError(t, tab.Open(d.url+"/give/door#"+grant.Token))
	require.NoError(t, tab.See("door"))
	check("/give/door")
}
