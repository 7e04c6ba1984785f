package test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
)

// checked is a transport that holds every answer against api/openapi.yaml and notes which operations were exercised.
type checked struct {
	t     *testing.T
	route func(*http.Request) (operation string, check func(status int, header http.Header, body []byte) error,
		err error)
	mu     sync.Mutex
	seen   map[string]bool
	failed map[string]bool // operations that also answered with a problem
}

func (c *checked) RoundTrip(r *http.Request) (*http.Response, error) {
	operation, check, err := c.route(r)
	require.NoError(c.t, err, "%s %s is not in the contract", r.Method, r.URL.Path)
	resp, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	body, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	require.NoError(c.t, err)
	resp.Body = io.NopCloser(bytes.NewReader(body))
	assert.NoError(
		c.t,
		check(resp.StatusCode, resp.Header, body),
		"%s answered %d: %s",
		operation,
		resp.StatusCode,
		body,
	)
	c.mu.Lock()
	defer c.mu.Unlock()
	if resp.StatusCode/100 == 2 {
		c.seen[operation] = true
	} else {
		c.failed[operation] = true
	}
	return resp, nil
}

// lineDecoder reads the first of the events of a stream.
func lineDecoder(body io.Reader, _ http.Header, _ *openapi3.SchemaRef, _ openapi3filter.EncodingFn) (v any,
	err error) {
	err = json.NewDecoder(body).Decode(&v)
	return v, err
}

func newChecked(t *testing.T, base string) (*checked, []string) {
	openapi3filter.RegisterBodyDecoder("application/x-ndjson", lineDecoder)
	doc, err := openapi3.NewLoader().LoadFromFile("../api/openapi.yaml")
	require.NoError(t, err)
	require.NoError(t, doc.Validate(context.Background()))
	u, err := url.Parse(base)
	require.NoError(t, err)
	doc.Servers = openapi3.Servers{{URL: u.String() + "/api/v1"}}
	router, err := gorillamux.NewRouter(doc)
	require.NoError(t, err)
	var operations []string
	for _, path := range doc.Paths.InMatchingOrder() {
		for _, op := range doc.Paths.Value(path).Operations() {
			operations = append(operations, op.OperationID)
		}
	}
	c := &checked{t: t, seen: map[string]bool{}, failed: map[string]bool{}}
	c.route = func(r *http.Request) (string, func(int, http.Header, []byte) error, error) {
		route, params, err := router.FindRoute(r)
		if err != nil {
			return "", nil, err
		}
		in := &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: route,
			Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}}
		return route.Operation.OperationID, func(status int, header http.Header, body []byte) error {
			out := &openapi3filter.ResponseValidationInput{
				RequestValidationInput: in,
				Status:                 status,
				Header:                 header,
				Options:                &openapi3filter.Options{IncludeResponseStatus: true},
			}
			out.SetBodyBytes(body)
			return openapi3filter.ValidateResponse(context.Background(), out)
		}, nil
	}
	return c, operations
}

// TestContract exercises every operation of the API, holds each answer against the contract, and fails for an
// operation that nobody called.
func TestContract(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	transport, operations := newChecked(t, d.url)
	c, err := contract.NewClient(
		d.url+"/api/v1",
		contract.WithHTTPClient(&http.Client{Transport: transport}),
		contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			if r.Header.Get("Cookie") == "" && r.Header.Get("Authorization") == "" {
				r.Header.Set("Authorization", "Bearer "+d.token)
			}
			return nil
		}),
	)
	require.NoError(t, err)
	ctx := context.Background()
	d.api = c
	bad := func(status int, resp *http.Response, err error) {
		t.Helper()
		require.NoError(t, err)
		defer resp.Body.Close()
		assert.Equal(t, status, resp.StatusCode)
		assert.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"))
	}

	// Sign in, by token and by link, to a cookie that no script can read.
	assert.Equal(t, "admin", get[contract.Session](t, first(c.GetSession(ctx)), nil).Who)
	link := get[contract.SignInLink](t, first(c.CreateSignInLink(ctx)), nil)
	assert.True(t, strings.HasPrefix(link.Url, d.url+"/sign-in#"))
	resp := first(c.CreateSession(ctx, contract.SignIn{Code: &link.Code}))
	cookie := resp.Header.Get("Set-Cookie")
	get[contract.Session](t, resp, nil)
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "SameSite=Strict")
	bad(401, first(c.CreateSession(ctx, contract.SignIn{Code: &link.Code})), nil)
	wrong := "wrong"
	bad(401, first(c.CreateSession(ctx, contract.SignIn{Token: &wrong})), nil)
	get[contract.Session](t, first(c.CreateSession(ctx, contract.SignIn{Token: &d.token})), nil)
	with := func(header ...string) contract.RequestEditorFn {
		return func(_ context.Context, r *http.Request) error {
			r.Header.Del("Authorization")
			for i := 0; i < len(header); i += 2 {
				r.Header.Set(header[i], header[i+1])
			}
			return nil
		}
	}
	value := strings.SplitN(cookie, ";", 2)[0]
	get[contract.Status](t, first(c.GetStatus(ctx, with("Cookie", value))), nil)
	bad(401, first(c.DeleteSession(ctx, with("Cookie", value, "Origin", "http://elsewhere.example"))), nil)
	get[struct{}](t, first(c.DeleteSession(ctx, with("Cookie", value, "Origin", d.url))), nil)
	bad(401, first(c.GetStatus(ctx, with("Cookie", value))), nil)
	bad(401, first(c.GetStatus(ctx, with("Authorization", "Bearer nonsense"))), nil)

	// Hosts.
	uses, lasts, labels := 0, "1h", map[string]string{"role": "gate"}
	tok := get[contract.CreatedJoinToken](
		t,
		first(c.CreateJoinToken(ctx, contract.NewJoinToken{Uses: &uses, Lasts: &lasts, Labels: &labels})),
		nil,
	)
	bad(400, first(c.CreateJoinToken(ctx, contract.NewJoinToken{Lasts: &wrong})), nil)
	assert.Len(t, get[contract.JoinTokenList](t, first(c.ListJoinTokens(ctx)), nil).Items, 1)
	dir := t.TempDir()
	agent := d.agent("h1", dir+"/1", tok.Token)
	d.agent("h2", dir+"/2", tok.Token)
	eventually(t, 15*time.Second, "both to join", func() bool { return d.connected("h1") && d.connected("h2") })
	get[struct{}](t, first(c.RevokeJoinToken(ctx, tok.Id)), nil)
	bad(404, first(c.RevokeJoinToken(ctx, "nobody")), nil)
	set := map[string]string{"root": dir}
	get[contract.Host](t, first(c.EditHostSettings(ctx, "h1", nil, contract.MapEdit{Set: &set})), nil)
	get[contract.Host](t, first(c.EditHostSettings(ctx, "h2", nil, contract.MapEdit{Set: &set})), nil)
	lane := map[string]string{"lane": "<b>1</b>"}
	assert.Equal(
		t,
		"<b>1</b>",
		get[contract.Host](t, first(c.EditHostLabels(ctx, "h1", nil, contract.MapEdit{Set: &lane})),
			nil).Labels["lane"],
	)
	assert.NotContains(
		t,
		get[contract.Host](
			t,
			first(c.EditHostLabels(ctx, "h1", nil, contract.MapEdit{Remove: &[]string{"lane"}})),
			nil,
		).Labels,
		"lane",
	)
	bad(400, first(c.EditHostLabels(ctx, "h1", nil, contract.MapEdit{Set: &map[string]string{"A b": "c"}})), nil)
	bad(404, first(c.EditHostLabels(ctx, "h3", nil, contract.MapEdit{Set: &set})), nil)
	limit, name := 1, "h"
	page := get[contract.HostList](
		t,
		first(c.ListHosts(ctx, &contract.ListHostsParams{Limit: &limit, Q: &name, Label: &[]string{"role=gate"}})),
		nil,
	)
	require.Len(t, page.Items, 1)
	require.NotNil(t, page.Next)
	page = get[contract.HostList](
		t,
		first(c.ListHosts(ctx, &contract.ListHostsParams{Limit: &limit, After: page.Next})),
		nil,
	)
	assert.Equal(t, "h2", page.Items[0].Name)
	assert.Nil(t, page.Next)
	bad(400, first(c.ListHosts(ctx, &contract.ListHostsParams{Label: &[]string{"x"}})), nil)
	bad(404, first(c.GetHost(ctx, "h3")), nil)
	bad(404, first(c.GetHostConfig(ctx, "h3")), nil)
	assert.False(t, get[contract.HostConfig](t, first(c.GetHostConfig(ctx, "h1")), nil).Same)

	// A list of hosts that are not there yet: first what it would do, then done, then nothing to do.
	list := contract.InventoryImport{
		File: "x.csv",
		Text: "host,label.role,setting.root\nlater,gate,/later\nh1,gate,/new\nh2,gate," + dir + "\n",
	}
	dry := true
	tokens := map[string]string{}
	list.DryRun = &dry
	result := get[contract.ImportResult](t, first(c.ImportInventory(ctx, list)), nil)
	assert.Equal(t, []int{1, 1, 1}, []int{result.Added, result.Changed, result.Same})
	assert.Equal(t, contract.ValueEdit{Key: "root", Before: dir, After: "/new"}, result.Changes[1].Settings[0])
	assert.Len(t, get[contract.Inventory](t, first(c.ExportInventory(ctx)), nil).Items, 2, "a dry run does nothing")
	list.DryRun = nil
	get[contract.ImportResult](t, first(c.ImportInventory(ctx, list)), nil)
	assert.Len(t, get[contract.Inventory](t, first(c.ExportInventory(ctx)), nil).Items, 3)
	assert.Empty(t, get[contract.ImportResult](t, first(c.ImportInventory(ctx, list)), nil).Changes)
	assert.Equal(t, "not-joined", *get[contract.Host](t, first(c.GetHost(ctx, "later")), nil).Verdict.Code)
	bad(422, first(c.ImportInventory(ctx, contract.InventoryImport{File: "x.csv", Text: "name\na\n"})), nil)
	for name, labels := range map[string]map[string]string{"it": {"from": "token"}, "other": {"role": "kiosk"}} {
		one := "later"
		tokens[name] = get[contract.CreatedJoinToken](
			t,
			first(c.CreateJoinToken(ctx, contract.NewJoinToken{Labels: &labels, Host: &one})),
			nil,
		).Token
	}
	refused := d.agent("later", dir+"/refused", tokens["other"])
	eventually(
		t,
		15*time.Second,
		"labels that do not agree to be refused",
		func() bool { return strings.Contains(refused.log.String(), "is listed with role=gate") },
	)
	refused.stop()
	get[struct{}](
		t,
		first(c.DenyNewcomer(ctx, get[contract.NewcomerList](t, first(c.ListNewcomers(ctx)), nil).Items[0].Id)),
		nil,
	)
	d.agent("later", dir+"/later", tokens["it"])
	eventually(t, 15*time.Second, "the imported host to join", func() bool { return d.connected("later") })
	assert.Equal(
		t,
		map[string]string{"role": "gate", "from": "token"},
		get[contract.Host](t, first(c.GetHost(ctx, "later")), nil).Labels,
	)
	back := map[string]string{"root": dir}
	get[contract.Host](t, first(c.EditHostSettings(ctx, "h1", nil, contract.MapEdit{Set: &back})), nil)

	// Definitions.
	load := func(text string, whole bool) *http.Response {
		return first(
			c.LoadDraft(ctx, contract.NewDraft{Whole: whole, Files: []contract.File{{Path: "all.yaml", Text: text}}}),
		)
	}
	bad(422, load("sauce: x\n", true), nil)
	bad(400, first(c.LoadDraft(ctx, contract.NewDraft{Whole: true})), nil)
	bad(400, first(c.LoadDraft(ctx, contract.NewDraft{Files: []contract.File{{Path: "../up.yaml", Text: "x"}}})), nil)
	bad(404, first(c.StartRollout(ctx, contract.NewRollout{Plan: &oneWave})), nil)
	assert.Empty(t, get[contract.DefinitionList](t, first(c.ListDefinitions(ctx, nil)), nil).Items)
	one := get[contract.Draft](t, load(linesCatalogue("${setting.root}/*.log", "http://127.0.0.1:9/in"), true), nil)
	get[contract.Draft](t, first(c.GetDraft(ctx, one.Id)), nil)
	assert.Len(t, get[contract.DraftList](t, first(c.ListDrafts(ctx)), nil).Items, 1)
	assert.Empty(t, get[contract.Findings](t, first(c.CheckDraft(ctx, one.Id)), nil).Findings)
	impact := get[contract.Impact](t, first(c.DiffDraft(ctx, one.Id)), nil)
	assert.Equal(t, 3, impact.Hosts)
	require.Len(t, impact.Groups, 1, "the hosts' own values do not part them")
	assert.Len(t, impact.Groups[0].Hosts, 3)
	broken := get[contract.Draft](
		t,
		load("source: ss\nhosts: all\nread: {files: [/a]}\nformat: raw\nsend: [{to: gone}]\n", false),
		nil,
	)
	assert.Equal(t, "dangling-reference", broken.Findings[0].Code)
	bad(422, first(c.PublishDraft(ctx, broken.Id, contract.Publication{})), nil)
	get[struct{}](t, first(c.DiscardDraft(ctx, broken.Id)), nil)
	bad(409, first(c.DiscardDraft(ctx, broken.Id)), nil)
	bad(404, first(c.GetDraft(ctx, 99)), nil)
	message := "why"
	assert.Equal(
		t,
		1,
		get[contract.Published](
			t,
			first(c.PublishDraft(ctx, one.Id, contract.Publication{Message: &message})),
			nil,
		).Revision,
	)
	bad(409, first(c.DiffDraft(ctx, one.Id)), nil)
	assert.Len(t, get[contract.DefinitionList](t, first(c.ListDefinitions(ctx, nil)), nil).Items, 2)
	def := get[contract.Definition](t, first(c.GetDefinition(ctx, "destination", "out", nil)), nil)
	assert.Equal(t, []string{"source lines"}, def.UsedBy)
	bad(404, first(c.GetDefinition(ctx, "source", "none", nil)), nil)
	assert.Len(t, get[contract.FileList](t, first(c.ExportCatalogue(ctx, nil)), nil).Items, 1)
	why := get[contract.Explanation](t, first(c.ExplainHost(ctx, "h1", "lines")), nil)
	assert.True(t, why.Gets)
	assert.Contains(t, why.Lines[len(why.Lines)-1].Text, "does not have it yet; the next rollout brings it")
	assert.False(t, get[contract.Explanation](t, first(c.ExplainHost(ctx, "h1", "line")), nil).Gets)
	bad(404, first(c.ExplainHost(ctx, "h9", "lines")), nil)
	assert.Equal(t, "why", get[contract.RevisionList](t, first(c.ListRevisions(ctx)), nil).Items[0].Message)
	assert.Len(t, get[contract.Revision](t, first(c.GetRevision(ctx, 1)), nil).Definitions, 2)
	bad(404, first(c.GetRevision(ctx, 9)), nil)
	none := get[contract.Impact](t, first(c.DiffRevisions(ctx, 1, &contract.DiffRevisionsParams{From: 1})), nil)
	assert.Zero(t, none.Hosts)
	bad(404, first(c.DiffRevisions(ctx, 1, &contract.DiffRevisionsParams{From: 9})), nil)
	contractOfTheDesk(t, d, c, bad)

	// Rollouts.
	assert.Equal(t, contract.RolloutStateDone, d.rollOut().State)
	contractOfTheWorkbench(t, c, bad, dir)
	assert.Len(t, get[contract.RolloutList](t, first(c.ListRollouts(ctx)), nil).Items, 1)
	bad(404, first(c.GetRollout(ctx, 9)), nil)
	contractOfRollouts(t, c, bad)
	contractOfTrials(t, c, bad)
	contractOfDestinations(t, c, bad)
	contractOfKnowing(t, c, bad)
	retired := get[contract.Host](t, first(c.RetireHost(ctx, "later")), nil)
	assert.Equal(t, "retired", *retired.Verdict.Code)
	bad(404, first(c.RetireHost(ctx, "nobody")), nil)
	yes := true
	gone := get[contract.HostList](t, first(c.ListHosts(ctx, &contract.ListHostsParams{Retired: &yes})), nil).Items
	require.Len(t, gone, 2)
	assert.Equal(t, "later", gone[1].Name)
	assert.Len(t, get[contract.HostList](t, first(c.ListHosts(ctx, nil)), nil).Items, 2)
	agent.stop()
	eventually(
		t,
		5*time.Second,
		"the status to tell who is away",
		func() bool { return get[contract.Status](t, first(c.GetStatus(ctx)), nil).Hosts.Offline == 1 },
	)
	actions := map[string]bool{}
	limit = 1000
	for _, e := range get[contract.AuditList](t, first(c.ListAudit(ctx, &contract.ListAuditParams{Limit: &limit})),
		nil).Items {
		actions[e.Action] = true
		assert.NotEmpty(t, e.Who)
		assert.NotContains(t, e.Before+e.After, "opensesame", "the value of a secret is nowhere")
		assert.NotEmpty(t, e.Origin)
	}
	for _, want := range []string{"join-token create", "join-token revoke", "host join", "host settings",
		"host labels", "host import", "host retire", "draft load", "draft discard", "draft publish", "rollout start",
		"host edit",
		"draft put", "draft remove", "draft revert", "host read-lines", "host list-logs", "secret set",
		"secret describe", "secret grant", "secret revoke", "secret remove"} {
		assert.True(t, actions[want], "%s is not in the audit", want)
	}
	for _, op := range operations {
		assert.True(t, transport.seen[op], "operation %s was never exercised with a good answer", op)
	}
	assert.GreaterOrEqual(t, len(operations), 28)
}

// contractOfDestinations exercises what is said of destinations, books and rejects.
func contractOfDestinations(
	t *testing.T, c *contract.Client, bad func(status int, resp *http.Response, err error),
) {
	ctx := context.Background()
	text, everywhere := "labels.site ==", "all"
	assert.NotNil(t, get[contract.Books](t, first(c.GetBooks(ctx, &contract.GetBooksParams{Hosts: &everywhere})),
		nil).Items)
	bad(400, first(c.GetBooks(ctx, &contract.GetBooksParams{Hosts: &text})), nil)
	assert.Len(t, get[contract.DestinationList](t, first(c.ListDestinations(ctx)), nil).Items, 1)
	detail := get[contract.DestinationDetail](t, first(c.GetDestination(ctx, "out")), nil)
	assert.Equal(t, "out", detail.State.Name)
	bad(404, first(c.GetDestination(ctx, "nowhere")), nil)
	assert.Empty(t, get[contract.RejectList](t, first(c.ListRejects(ctx, "out", nil)), nil).Items)
	bad(404, first(c.ListRejects(ctx, "nowhere", nil)), nil)
	records := get[contract.RejectRecords](t, first(c.ListRejectRecords(ctx, "out",
		&contract.ListRejectRecordsParams{Host: "h1"})), nil)
	assert.Empty(t, records.Items)
	bad(404, first(c.ListRejectRecords(ctx, "out", &contract.ListRejectRecordsParams{Host: "h9"})), nil)
	assert.Zero(t, get[contract.RejectOutcome](t, first(c.ResendRejects(ctx, "out", contract.RejectChoice{})),
		nil).Done)
	assert.Zero(t, get[contract.RejectOutcome](t, first(c.DiscardRejects(ctx, "out", contract.RejectChoice{})),
		nil).Done)
	bad(400, first(c.ResendRejects(ctx, "out", contract.RejectChoice{Hosts: &text})), nil)
	bad(404, first(c.DiscardRejects(ctx, "nowhere", contract.RejectChoice{})), nil)
	revision, none := 1, 99
	bad(404, first(c.GetPreflight(ctx, &contract.GetPreflightParams{Revision: &none})), nil)
	p := get[contract.Preflight](t, first(c.RunPreflight(ctx, contract.NewPreflight{Revision: &revision})), nil)
	assert.NotEmpty(t, p.Groups)
	kept := get[contract.Preflight](t, first(c.GetPreflight(ctx, &contract.GetPreflightParams{Revision: &revision})),
		nil)
	assert.Equal(t, p.Groups, kept.Groups)
	bad(404, first(c.RunPreflight(ctx, contract.NewPreflight{Draft: &none})), nil)
	bad(400, first(c.RunPreflight(ctx, contract.NewPreflight{Revision: &revision, Hosts: &text})), nil)
}

// first takes the response of a call that reached the service.
// contractOfTrials tries a draft on hosts that run.
func contractOfTrials(t *testing.T, c *contract.Client, bad func(int, *http.Response, error)) {
	ctx := context.Background()
	later, seconds := "host.name == \"later\"", 60
	draft := get[contract.Draft](t, first(c.LoadDraft(ctx, contract.NewDraft{Files: []contract.File{{Path: "more.yaml",
		Text: "destination: more\ndeliver: {discard: {}}\n"}}})), nil)
	trial := get[contract.Trial](t, first(c.StartTrial(ctx, contract.NewTrial{Draft: draft.Id, Hosts: &later,
		Seconds: &seconds})), nil)
	assert.Len(t, trial.Hosts, 1)
	bad(400, first(c.StartTrial(ctx, contract.NewTrial{Draft: draft.Id})), nil)
	bad(404, first(c.StartTrial(ctx, contract.NewTrial{Draft: 99})), nil)
	long := 3601
	bad(400, first(c.StartTrial(ctx, contract.NewTrial{Draft: draft.Id, Hosts: &later, Seconds: &long})), nil)
	eventually(t, 10*time.Second, "the host to begin", func() bool {
		return len(get[contract.Trial](t, first(c.GetTrial(ctx, trial.Id)), nil).Sources) == 1
	})
	bad(404, first(c.GetTrial(ctx, 99)), nil)
	assert.True(t, get[contract.Trial](t, first(c.EndTrial(ctx, trial.Id)), nil).Ended)
	bad(404, first(c.EndTrial(ctx, 99)), nil)
	assert.Len(t, get[contract.TrialList](t, first(c.ListTrials(ctx, &contract.ListTrialsParams{Draft: &draft.Id})),
		nil).Items, 1)
	preview := get[contract.RolloutPreview](t, first(c.PreviewRollout(ctx,
		contract.NewRollout{Draft: &draft.Id})), nil)
	revision := get[contract.Status](t, first(c.GetStatus(ctx)), nil).Published
	assert.Equal(t, revision+1, preview.Revision, "as if it were published now")
	bad(400, first(c.PreviewRollout(ctx, contract.NewRollout{Draft: &draft.Id, Revision: &revision})), nil)
	bad(400, first(c.StartRollout(ctx, contract.NewRollout{Draft: &draft.Id})), nil)
	nine := 99
	bad(404, first(c.PreviewRollout(ctx, contract.NewRollout{Draft: &nine})), nil)
	get[struct{}](t, first(c.DiscardDraft(ctx, draft.Id)), nil)
}

// contractOfKnowing goes through what is known of the fleet, and who is told.
func contractOfKnowing(t *testing.T, c *contract.Client, bad func(int, *http.Response, error)) {
	ctx := context.Background()
	site, day, odd, none, host := "site", "24h", "7s", "nothing", "h1"
	get[contract.NumbersOverTime](t, first(c.GetNumbers(ctx, &contract.GetNumbersParams{By: &site, Since: &day})), nil)
	get[contract.NumbersOverTime](t, first(c.GetNumbers(ctx, &contract.GetNumbersParams{
		Number: &[]string{"read", "dropped:limit", "lag"}})), nil)
	bad(400, first(c.GetNumbers(ctx, &contract.GetNumbersParams{Step: &odd})), nil)
	bad(400, first(c.GetNumbers(ctx, &contract.GetNumbersParams{Number: &[]string{none}})), nil)
	bad(400, first(c.GetNumbers(ctx, &contract.GetNumbersParams{Since: &none})), nil)
	bad(404, first(c.GetNumbers(ctx, &contract.GetNumbersParams{Source: &none})), nil)
	bad(404, first(c.GetNumbers(ctx, &contract.GetNumbersParams{Destination: &none})), nil)
	nobody := "host.name == \"nobody\""
	bad(404, first(c.GetNumbers(ctx, &contract.GetNumbersParams{Hosts: &nobody})), nil)
	get[contract.Explained](t, first(c.ExplainNumbers(ctx, &contract.ExplainNumbersParams{Number: "unparsed"})), nil)
	bad(400, first(c.ExplainNumbers(ctx, &contract.ExplainNumbersParams{Number: none})), nil)
	source := get[contract.DefinitionList](t, first(c.ListDefinitions(ctx, nil)), nil).Items
	for _, d := range source {
		if d.Kind == "source" {
			assert.False(t, get[contract.Usual](t, first(c.GetUsual(ctx, d.Name)), nil).Known)
		}
	}
	bad(404, first(c.GetUsual(ctx, none)), nil)
	bad(404, first(c.Peek(ctx, contract.PeekRequest{Source: none})), nil)
	bad(404, first(c.PeekUnmasked(ctx, contract.PeekRequest{Source: none})), nil)
	h1 := get[contract.Host](t, first(c.GetHost(ctx, host)), nil)
	require.NotEmpty(t, h1.Sources)
	second := 1
	for _, look := range []func(context.Context, contract.PeekRequest, ...contract.RequestEditorFn) (*http.Response,
		error){c.Peek, c.PeekUnmasked} {
		resp := first(look(ctx, contract.PeekRequest{Source: h1.Sources[0].Name, Host: &host, Seconds: &second}))
		assert.Equal(t, http.StatusOK, resp.StatusCode)
		assert.Equal(t, "application/x-ndjson", resp.Header.Get("Content-Type"))
		resp.Body.Close()
	}
	probed := first(c.Probe(ctx, contract.ProbeRequest{Source: h1.Sources[0].Name, Host: &host, Seconds: &second}))
	assert.Equal(t, http.StatusOK, probed.StatusCode)
	probed.Body.Close()
	bad(404, first(c.Probe(ctx, contract.ProbeRequest{Source: none, Host: &host})), nil)
	bad(400, first(c.Probe(ctx, contract.ProbeRequest{Source: none})), nil)
	get[contract.UnclaimedList](t, first(c.ListUnclaimed(ctx, &contract.ListUnclaimedParams{})), nil)
	bad(400, first(c.ListUnclaimed(ctx, &contract.ListUnclaimedParams{Since: &none})), nil)
	get[contract.SenderList](t, first(c.ListSenders(ctx, &contract.ListSendersParams{})), nil)
	bad(404, first(c.ListSenders(ctx, &contract.ListSendersParams{Source: &none})), nil)
	authority := get[contract.SenderAuthority](t, first(c.GetSenderAuthority(ctx)), nil)
	assert.Contains(t, authority.Certificate, "BEGIN CERTIFICATE")
	known := []contract.NewSender{{Name: "bridge-a", From: "198.51.100.20"}}
	d := get[contract.Draft](t, first(c.LoadDraft(ctx, contract.NewDraft{Files: []contract.File{{Path: "l.yaml",
		Text: "source: listens\nhosts: labels.role == \"nowhere\"\nread: {syslog: {listen: {port: 5514}}}\nformat: syslog\n" +
			"send: [dd]\n---\ndestination: dd\ndeliver: {discard: {}}\n"}}})), nil)
	defined := get[contract.DefinedSenders](t, first(c.DefineSenders(ctx, contract.NewSenders{Source: "listens",
		Draft:   &d.Id,
		Senders: known})), nil)
	assert.Equal(t, 1, defined.Added)
	bad(404, first(c.DefineSenders(ctx, contract.NewSenders{Source: none, Senders: known})), nil)
	bad(400, first(c.DefineSenders(ctx, contract.NewSenders{Source: h1.Sources[0].Name, Senders: known})), nil)
	get[contract.Flow](t, first(c.GetFlow(ctx, &contract.GetFlowParams{Since: &day})), nil)
	bad(400, first(c.GetFlow(ctx, &contract.GetFlowParams{Since: &none})), nil)
	get[contract.Cost](t, first(c.GetCost(ctx, &contract.GetCostParams{Since: &day})), nil)
	bad(400, first(c.GetCost(ctx, &contract.GetCostParams{Since: &none})), nil)
	many := 999
	bad(404, first(c.GetCost(ctx, &contract.GetCostParams{Draft: &many})), nil)
	odd = "fields.a >"
	bad(400, first(c.Peek(ctx, contract.PeekRequest{Source: none, Where: &odd})), nil)
	get[contract.CauseList](t, first(c.ListCauses(ctx, &contract.ListCausesParams{Host: &host})), nil)
	get[contract.NoticeList](t, first(c.ListNotices(ctx)), nil)
	bad(404, first(c.AcknowledgeNotice(ctx, none, contract.NewAcknowledgement{Cause: "a"})), nil)
	bad(404, first(c.TryNotice(ctx, none, contract.NoticeTry{})), nil)
	draft := get[contract.Draft](t, first(c.LoadDraft(ctx, contract.NewDraft{Files: []contract.File{{Path: "n.yaml",
		Text: "notice: nn\nwhen: state != \"\"\nto: [{syslog: {address: \"127.0.0.1:9\"}}]\n"}}})), nil)
	get[contract.NoticeMessages](t, first(c.TryNotice(ctx, "nn", contract.NoticeTry{Draft: &draft.Id})), nil)
	p := get[contract.Published](t, first(c.PublishDraft(ctx, draft.Id, contract.Publication{})), nil)
	assert.Positive(t, p.Revision)
	var alerts []contract.Alert
	eventually(t, time.Minute, "something to be wrong", func() bool {
		alerts = get[contract.NoticeList](t, first(c.ListNotices(ctx)), nil).Items[0].Alerts
		return len(alerts) > 0
	})
	get[struct{}](t, first(c.AcknowledgeNotice(ctx, "nn", contract.NewAcknowledgement{Cause: alerts[0].Cause})), nil)
	m := get[contract.Maintenance](t, first(c.StartMaintenance(ctx, contract.NewMaintenance{Hosts: "all",
		For: "1h"})), nil)
	bad(400, first(c.StartMaintenance(ctx, contract.NewMaintenance{Hosts: "labels.x ==", For: "1h"})), nil)
	bad(400, first(c.StartMaintenance(ctx, contract.NewMaintenance{Hosts: "all", For: "1 h"})), nil)
	assert.Len(t, get[contract.MaintenanceList](t, first(c.ListMaintenance(ctx)), nil).Items, 1)
	get[struct{}](t, first(c.EndMaintenance(ctx, m.Id)), nil)
	bad(404, first(c.EndMaintenance(ctx, m.Id)), nil)
}

// contractOfRollouts goes through what persons decide of rollouts.
func contractOfRollouts(t *testing.T, c *contract.Client, bad func(int, *http.Response, error)) {
	ctx := context.Background()
	usual, later, reason := "usual", "host.name == \"later\"", "it is late"
	request := contract.NewRollout{Plan: &usual, Hosts: &later}
	get[contract.Host](t, first(c.EditHostLabels(ctx, "later", nil,
		contract.MapEdit{Set: &map[string]string{"x": "y"}})), nil)
	var preview contract.RolloutPreview
	eventually(t, 10*time.Second, "the label to be pending", func() bool {
		preview = get[contract.RolloutPreview](t, first(c.PreviewRollout(ctx, request)), nil)
		return preview.Changes == 1
	})
	assert.Equal(t, map[string]int{"labels": 1}, preview.Causes)
	assert.Equal(t, []string{"later"}, preview.Waves[0].Hosts)
	unknown, twice := "careful", "labels.x ="
	bad(400, first(c.PreviewRollout(ctx, contract.NewRollout{Plan: &unknown})), nil)
	bad(400, first(c.StartRollout(ctx, contract.NewRollout{Hosts: &twice})), nil)
	r := get[contract.Rollout](t, first(c.StartRollout(ctx, request)), nil)
	eventually(t, 10*time.Second, "it to soak", func() bool {
		return get[contract.Rollout](t, first(c.GetRollout(ctx, r.Id)), nil).Phase == contract.RolloutPhaseSoaking
	})
	bad(409, first(c.StartRollout(ctx, request)), nil)
	bad(409, first(c.ActOnRollout(ctx, r.Id, contract.RolloutAction{Action: contract.Approve})), nil)
	bad(404, first(c.ActOnRollout(ctx, 99, contract.RolloutAction{Action: contract.Stop})), nil)
	bad(400, first(c.ActOnRollout(ctx, r.Id, contract.RolloutAction{Action: contract.LeaveOut})), nil)
	stopped := get[contract.Rollout](t, first(c.ActOnRollout(ctx, r.Id, contract.RolloutAction{Action: contract.Stop,
		Reason: &reason})), nil)
	assert.Equal(t, contract.RolloutStateStopped, stopped.State)
	assert.Equal(t, 1, stopped.Back.Hosts)
	assert.NotNil(t, get[contract.Host](t, first(c.GetHost(ctx, "later")), nil).Pinned)
	get[struct{}](t, first(c.LetHostGo(ctx, "later")), nil)
	bad(409, first(c.LetHostGo(ctx, "later")), nil)
	bad(404, first(c.LetHostGo(ctx, "nobody")), nil)
	all := "all"
	r = get[contract.Rollout](t, first(c.StartRollout(ctx, contract.NewRollout{Plan: &oneWave, Hosts: &all})), nil)
	back := get[contract.Rollout](t, first(c.TakeBackRollout(ctx, r.Id, contract.Reason{Reason: &reason})), nil)
	assert.Equal(t, r.Id, *back.TakesBack)
	bad(409, first(c.TakeBackRollout(ctx, r.Id, contract.Reason{})), nil)
	eventually(t, 10*time.Second, "it to end", func() bool {
		return get[contract.Rollout](t, first(c.GetRollout(ctx, back.Id)), nil).State == contract.RolloutStateDone
	})
	history := get[contract.HostHistory](t, first(c.GetHostHistory(ctx, "later", nil)), nil).Items
	assert.GreaterOrEqual(t, len(history), 4)
	now := time.Now()
	then := get[contract.HostHistory](t, first(c.GetHostHistory(ctx, "later",
		&contract.GetHostHistoryParams{At: &now})), nil).Items
	require.Len(t, then, 1)
	assert.Contains(t, *then[0].Config, "source: lines")
	before := now.AddDate(-1, 0, 0)
	bad(404, first(c.GetHostHistory(ctx, "later", &contract.GetHostHistoryParams{At: &before})), nil)
	get[contract.Host](t, first(c.EditHostLabels(ctx, "later", nil, contract.MapEdit{Remove: &[]string{"x"}})), nil)
}

func first(resp *http.Response, err error) *http.Response {
	if err != nil {
		panic(err)
	}
	return resp
}

// TestEveryCallIsAuthenticated: only the two health checks and the console's own files are open.
func TestEveryCallIsAuthenticated(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	status := func(method, path string) int {
		req, err := http.NewRequest(method, d.url+path, nil)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		_, _ = io.Copy(io.Discard, resp.Body)
		return resp.StatusCode
	}
	for _, path := range []string{"/healthz", "/readyz", "/", "/hosts/some", "/icon.svg"} {
		assert.Equal(t, 200, status("GET", path), path)
	}
	_, operations := newChecked(t, d.url)
	require.NotEmpty(t, operations)
	for _, path := range []string{"/metrics", "/api/v1/events", "/api/v1/status", "/api/v1/hosts", "/api/v1/hosts/x",
		"/api/v1/drafts", "/api/v1/catalogue", "/api/v1/catalogue-files", "/api/v1/revisions", "/api/v1/rollouts",
		"/api/v1/audit", "/api/v1/join-tokens", "/api/v1/secrets", "/api/v1/newcomers", "/api/v1/language",
		"/api/v1/drafts/1/definitions", "/v1/opamp", "/v1/needs"} {
		assert.Equal(t, 401, status("GET", path), path)
	}
	for _, path := range []string{"/api/v1/sign-in-links", "/api/v1/drafts", "/api/v1/rollouts", "/api/v1/join-tokens",
		"/api/v1/host-edits", "/api/v1/try", "/api/v1/splice", "/api/v1/secrets/x/grants", "/v1/metrics",
		"/v1/opamp"} {
		assert.Equal(t, 401, status("POST", path), path)
	}
	req, err := http.NewRequest("GET", d.url+"/metrics", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+d.token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	assert.Contains(t, string(text), "synaxis_hosts 0")
}
