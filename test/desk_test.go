package test

import (
	"context"
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

// contractOfTheDesk exercises what the desk does on its own side: drafts, secrets, many hosts at once, the audit.
func contractOfTheDesk(t *testing.T, d *desk, c *contract.Client, bad func(int, *http.Response, error)) {
	ctx := context.Background()

	// Hosts by an expression, and many at once.
	list := func(expr string) []contract.HostSummary {
		return get[contract.HostList](t, first(c.ListHosts(ctx, &contract.ListHostsParams{Hosts: &expr})), nil).Items
	}
	assert.Len(t, list(`labels.role == "gate" && host.name.startsWith("h")`), 2)
	assert.Len(t, list("role=gate"), 3)
	assert.Empty(t, list("role=kiosk"))
	wrong := `labels.role = "gate"`
	bad(400, first(c.ListHosts(ctx, &contract.ListHostsParams{Hosts: &wrong})), nil)
	dry, tier := true, map[string]string{"tier": "2"}
	edit := contract.HostsEdit{Hosts: "role=gate", Labels: &contract.MapEdit{Set: &tier}, DryRun: &dry}
	edited := get[contract.HostsEdited](t, first(c.EditHosts(ctx, edit)), nil)
	assert.Equal(t, []int{3, 3}, []int{edited.Chosen, edited.Changed})
	assert.NotContains(t, d.host("h1").Labels, "tier", "a dry run does nothing")
	edit.DryRun = nil
	get[contract.HostsEdited](t, first(c.EditHosts(ctx, edit)), nil)
	assert.Equal(t, "2", d.host("h1").Labels["tier"])
	edit.Labels = &contract.MapEdit{Remove: &[]string{"tier"}}
	edit.Names = &[]string{"h1", "h2", "later"}
	get[contract.HostsEdited](t, first(c.EditHosts(ctx, edit)), nil)
	assert.NotContains(t, d.host("later").Labels, "tier")
	edit.Names = &[]string{"h99"}
	bad(404, first(c.EditHosts(ctx, edit)), nil)
	bad(400, first(c.EditHosts(ctx, contract.HostsEdit{Hosts: "all"})), nil)
	resp := first(c.GetHost(ctx, "h1"))
	tag := resp.Header.Get("ETag")
	get[contract.Host](t, resp, nil)
	get[contract.Host](
		t,
		first(
			c.EditHostLabels(ctx, "h1", &contract.EditHostLabelsParams{IfMatch: &tag}, contract.MapEdit{Set: &tier}),
		),
		nil,
	)
	bad(
		412,
		first(
			c.EditHostLabels(
				ctx,
				"h1",
				&contract.EditHostLabelsParams{IfMatch: &tag},
				contract.MapEdit{Remove: &[]string{"tier"}},
			),
		),
		nil,
	)
	get[contract.Host](t, first(c.EditHostLabels(ctx, "h1", nil, contract.MapEdit{Remove: &[]string{"tier"}})), nil)

	// A draft, one definition after the other.
	title := "one by one"
	draft := get[contract.Draft](
		t,
		first(c.LoadDraft(ctx, contract.NewDraft{Title: &title, Files: []contract.File{}})),
		nil,
	).Id
	def := get[contract.DraftDefinition](t, first(c.GetDraftDefinition(ctx, draft, "source", "lines")), nil)
	assert.Equal(t, contract.DraftDefinitionStateSame, def.State)
	assert.Equal(t, def.Published, def.Text)
	spliced := get[contract.Spliced](
		t,
		first(c.SpliceText(ctx, contract.Splice{Text: def.Text, Path: []string{"read", "first-read"}, Value: "now"})),
		nil,
	)
	assert.Equal(t, strings.Replace(def.Text, "first-read: start", "first-read: now", 1), spliced.Text)
	bad(400, first(c.SpliceText(ctx, contract.Splice{Text: "a: [", Path: []string{"a"}, Value: 1})), nil)
	tried := get[contract.Tried](t, first(c.TryDefinition(ctx, contract.Try{Text: spliced.Text, Draft: &draft})), nil)
	assert.Empty(t, tried.Findings)
	assert.Equal(t, 3, tried.Chosen)
	assert.Equal(t, "now", tried.Value.(map[string]any)["read"].(map[string]any)["first-read"])
	put := get[contract.DraftDefinition](
		t,
		first(
			c.PutDraftDefinition(
				ctx,
				draft,
				"source",
				"lines",
				&contract.PutDraftDefinitionParams{IfMatch: &def.Etag},
				contract.DefinitionText(spliced),
			),
		),
		nil,
	)
	assert.Equal(t, contract.DraftDefinitionStateChanged, put.State)
	bad(
		412,
		first(
			c.PutDraftDefinition(
				ctx,
				draft,
				"source",
				"lines",
				&contract.PutDraftDefinitionParams{IfMatch: &def.Etag},
				contract.DefinitionText(spliced),
			),
		),
		nil,
	)
	bad(400, first(c.PutDraftDefinition(ctx, draft, "source", "other", nil, contract.DefinitionText(spliced))), nil)
	get[struct{}](t, first(c.RemoveDraftDefinition(ctx, draft, "destination", "out", nil)), nil)
	states := map[string]contract.DraftDefinitionSummaryState{}
	for _, x := range get[contract.DraftDefinitionList](t, first(c.ListDraftDefinitions(ctx, draft)), nil).Items {
		states[x.Name] = x.State
	}
	assert.Equal(t, map[string]contract.DraftDefinitionSummaryState{"lines": "changed", "out": "removed"}, states)
	get[struct{}](t, first(c.RevertDraftDefinition(ctx, draft, "destination", "out")), nil)
	other := get[contract.Draft](
		t,
		first(
			c.LoadDraft(
				ctx,
				contract.NewDraft{Files: []contract.File{{Path: "x.yaml", Text: def.Text + "# another\n"}}},
			),
		),
		nil,
	).Id
	conflicts := get[contract.ConflictList](t, first(c.ListConflicts(ctx, draft)), nil).Items
	require.Len(t, conflicts, 1)
	assert.Equal(t, other, *conflicts[0].Other.Draft)
	assert.Equal(t, spliced.Text, conflicts[0].Mine.Text)
	for _, s := range get[contract.DraftList](t, first(c.ListDrafts(ctx)), nil).Items {
		assert.Equal(t, []string{"source lines"}, s.Changes)
		get[struct{}](t, first(c.DiscardDraft(ctx, s.Id)), nil)
	}
	bad(409, first(c.ListConflicts(ctx, draft)), nil)
	language := get[contract.Language](t, first(c.GetLanguage(ctx)), nil)
	assert.Len(t, language.Kinds, 10)
	assert.Equal(t, []string{"gate"}, language.Labels["role"])
	assert.Equal(t, []string{"root"}, language.Settings)

	// Secrets: set, described, granted to somebody who may set that one and nothing else, and never shown.
	value, about, owner := "opensesame", "for <the> archive", "Ines"
	secret := get[contract.Secret](
		t,
		first(c.SetSecret(ctx, "archive_token", contract.SecretValue{Value: &value, Owner: &owner})),
		nil,
	)
	assert.Equal(t, 1, secret.Version)
	assert.Equal(
		t,
		about,
		get[contract.Secret](
			t,
			first(c.SetSecret(ctx, "archive_token", contract.SecretValue{About: &about})),
			nil,
		).About,
	)
	bad(400, first(c.SetSecret(ctx, "archive_token", contract.SecretValue{})), nil)
	bad(404, first(c.SetSecret(ctx, "nobody", contract.SecretValue{About: &about})), nil)
	bad(400, first(c.SetSecret(ctx, "No Name", contract.SecretValue{Value: &value})), nil)
	grant := get[contract.CreatedGrant](
		t,
		first(c.GrantSecret(ctx, "archive_token", contract.NewGrant{To: "Ines"})),
		nil,
	)
	bad(404, first(c.GrantSecret(ctx, "nobody", contract.NewGrant{To: "Ines"})), nil)
	bad(400, first(c.GrantSecret(ctx, "archive_token", contract.NewGrant{To: " "})), nil)
	as := func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+grant.Token)
		return nil
	}
	again := "opensesame2"
	assert.Equal(
		t,
		2,
		get[contract.Secret](
			t,
			first(c.SetSecret(ctx, "archive_token", contract.SecretValue{Value: &again}, as)),
			nil,
		).Version,
	)
	bad(403, first(c.SetSecret(ctx, "archive_token", contract.SecretValue{About: &about}, as)), nil)
	bad(403, first(c.SetSecret(ctx, "other", contract.SecretValue{Value: &value}, as)), nil)
	bad(403, first(c.ListSecrets(ctx, as)), nil)
	bad(403, first(c.GetStatus(ctx, as)), nil)
	bad(403, first(c.RemoveSecret(ctx, "archive_token", as)), nil)
	all := get[contract.SecretList](t, first(c.ListSecrets(ctx)), nil).Items
	require.Len(t, all, 1)
	assert.Equal(t, "Ines", all[0].SetBy)
	require.Len(t, all[0].Grants, 1)
	get[struct{}](t, first(c.RevokeGrant(ctx, "archive_token", grant.Id)), nil)
	bad(404, first(c.RevokeGrant(ctx, "archive_token", grant.Id)), nil)
	bad(401, first(c.SetSecret(ctx, "archive_token", contract.SecretValue{Value: &value}, as)), nil)
	get[struct{}](t, first(c.RemoveSecret(ctx, "archive_token")), nil)
	bad(404, first(c.RemoveSecret(ctx, "archive_token")), nil)
	entries, err := os.ReadDir(d.dir)
	require.NoError(t, err)
	for _, e := range entries {
		if text, err := os.ReadFile(filepath.Join(d.dir, e.Name())); err == nil {
			assert.NotContains(t, string(text), "opensesame", e.Name())
		}
	}

	// The audit, filtered and page by page.
	one, action, who := 1, "secret", "Ines"
	audit := get[contract.AuditList](
		t,
		first(c.ListAudit(ctx, &contract.ListAuditParams{Limit: &one, Action: &action})),
		nil,
	)
	require.Len(t, audit.Items, 1)
	assert.Equal(t, "secret remove", audit.Items[0].Action)
	require.NotNil(t, audit.Next)
	audit = get[contract.AuditList](
		t,
		first(c.ListAudit(ctx, &contract.ListAuditParams{Limit: &one, Action: &action, After: audit.Next})),
		nil,
	)
	assert.Equal(t, "secret revoke", audit.Items[0].Action)
	audit = get[contract.AuditList](t, first(c.ListAudit(ctx, &contract.ListAuditParams{Who: &who})), nil)
	require.Len(t, audit.Items, 1)
	assert.Equal(t, "secret set", audit.Items[0].Action)
	future := time.Now().Add(time.Hour)
	assert.Empty(
		t,
		get[contract.AuditList](t, first(c.ListAudit(ctx, &contract.ListAuditParams{Since: &future})), nil).Items,
	)
	bad(400, first(c.ListAudit(ctx, &contract.ListAuditParams{After: &who})), nil)

	contractOfNewcomers(t, d, c, bad)
}

// contractOfNewcomers: machines that were copied are told apart from the ones that they were copied from.
func contractOfNewcomers(t *testing.T, d *desk, c *contract.Client, bad func(int, *http.Response, error)) {
	ctx := context.Background()
	copied := func(name, id string) *program {
		dir := t.TempDir()
		text, err := os.ReadFile(filepath.Join(stateOf(t, d, "h2"), "identity.json"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "identity.json"), text, 0o600))
		return start(
			t,
			"synaxis-agent",
			"--service",
			d.url,
			"--state",
			dir,
			"--name",
			name,
			"--host-id",
			id,
			"--report",
			"200ms",
		)
	}
	waits := func() []contract.Newcomer {
		return get[contract.NewcomerList](t, first(c.ListNewcomers(ctx)), nil).Items
	}
	copied("copy-a", "machine-a")
	eventually(t, 20*time.Second, "the copy to wait", func() bool { return len(waits()) == 1 && waits()[0].Connected })
	second := copied("copy-b", "machine-b")
	eventually(t, 20*time.Second, "the other copy to be told", func() bool {
		return strings.Contains(
			second.log.String(),
			"another copy of it waits for approval at the desk ("+waits()[0].Id+")",
		)
	})
	assert.Equal(
		t,
		1,
		get[contract.Status](t, first(c.GetStatus(ctx)), nil).Newcomers,
		"one agent cannot fill the desk",
	)
	assert.True(t, d.connected("h2"), "the one that they were copied from goes on")
	a := waits()[0]
	assert.Equal(t, []string{"h2", "127.0.0.1", "machine-a"}, []string{a.Host, a.Origin, a.HostId})
	bad(400, first(c.ApproveNewcomer(ctx, a.Id, contract.Approval{Name: "not a name"})), nil)
	bad(409, first(c.ApproveNewcomer(ctx, a.Id, contract.Approval{Name: "h2"})), nil)
	bad(404, first(c.ApproveNewcomer(ctx, "n0", contract.Approval{Name: "h3"})), nil)
	labels := map[string]string{"role": "copy"}
	get[contract.Host](t, first(c.ApproveNewcomer(ctx, a.Id, contract.Approval{Name: "copy-a", Labels: &labels})), nil)
	eventually(t, 40*time.Second, "the approved one to join", func() bool { return d.connected("copy-a") })
	assert.NotEqual(t, *d.host("h2").Id, *d.host("copy-a").Id)
	second.stop()
	copied("copy-b", "machine-b")
	eventually(
		t,
		20*time.Second,
		"the other copy to wait",
		func() bool { return len(waits()) == 1 && waits()[0].HostId == "machine-b" },
	)
	b := waits()[0]
	get[struct{}](t, first(c.DenyNewcomer(ctx, b.Id)), nil)
	bad(404, first(c.DenyNewcomer(ctx, b.Id)), nil)
	assert.Empty(t, waits())
	get[contract.Host](t, first(c.RetireHost(ctx, "copy-a")), nil)
}

// stateOf finds the state folder of an agent by the uid that the desk knows.
func stateOf(t *testing.T, d *desk, host string) string {
	root := d.host(host)
	paths, err := filepath.Glob(filepath.Join(d.host(host).Settings["root"], "*", "identity.json"))
	require.NoError(t, err)
	for _, p := range paths {
		text, err := os.ReadFile(p)
		require.NoError(t, err)
		if strings.Contains(string(text), *root.Id) {
			return filepath.Dir(p)
		}
	}
	require.Fail(t, "no state folder of "+host)
	return ""
}
