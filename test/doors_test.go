package test

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

// TestReportedSecret: a host that calls its system like a secret gets no secret, and nothing that it reports stays a reference.
func TestReportedSecret(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	for _, name := range []string{"door", "other"} {
		_, code := d.cliIn("t0psecret-"+name+"\n", "secret", "set", name)
		require.Zero(t, code)
	}
	d.publish(linesCatalogue("/nowhere/${observed.os}/*.log", "http://127.0.0.1:9/in") + "auth: {bearer: '${secret.other}'}\n")
	p := newPoller(t, d, d.joinToken(1, nil))
	said := description("synaxis-agent", "h")
	p.join(said)
	said.NonIdentifyingAttributes = append(said.NonIdentifyingAttributes[:2], kv("os.type", "${secret.door@1}"), kv("os.description", "lin\x1b[31mux ${secret.door@1}\x00\u202e"+strings.Repeat("x", 1<<20)))
	for i := range 3000 {
		said.NonIdentifyingAttributes = append(said.NonIdentifyingAttributes, kv(fmt.Sprintf("more.%d", i), "x"))
	}
	p.send(&protobufs.AgentToServer{AgentDescription: said})
	d.rollOutOffered()
	var config *protobufs.AgentRemoteConfig
	eventually(t, 10*time.Second, "the config", func() bool {
		answer, status := p.send(&protobufs.AgentToServer{})
		require.Equal(t, http.StatusOK, status)
		config = answer.GetRemoteConfig()
		return config != nil
	})
	files := config.GetConfig().GetConfigMap()
	assert.JSONEq(t, `{"other@1": "t0psecret-other"}`, string(files["secrets"].GetBody()), "what its definitions name, and nothing else")
	text := string(files["synaxis.yaml"].GetBody())
	assert.Contains(t, text, "/nowhere/{secret.door@1}/", "what is reported is text")
	for _, h := range []map[string]string{d.host("h").Observed} {
		assert.LessOrEqual(t, len(h), 64)
		for k, v := range h {
			assert.LessOrEqual(t, len(v), 256, k)
			assert.NotContains(t, v, "$")
			assert.False(t, strings.ContainsAny(v, "\x1b\x00\u202e"), k)
		}
	}
}

// TestKnownNames: every kind of name that the desk knows x every kind of join token.
func TestKnownNames(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	var list strings.Builder
	list.WriteString("host,label.site,setting.key\n")
	tokens := map[string]contract.NewJoinToken{
		"any": {Labels: &map[string]string{"site": "northpier"}}, "listed": {Labels: &map[string]string{"site": "northpier"}, Listed: ptr(true)},
		"listed-elsewhere": {Labels: &map[string]string{"site": "saltmarsh"}, Listed: ptr(true)}, "this": {}, "this-elsewhere": {Labels: &map[string]string{"site": "saltmarsh"}}, "other": {},
	}
	may := map[string][]string{
		"new": {"any", "listed", "listed-elsewhere", "this", "this-elsewhere"}, "is-listed": {"listed", "this"}, "has-joined": {"this", "this-elsewhere"}, "was-retired": {"this", "this-elsewhere"},
	}
	for _, kind := range slices.Sorted(maps.Keys(may)) {
		for token := range tokens {
			if kind != "new" {
				fmt.Fprintf(&list, "%s-%s,northpier,/srv\n", kind, token)
			}
		}
	}
	get[contract.ImportResult](t, first(d.api.ImportInventory(ctx, contract.InventoryImport{File: "x.csv", Text: list.String()})), nil)
	for _, kind := range slices.Sorted(maps.Keys(may)) {
		for _, made := range slices.Sorted(maps.Keys(tokens)) {
			name, what := kind+"-"+made, kind+" x "+made
			owner := newPoller(t, d, "")
			if kind == "has-joined" || kind == "was-retired" {
				owner.bearer = d.hostToken(name)
				owner.join(description("synaxis-agent", name))
				_, status := owner.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", name)})
				require.Equal(t, http.StatusOK, status)
			}
			if kind == "was-retired" {
				get[contract.Host](t, first(d.api.RetireHost(ctx, name)), nil)
			}
			want := tokens[made]
			switch {
			case strings.HasPrefix(made, "this"):
				want.Host = &name
			case made == "other":
				want.Host = ptr("gate-elsewhere")
			}
			p := newPoller(t, d, get[contract.CreatedJoinToken](t, first(d.api.CreateJoinToken(ctx, want)), nil).Token)
			answer, status := p.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", name)}) // host.id is that of the host: it is no proof
			if slices.Contains(may[kind], made) {
				require.Equal(t, http.StatusOK, status, what)
				assert.NotNil(t, answer.GetConnectionSettings(), what)
				continue
			}
			assert.Equal(t, http.StatusUnauthorized, status, what)
			if kind == "has-joined" {
				_, status = owner.send(&protobufs.AgentToServer{})
				assert.Equal(t, http.StatusOK, status, "%s: who is there stays", what)
			}
		}
	}
	given := 0
	for _, e := range get[contract.AuditList](t, first(d.api.ListAudit(ctx, &contract.ListAuditParams{Action: ptr("host join"), Limit: ptr(1000)})), nil).Items {
		given++
		assert.Equal(t, "127.0.0.1", e.Origin, "who was given it, with the address")
		assert.Regexp(t, `"credential":\s*"c[0-9a-f]+"`, fmt.Sprint(e.After))
	}
	assert.Equal(t, 11+12, given, "every credential that was given is in the audit")
}

func ptr[T any](v T) *T { return &v }

// TestRevokedWhileConnected: a token that is revoked joins nobody over a connection that is open, and closes it.
func TestRevokedWhileConnected(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	for _, how := range []string{"revoked", "expired"} {
		lasts := map[string]string{"revoked": "1h", "expired": "1s"}[how]
		token := get[contract.CreatedJoinToken](t, first(d.api.CreateJoinToken(ctx, contract.NewJoinToken{Lasts: &lasts})), nil)
		ws, _, err := websocket.Dial(ctx, strings.Replace(d.url, "http", "ws", 1)+"/v1/opamp", &websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + token.Token}}})
		require.NoError(t, err)
		defer ws.CloseNow()
		if how == "revoked" {
			get[struct{}](t, first(d.api.RevokeJoinToken(ctx, token.Id)), nil)
			_, _, err = ws.Read(ctx)
			assert.Error(t, err, "the connection is closed")
		} else {
			time.Sleep(1100 * time.Millisecond)
		}
		frame, err := wire.Marshal(&protobufs.AgentToServer{InstanceUid: []byte("0123456789abcdef"), Capabilities: wire.AgentCapabilities, AgentDescription: description("synaxis-agent", "late-"+how)})
		require.NoError(t, err)
		_ = ws.Write(ctx, websocket.MessageBinary, frame)
		_, frame, err = ws.Read(ctx)
		if err == nil {
			answer := &protobufs.ServerToAgent{}
			require.NoError(t, wire.Unmarshal(frame, answer))
			assert.Nil(t, answer.ConnectionSettings)
			assert.Contains(t, answer.GetErrorResponse().GetErrorMessage(), "the join token expired")
		}
		assert.Equal(t, http.StatusNotFound, first(d.api.GetHost(ctx, "late-"+how)).StatusCode)
	}
}
