package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// hostile are texts that a host, a list or a definition may bring.
var hostile = map[string]string{
	"markup":    `<img src=x onerror="window.broken=1"><script>window.broken=1</script><b id="injected">x</b>`,
	"address":   `javascript:window.broken=1`,
	"reference": `${secret.door@1}${secret.door}$${host.name}`,
	"controls":  "a\x1b]0;title\x07\x1b[2J\x1b[31m\r\x00\x7f\u009b31m\u202ereversed\u2066",
	"paths":     "../../../../etc/passwd",
	"megabyte":  strings.Repeat("m ", 1<<19),
	"template":  `{{constructor.constructor('window.broken=1')()}}`,
	"lines":     "one\ntwo\n\n# three: [four]\n--- \nsource: five",
	"formula":   `=cmd|'/c calc'!A1`,
}

// TestHostileTexts brings each of them in wherever a host, a list of hosts or a person can, and goes through all that
// shows them.
func TestHostileTexts(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx, stop := context.WithTimeout(context.Background(), 3*time.Minute)
	defer stop()
	dir := t.TempDir()
	_, code := d.cliIn("t0psecret\n", "secret", "set", "door")
	require.Zero(t, code)
	d.publish(
		linesCatalogue(
			"/nowhere/${observed.os}/*.log",
			"http://127.0.0.1:9/in",
		) + "about: '" + strings.ReplaceAll(
			hostile["markup"],
			"'",
			"''",
		) + "'\n",
	)
	token := d.joinToken(0, nil)
	given := func(resp *http.Response, err error) { // taken or refused in words, never an error of ours
		require.NoError(t, err)
		text := readAll(t, resp)
		resp.Body.Close()
		assert.Less(t, resp.StatusCode, 500, text)
		assert.True(t, json.Valid([]byte(text)) || text == "", text)
	}
	for name, whole := range hostile {
		text := whole[:min(len(whole), 200_000)] // some of them, within the bound of a message
		// A host.
		p := newPoller(t, d, token)
		said := description("synaxis-agent", "host-"+name)
		p.join(said)
		for _, kv := range said.NonIdentifyingAttributes {
			if kv.Key == "os.type" {
				kv.Value = &protobufs.AnyValue{Value: &protobufs.AnyValue_StringValue{StringValue: text}}
			}
		}
		said.IdentifyingAttributes[1] = kv("service.version", text)
		said.NonIdentifyingAttributes = append(
			said.NonIdentifyingAttributes,
			kv("os.description", text),
			kv(text, "key"),
			kv("host.arch", text),
			kv("synaxis.ports", text),
			kv("synaxis.parts", text),
		)
		_, status := p.send(&protobufs.AgentToServer{AgentDescription: said,
			Health: &protobufs.ComponentHealth{
				ComponentHealthMap: map[string]*protobufs.ComponentHealth{
					"source/lines":   {Status: text, LastError: text},
					"source/" + text: {},
					text:             {LastError: text},
				},
			},
			RemoteConfigStatus: &protobufs.RemoteConfigStatus{
				LastRemoteConfigHash: []byte(name),
				Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_FAILED,
				ErrorMessage:         text,
			},
			EffectiveConfig: &protobufs.EffectiveConfig{
				ConfigMap: &protobufs.AgentConfigMap{
					ConfigMap: map[string]*protobufs.AgentConfigFile{"synaxis.yaml": {Body: []byte(text)}},
				},
			}})
		require.Equal(t, http.StatusOK, status, name)
		// An agent that asks for a name, and one that asks for another's.
		asks := newPoller(t, d, token)
		_, status = asks.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", text)})
		assert.Equal(t, http.StatusUnauthorized, status, name)
		copied := *p
		copied.send(
			&protobufs.AgentToServer{
				AgentDescription: &protobufs.AgentDescription{
					NonIdentifyingAttributes: []*protobufs.KeyValue{kv("host.id", "another"), kv("host.name", text)},
				},
			},
		)
		text = whole
		// A list of hosts, labels, settings, tokens, drafts, secrets.
		given(
			d.api.ImportInventory(
				ctx,
				contract.InventoryImport{
					File: text[:min(len(text), 100)],
					Text: "host,label.note\n\"" + strings.ReplaceAll(text, `"`, `""`) + "\",x\n",
				},
			),
		)
		given(
			d.api.ImportInventory(
				ctx,
				contract.InventoryImport{
					File: "x.csv",
					Text: "host,label.note,setting.root\nlisted-" + name + ",\"" + strings.ReplaceAll(
						text,
						`"`,
						`""`,
					) + "\",/x\n",
				},
			),
		)
		set := map[string]string{"note": text}
		given(d.api.EditHostLabels(ctx, "host-"+name, nil, contract.MapEdit{Set: &set}))
		given(d.api.EditHostSettings(ctx, "host-"+name, nil, contract.MapEdit{Set: &set}))
		given(d.api.EditHostLabels(ctx, "host-"+name, nil, contract.MapEdit{Set: &map[string]string{text: "x"}}))
		given(d.api.CreateJoinToken(ctx, contract.NewJoinToken{Labels: &set}))
		given(d.api.CreateJoinToken(ctx, contract.NewJoinToken{Host: &text}))
		given(
			d.api.LoadDraft(
				ctx,
				contract.NewDraft{Title: &text, Files: []contract.File{{Path: name + ".yaml", Text: text}}},
			),
		)
		given(
			d.api.LoadDraft(
				ctx,
				contract.NewDraft{Title: &text, Files: []contract.File{{Path: text, Text: "source: x\n"}}},
			),
		)
		given(d.api.SetSecret(ctx, "door", contract.SecretValue{About: &text, Owner: &text}))
		given(d.api.GrantSecret(ctx, "door", contract.NewGrant{To: text}))
		given(
			d.api.ListHosts(
				ctx,
				&contract.ListHostsParams{
					Hosts: ptr(text[:min(len(text), 2000)]),
					Q:     ptr(text[:min(len(text), 2000)]),
				},
			),
		)
		given(d.api.ListAudit(ctx, &contract.ListAuditParams{Text: ptr(text[:min(len(text), 2000)])}))
	}

	// Nothing of it is a reference, also not in a config.
	d.rollOutOffered()
	for name := range hostile {
		h := d.host("host-" + name)
		for k, v := range h.Observed {
			assert.LessOrEqual(t, len(v), 8192, "%s %s", name, k)
			assert.NotContains(t, v, "$")
		}
	}

	// The command line.
	noControls := func(out string, of ...string) {
		for _, c := range out {
			if c != '\n' && c != '\t' &&
				(unicode.IsControl(c) || c >= 0x202a && c <= 0x202e || c >= 0x2066 && c <= 0x2069) {
				assert.Fail(t, "a control character reaches the terminal", "%q of %v", c, of)
				return
			}
		}
	}
	commands := [][]string{
		{"status"},
		{"host", "list"},
		{"newcomer", "list"},
		{"audit", "list"},
		{"draft", "list"},
		{"secret", "list"},
		{"secret", "show", "door"},
		{"join-token", "list"},
		{"rollout", "list"},
		{"catalogue", "list"},
		{"revision", "list"},
		{"mask", "coverage"},
	}
	for name := range hostile {
		commands = append(
			commands,
			[]string{"host", "show", "host-" + name},
			[]string{"host", "config", "host-" + name},
			[]string{"host", "explain", "host-" + name, "lines"},
		)
	}
	for _, draft := range get[contract.DraftList](t, first(d.api.ListDrafts(ctx)), nil).Items {
		commands = append(
			commands,
			[]string{"draft", "show", fmt.Sprint(draft.Id)},
			[]string{"draft", "check", fmt.Sprint(draft.Id)},
		)
	}
	for _, args := range commands {
		out, code := d.cli(args...)
		assert.Contains(t, []int{0, 3}, code, "%v: %s", args, out[:min(len(out), 500)])
		noControls(out, args...)
		out, _ = d.cli(append(args, "-o", "json")...)
		noControls(out, args...)
		assert.NotContains(t, out, "t0psecret")
	}
	// The files of a host, and what is in them.
	// of the same length each time, so that the cell breaks at the same place
	logs := filepath.Join(os.TempDir(), fmt.Sprintf("hostile-texts-%016d", time.Now().UnixNano()%1e16))
	require.NoError(t, os.Mkdir(logs, 0o755))
	t.Cleanup(func() { os.RemoveAll(logs) })
	d.agent("real", t.TempDir(), d.hostToken("real"))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("real") })
	given(d.api.EditHostSettings(ctx, "real", nil, contract.MapEdit{Set: &map[string]string{"logs": logs}}))
	file := filepath.Join(logs, "a\x1b[31m<img src=x onerror=window.broken=1>${secret.door}.log")
	require.NoError(
		t,
		os.WriteFile(
			file,
			[]byte(
				strings.Repeat(
					"2031-04-02T06:00:00Z "+strings.NewReplacer("\n", " ", "\x00", "").
						Replace(hostile["controls"]+hostile["markup"]+hostile["reference"])+
						"\n",
					30,
				),
			),
			0o644,
		),
	)
	out, code := d.cli("host", "uncollected", "real")
	assert.Zero(t, code, out)
	assert.Contains(
		t,
		strings.NewReplacer("\n", "", " ", "").Replace(out),
		`[31m<imgsrc=x`,
		"over the lines of its cell",
	)
	noControls(out, "host uncollected")
	out, code = d.cli("host", "lines", "real", file)
	assert.Zero(t, code, out)
	assert.Contains(t, out, `\x1b[2J`)
	noControls(out, "host lines")
	for _, ending := range []string{"csv", "yaml", "json"} {
		_, code := d.cli("host", "export", filepath.Join(dir, "hosts."+ending))
		assert.Zero(t, code)
		_, code = d.cli("audit", "export", filepath.Join(dir, "audit."+strings.Replace(ending, "yaml", "ndjson", 1)))
		assert.Zero(t, code)
	}
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 6)

	// The console.
	tab := d.browse(ctx)
	pages := map[string]string{
		"/":          "What is wrong",
		"/hosts":     "host-markup",
		"/changes":   "Drafts",
		"/audit":     "host import",
		"/secrets":   "door",
		"/tokens":    "New token",
		"/catalogue": "lines",
		"/rollouts":  "1",
	}
	for name := range hostile {
		pages["/hosts/host-"+name] = "host-" + name
	}
	pages["/hosts/real/uncollected"] = "<img src=x"
	const looks = "Look for logs that nobody collects"
	for page, text := range pages {
		require.NoError(t, tab.Open(d.url+page))
		if strings.HasSuffix(page, "/uncollected") {
			require.NoError(t, tab.See(looks))
			require.NoError(t, tab.Click(looks))
		}
		if err := tab.See(text); err != nil {
			all, _ := tab.Text()
			assert.Fail(t, "the page does not show", "%s: %q in %s", page, text, all[:min(len(all), 500)])
		}
		broken, err := tab.Eval(
			`String(window.broken) + document.querySelectorAll('#injected, img[src=x], a[href^="javascript:"]').length`,
		)
		require.NoError(t, err)
		assert.Equal(t, "undefined0", broken, page)
		wide, err := tab.Eval(`String(document.documentElement.scrollWidth <= window.innerWidth + 1)`)
		require.NoError(t, err)
		if wide != "true" {
			which, err := tab.Eval(
				`String([...document.querySelectorAll('main *')].filter((e) => e.getBoundingClientRect().right > window.innerWidth + 1).map((e) => e.outerHTML.slice(0, 200)).slice(-2).join(' | '))`,
			)
			require.NoError(t, err)
			assert.Fail(t, "a page grows out of the window", "%s: %s", page, which)
		}
	}
}
