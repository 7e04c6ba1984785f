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

// TestDeskInTheConsole writes a definition in the browser, with completion, findings and the form in step, and does
// what the administration is for: secrets, tokens, many hosts at once, the audit.
func TestDeskInTheConsole(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	const markup = "<img src=x onerror=document.title='broken'>"
	list := "host,label.role,label.note,setting.root\n"
	for _, name := range []string{"gate-a", "gate-b", "kiosk-a"} {
		list += name + "," + strings.SplitN(name, "-", 2)[0] + "," + markup + ",/srv/" + name + "\n"
	}
	get[contract.ImportResult](
		t,
		first(d.api.ImportInventory(context.Background(), contract.InventoryImport{File: "x.csv", Text: list})),
		nil,
	)
	d.publish("destination: out\ndeliver: {discard: {}}\n")
	ctx, stop := context.WithTimeout(context.Background(), 2*time.Minute)
	defer stop()
	tabContext, end, err := browser.New(ctx, 1280, 800)
	require.NoError(t, err)
	defer end()
	tab := browser.Tab{Context: tabContext}
	see := func(text string) { t.Helper(); require.NoError(t, tab.See(text)) }
	click := func(what string) { t.Helper(); require.NoError(t, tab.Click(what)) }
	run := func(script string) string {
		t.Helper()
		out, err := tab.Eval(script)
		require.NoError(t, err)
		return out
	}
	// choose picks an option of a list; set types into a field and leaves it.
	choose := func(selector, value string) {
		t.Helper()
		run(
			`(() => { const e = document.querySelector('` + selector + `'); e.value = '` + value +
				`'; e.dispatchEvent(new Event('change', { bubbles: true })); return '' })()`,
		)
	}
	write := func(text string) {
		t.Helper()
		eventually(
			t,
			10*time.Second,
			"the editor",
			func() bool { return run(`String(!!document.querySelector('.cm-content'))`) == "true" },
		)
		run(
			`(() => { const c = document.querySelector('.cm-content'); c.focus(); document.execCommand('selectAll'); document.execCommand('insertText', false, ` + quote(
				text,
			) + `); return '' })()`,
		)
	}
	require.NoError(t, tab.Open(get[contract.SignInLink](t, first(d.api.CreateSignInLink(ctx)), nil).Url))
	see("What is wrong")

	// A new draft, a new source in it, written with a mistake.
	click("Changes")
	click("New draft")
	see("This draft changes nothing yet")
	click("Add a definition…")
	see("It begins with an example")
	require.NoError(t, tab.Type("#name", "Gate Scans"))
	see("A name has 2 to 63 of a-z, 0-9 and -")
	require.NoError(t, tab.Type("#name", "gate-scans"))
	click("Write it")
	see("source in draft 2")
	source := "# mine\nsource: gate-scans\nhosts: {role: gat}\nread: {files: [\"${setting.root}/*.log\"]}   # " +
		"stays\nformat: raw\nsend: [{to: out}]\n"
	write(source)
	see("chooses no host of the fleet")
	see(`did you mean "gate"?`)
	see("kept in the draft")
	click("Who gets this")
	see("It is for 0 hosts")
	write(strings.Replace(source, "gat}", "gate}", 1))
	see("It is for 2 hosts")
	see("gate-b")
	see("Nothing is found")

	// The form is in step: what it changes is spliced in, and every other byte stays.
	click("Form")
	see("A sentence that says what it is for.")
	choose(`select[aria-label="Add a key to source"]`, "keep-original")
	see("Keep the record as it was read beside its body.")
	run(
		`(() => { const l = [...document.querySelectorAll('label')].find((x) => x.innerText.startsWith('keep-original')); const s = document.getElementById(l.htmlFor); s.value = 'true'; s.dispatchEvent(new Event('change', { bubbles: true })); return '' })()`,
	)
	see("keep-original: true")
	want := strings.Replace(source, "gat}", "gate}", 1) + "keep-original: true\n"
	eventually(t, 10*time.Second, "the draft to keep it", func() bool {
		return get[contract.DraftDefinition](
			t,
			first(d.api.GetDraftDefinition(ctx, 2, "source", "gate-scans")),
			nil,
		).Text == want
	})
	click("Differences")
	see("Not published yet")

	// Completion knows keys, names and labels.
	click("Help")
	write(want + "exp")
	see("What is normal for this source")
	write(want)

	// Somebody else changed it meanwhile: nothing is overwritten.
	get[contract.DraftDefinition](
		t,
		first(
			d.api.PutDraftDefinition(
				ctx,
				2,
				"source",
				"gate-scans",
				nil,
				contract.DefinitionText{Text: want + "# theirs\n"},
			),
		),
		nil,
	)
	write(want + "# ours\n")
	see("was changed in draft 2 since you read it")
	click("Read it again")
	see("# theirs")
	click("To the draft")
	see("All checks are passed.")
	click("Publish…")
	require.NoError(t, tab.Type("#why", "gates"))
	click(`#headlessui-portal-root form .button:not(.quiet)`)
	see("Revision 2 is published and not in force.")

	// Edit what is there, from the catalogue.
	click("Catalogue")
	click("gate-scans")
	click("Edit in a draft…")
	click("In a new draft")
	see("source in draft 3")
	see("# theirs")

	// Many hosts at once: what is chosen stands in the address, and what would change is shown first.
	click("Hosts")
	see("kiosk-a")
	require.NoError(t, tab.Type("input[type=search]", `labels.role == "gate"`))
	require.NoError(t, tab.Gone("kiosk-a"))
	run(`(() => { document.querySelector('input[aria-label="Choose all that fit"]').click(); return '' })()`)
	see("All 2 hosts that fit are chosen")
	assert.Contains(t, run("location.search"), "chosen=*")
	click("Labels…")
	require.NoError(t, tab.Type("#bulk-text", "tier=2"))
	click("See what changes")
	see("2 hosts of 2 would change")
	click("Change 2 hosts")
	require.NoError(t, tab.Gone("Change labels"))
	see("tier=2")
	assert.Equal(t, "2", d.host("gate-a").Labels["tier"])
	assert.NotContains(t, d.host("kiosk-a").Labels, "tier")
	require.NoError(t, tab.Type("input[type=search]", `labels.role = "gate"`))
	see("= compares nothing; write ==")
	see(markup)
	assert.NotEqual(t, "broken", run("document.title"), "markup in a label is text")

	// A secret, and a link with which somebody else sets it without signing in.
	click("Secrets")
	see("No secret yet")
	click("Set a secret…")
	require.NoError(t, tab.Type("#secret-name", "archive_token"))
	require.NoError(t, tab.Type("#secret-value", "opensesame"))
	require.NoError(t, tab.Type("#secret-about", markup))
	click("Keep")
	see("version 1")
	click("Grant…")
	require.NoError(t, tab.Type("#grant-to", "Ines"))
	click("Make the link")
	see("Send this link.")
	assert.NotContains(t, run("document.body.innerText"), "opensesame")
	link := run(`document.querySelector('.select-all').innerText`)
	click("Done")
	click("Join tokens")
	click("New token…")
	require.NoError(t, tab.Type("#token-labels", "role=gate"))
	click("Make it")
	see("join.sh")
	click("Done")
	see("role=gate")
	click("Audit")
	see("draft publish")
	choose("form select", "secret")
	require.NoError(t, tab.Gone("draft publish"))
	see("secret grant")
	click("Admin")
	click("Sign out")
	see("API token")
	require.NoError(t, tab.Open(link))
	see("Set the secret archive_token")
	require.NoError(t, tab.Type("#value", "opensesame too"))
	click("Keep it")
	see("It is set, as version 2")
	assert.NotEqual(t, "broken", run("document.title"))
}

// quote writes a text as JavaScript.
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(s) + `"`
}

// TestJoinTokenPage: a token for one host is made in the browser, and the list tells which hosts each token is for.
func TestJoinTokenPage(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	d.joinToken(12, map[string]string{"site": "northpier"})
	get[contract.CreatedJoinToken](
		t,
		first(
			d.api.CreateJoinToken(
				ctx,
				contract.NewJoinToken{
					Uses:   ptr(0),
					Listed: ptr(true),
					Labels: &map[string]string{"site": "northpier"},
				},
			),
		),
		nil,
	)
	tab := d.browse(ctx)
	require.NoError(t, tab.Open(d.url+"/tokens"))
	require.NoError(t, tab.See("new and listed hosts"))
	require.NoError(t, tab.Click("New token…"))
	require.NoError(t, tab.See("Which hosts"))
	require.NoError(t, tab.Click(`#token input[value="one"]`))
	require.NoError(t, tab.Click(`#headlessui-portal-root .button:not(.quiet)`))
	require.NoError(t, tab.See("Say which host the token is for"))
	require.NoError(t, tab.Type(`#token input[aria-label="Name of the host"]`, "gate-1"))
	require.NoError(t, tab.Click(`#headlessui-portal-root .button:not(.quiet)`))
	require.NoError(t, tab.See("Paste this line on the host"))
	require.NoError(t, tab.Click("Done"))
	require.NoError(t, tab.See("gate-1"))
	list := get[contract.JoinTokenList](t, first(d.api.ListJoinTokens(ctx)), nil).Items
	require.Len(t, list, 3)
	assert.Equal(t, "gate-1", *list[0].Host)
	assert.Equal(t, 1, list[0].Uses)
}
