package test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/test/browser"
)

// TestManyPages: pages that were left hold no stream of events, so that the browser's few connections do not run out.
// It runs alone, since it measures time.
func TestManyPages(t *testing.T) {
	d := startDesk(t)
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	tab := d.browse(ctx)
	began := time.Now()
	for range 10 {
		for path, text := range map[string]string{"/hosts": "No host has joined yet", "/changes": "No draft is open",
			"/rollouts": "No rollout yet"} {
			require.NoError(t, tab.Open(d.url+path))
			require.NoError(t, tab.See(text))
		}
	}
	assert.Less(t, time.Since(began), 30*time.Second)
}

// TestConsole does the whole job in the browser: signs in by a one-time link, looks at a draft with its findings and
// differences, publishes, rolls out, and sees the host run it, live.
func TestConsole(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	recv := newReceiver(t, nil)
	agent := d.agent(
		"gate-a",
		dir+"/state",
		d.joinToken(1, map[string]string{"role": "gate", "note": "<script>document.title='broken'</script>"}),
	)
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("gate-a") })
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	tabContext, end, err := browser.New(ctx, 1280, 800)
	require.NoError(t, err)
	defer end()
	tab := browser.Tab{Context: tabContext}
	see := func(text string) { t.Helper(); require.NoError(t, tab.See(text)) }
	click := func(what string) { t.Helper(); require.NoError(t, tab.Click(what)) }

	require.NoError(t, tab.Open(d.url+"/hosts"))
	see("Sign in")
	require.NoError(t, tab.Type("#token", "nonsense"))
	click(".button")
	see("this is not the API token")
	require.NoError(t, tab.Type("#token", d.token))
	click(".button")
	see("gate-a") // and not the morning page: one lands where one wanted to go
	click("Admin")
	click("Sign out")
	see("API token")
	link := get[contract.SignInLink](t, first(d.api.CreateSignInLink(ctx)), nil)
	require.NoError(t, tab.Open(link.Url))
	see("What is wrong")
	cookies, err := tab.Eval("document.cookie")
	require.NoError(t, err)
	assert.Empty(t, cookies, "no script can read the session")
	see("In force nothing yet")

	appendLines(t, dir+"/x.log", 0, 10)
	title := "Gates"
	text := linesCatalogue(dir+"/*.log", recv.URL)
	broken := get[contract.Draft](
		t,
		first(
			d.api.LoadDraft(
				ctx,
				contract.NewDraft{
					Title: &title,
					Whole: true,
					Files: []contract.File{{Path: "all.yaml", Text: strings.Replace(text, "to: out", "to: outt", 1)}},
				},
			),
		),
		nil,
	)
	see("Drafted 1 draft") // it came by itself
	click("Changes")
	see("Gates")
	click("Gates")
	see(`There is no destination "outt"`)
	see("1 error must be mended before it can be published")
	disabled, err := tab.Eval(
		`String([...document.querySelectorAll('.button')].find((b) => b.innerText.startsWith('Publish')).disabled)`,
	)
	require.NoError(t, err)
	assert.Equal(t, "true", disabled)
	click("Discard")
	see("No draft is open")
	assert.Equal(t, "discarded", get[contract.Draft](t, first(d.api.GetDraft(ctx, broken.Id)), nil).State)

	get[contract.Draft](
		t,
		first(
			d.api.LoadDraft(
				ctx,
				contract.NewDraft{Title: &title, Whole: true, Files: []contract.File{{Path: "all.yaml", Text: text}}},
			),
		),
		nil,
	)
	see("the whole wanted state")
	click("Gates")
	see("1 host changes like this")
	see("  - source: lines")
	click("Publish…")
	see("It becomes the newest revision")
	require.NoError(t, tab.Type("#why", "the first lines"))
	click(`#headlessui-portal-root form .button:not(.quiet)`)
	see("Revision 1 is published and not in force.")
	see("revision 1 published and not in force")
	click("Roll out revision 1…")
	see("1 host would change")
	click("Roll out revision 1")
	see("1 confirmed")
	see("In force revision 1")
	click("gate-a")
	click("Config")
	see("Assigned and effective: the same")
	see("source: lines")
	click("Facts")
	see("<script>document.title='broken'</script>")
	name, err := tab.Eval("document.title")
	require.NoError(t, err)
	assert.Equal(t, "Host gate-a · Synaxis", name, "markup in a label is text")
	click("Sources")
	see("healthy")
	eventually(t, 15*time.Second, "the numbers to arrive by themselves", func() bool {
		shown, _ := tab.Text()
		return strings.Contains(shown, "\n10\n") || strings.Contains(shown, "\t10\t")
	})

	_, err = tab.Eval(
		`(() => { const s = document.querySelector('#explain'); s.value = 'lines'; s.dispatchEvent(new Event('change', { bubbles: true })); return '' })()`,
	)
	require.NoError(t, err)
	see("It gets lines by revision 1")
	see("It is for all hosts")

	agent.stop()
	click("Morning")
	see("the agent is not connected")
	click("Catalogue")
	see("lines")
	click("lines")
	see("meaning last changed in revision 1")
	click("Hosts")
	require.NoError(t, tab.Type("input[type=search]", "role=kiosk"))
	see("No host fits the filter")
	click("Show all")
	click("Import…")
	see("It takes nothing away")
	_, err = tab.Eval(
		`(() => { const d = new DataTransfer(); d.items.add(new File(['host,label.role\nkiosk-9,kiosk\n'], 'kiosks.csv')); const i = document.querySelector('#list'); i.files = d.files; i.dispatchEvent(new Event('change')); return '' })()`,
	)
	require.NoError(t, err)
	see("1 would be added, 0 changed, 0 stay the same")
	click("#headlessui-portal-root .button:not(.quiet)")
	see("No agent has joined under this name yet")
	require.NoError(t, tab.Type("input[type=search]", "role=kiosk"))
	see("kiosk-9")
	address, err := tab.Eval("location.search")
	require.NoError(t, err)
	assert.Equal(
		t,
		"?q=role%3Dkiosk",
		strings.ReplaceAll(address, "role=kiosk", "role%3Dkiosk"),
		"the filter is in the address",
	)
	click("kiosk-9")
	click("Retire…")
	see("Its agent is let in no more")
	click("#headlessui-portal-root .button:not(.quiet)")
	see("its history stays")
	click("Hosts")
	require.NoError(t, tab.Gone("kiosk-9"))
	click("Retired hosts")
	see("kiosk-9")
	require.NoError(t, tab.Open(d.url+"/nowhere"))
	see("There is nothing here")
}
