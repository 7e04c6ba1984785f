package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/getkin/kin-openapi/openapi3"
	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"google.golang.org/protobuf/proto"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

// TestReportedSecret: a host that calls its system like a secret gets no secret, and nothing that it reports stays a
// reference.
func TestReportedSecret(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	for _, name := range []string{"door", "other"} {
		_, code := d.cliIn("t0psecret-"+name+"\n", "secret", "set", name)
		require.Zero(t, code)
	}
	d.publish(
		linesCatalogue(
			"/nowhere/${observed.os}/*.log",
			"http://127.0.0.1:9/in",
		) + "auth: {bearer: '${secret.other}'}\n",
	)
	p := newPoller(t, d, d.joinToken(1, nil))
	said := description("synaxis-agent", "h")
	p.join(said)
	said.NonIdentifyingAttributes = append(
		said.NonIdentifyingAttributes[:2],
		kv("os.type", "${secret.door@1}"),
		kv("os.description", "lin\x1b[31mux ${secret.door@1}\x00\u202e"+strings.Repeat("x", 1<<20)),
	)
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
	assert.JSONEq(
		t,
		`{"other@1": "t0psecret-other"}`,
		string(files["secrets"].GetBody()),
		"what its definitions name, and nothing else",
	)
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
		"any": {
			Labels: &map[string]string{"site": "northpier"},
		}, "listed": {Labels: &map[string]string{"site": "northpier"}, Listed: ptr(true)},
		"listed-elsewhere": {
			Labels: &map[string]string{"site": "saltmarsh"},
			Listed: ptr(true),
		}, "this": {}, "this-elsewhere": {Labels: &map[string]string{"site": "saltmarsh"}}, "other": {},
	}
	may := map[string][]string{
		"new": {
			"any",
			"listed",
			"listed-elsewhere",
			"this",
			"this-elsewhere",
		}, "is-listed": {"listed", "this"}, "has-joined": {"this", "this-elsewhere"}, "was-retired": {"this",
			"this-elsewhere"},
	}
	for _, kind := range slices.Sorted(maps.Keys(may)) {
		for token := range tokens {
			if kind != "new" {
				fmt.Fprintf(&list, "%s-%s,northpier,/srv\n", kind, token)
			}
		}
	}
	get[contract.ImportResult](
		t,
		first(d.api.ImportInventory(ctx, contract.InventoryImport{File: "x.csv", Text: list.String()})),
		nil,
	)
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
			answer, status := p.send(
				&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", name)},
			) // host.id is that of the host: it is no proof
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
	for _, e := range get[contract.AuditList](t, first(d.api.ListAudit(ctx, &contract.ListAuditParams{Action: ptr(
		"host join"), Limit: ptr(1000)})), nil).Items {
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
		token := get[contract.CreatedJoinToken](
			t,
			first(d.api.CreateJoinToken(ctx, contract.NewJoinToken{Lasts: &lasts})),
			nil,
		)
		ws, _, err := websocket.Dial(
			ctx,
			strings.Replace(d.url, "http", "ws", 1)+"/v1/opamp",
			&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + token.Token}}},
		)
		require.NoError(t, err)
		defer ws.CloseNow()
		if how == "revoked" {
			get[struct{}](t, first(d.api.RevokeJoinToken(ctx, token.Id)), nil)
			_, _, err = ws.Read(ctx)
			assert.Error(t, err, "the connection is closed")
		} else {
			time.Sleep(1100 * time.Millisecond)
		}
		frame, err := wire.Marshal(
			&protobufs.AgentToServer{
				InstanceUid:      []byte("0123456789abcdef"),
				Capabilities:     wire.AgentCapabilities,
				AgentDescription: description("synaxis-agent", "late-"+how),
			},
		)
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

// TestEveryOperationWithEveryCredential goes through all operations of the contract, and the ways of agents, with each
// kind of credential.
func TestEveryOperationWithEveryCredential(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	_, code := d.cliIn("x\n", "secret", "set", "door")
	require.Zero(t, code)
	grant := func(lasts string) contract.CreatedGrant {
		return get[contract.CreatedGrant](
			t,
			first(d.api.GrantSecret(ctx, "door", contract.NewGrant{To: "Ines", Lasts: &lasts})),
			nil,
		)
	}
	one, other := newPoller(t, d, d.joinToken(1, nil)), newPoller(t, d, d.joinToken(1, nil))
	for name, p := range map[string]*poller{"one": one, "other": other} {
		p.join(description("synaxis-agent", name))
		_, status := p.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", name)})
		require.Equal(t, http.StatusOK, status)
	}
	retired := newPoller(t, d, d.joinToken(1, nil))
	retired.join(description("some-other-agent", "retired"))
	_, status := retired.send(&protobufs.AgentToServer{AgentDescription: description("some-other-agent", "retired")})
	require.Equal(t, http.StatusOK, status)
	get[contract.Host](t, first(d.api.RetireHost(ctx, "retired")), nil)
	short := "1s"
	expiredToken := get[contract.CreatedJoinToken](
		t,
		first(d.api.CreateJoinToken(ctx, contract.NewJoinToken{Lasts: &short})),
		nil,
	).Token
	revokedToken := get[contract.CreatedJoinToken](t, first(d.api.CreateJoinToken(ctx, contract.NewJoinToken{})), nil)
	get[struct{}](t, first(d.api.RevokeJoinToken(ctx, revokedToken.Id)), nil)
	revoked, expired := grant("1h"), grant("1s")
	get[struct{}](t, first(d.api.RevokeGrant(ctx, "door", revoked.Id)), nil)
	signedIn := first(d.api.CreateSession(ctx, contract.SignIn{Token: &d.token}))
	cookie := signedIn.Cookies()[0]
	signedIn.Body.Close()
	time.Sleep(1100 * time.Millisecond) // until what lasts a second has ended

	bearer := map[string]string{
		"none":                    "",
		"join token":              d.joinToken(1, nil),
		"revoked join token":      revokedToken.Token,
		"expired join token":      expiredToken,
		"agent":                   one.bearer,
		"agent of another host":   other.bearer,
		"agent of a retired host": retired.bearer,
		"setter":                  grant("1h").Token,
		"revoked setter":          revoked.Token,
		"expired setter":          expired.Token,
		"admin":                   d.token,
		"cookie without Origin":   "",
		"cookie from elsewhere":   "",
		"cookie":                  "",
	}
	uid := one.uid
	call := func(method, path, who string) int {
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		var body []byte
		switch path {
		case "/v1/opamp":
			body, _ = proto.Marshal(
				&protobufs.AgentToServer{InstanceUid: uid, Capabilities: wire.AgentCapabilities, SequenceNum: 99},
			)
		case "/v1/metrics":
		default:
			body = []byte("{}")
		}
		req, err := http.NewRequestWithContext(ctx, method, d.url+path, bytes.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		if bearer[who] != "" {
			req.Header.Set("Authorization", "Bearer "+bearer[who])
		}
		if strings.HasPrefix(who, "cookie") {
			req.AddCookie(cookie)
			req.Header.Set(
				"Origin",
				map[string]string{"cookie": d.url, "cookie from elsewhere": "http://elsewhere.example",
					"cookie without Origin": ""}[who],
			)
		}
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"), path)
		if strings.HasPrefix(path, "/api/") {
			assert.Equal(t, "no-store", resp.Header.Get("Cache-Control"), path)
		}
		return resp.StatusCode
	}

	// The ways of agents: who may, and nobody else. A wrong bearer is answered late, so all run beside each other.
	var running sync.WaitGroup
	for path, may := range map[string][]string{
		"POST /v1/opamp":            {"agent"}, // for its own uid; a join token is asked for more
		"POST /v1/metrics":          {"agent", "agent of another host"},
		"GET /v1/needs?name=x":      {"join token"},
		"GET /metrics":              {"admin", "cookie", "cookie without Origin", "cookie from elsewhere"},
		"GET /api/v1/events?topics": {"admin", "cookie", "cookie without Origin", "cookie from elsewhere"},
	} {
		method, path, _ := strings.Cut(path, " ")
		for who := range bearer {
			running.Go(func() {
				status := call(method, path, who)
				switch {
				case path == "/v1/opamp" && who == "join token":
					assert.Equal(t, http.StatusOK, status, "it is asked who it is, and given nothing")
				case slices.Contains(may, who):
					assert.Equal(t, http.StatusOK, status, "%s %s with %s", method, path, who)
				case who == "setter" && !strings.HasPrefix(path, "/v1/"):
					assert.Equal(t, http.StatusForbidden, status, "%s %s with %s", method, path, who)
				default:
					assert.Equal(t, http.StatusUnauthorized, status, "%s %s with %s", method, path, who)
				}
			})
		}
	}

	// The operations of the contract.
	doc, err := openapi3.NewLoader().LoadFromFile("../api/openapi.yaml")
	require.NoError(t, err)
	var operations []string
	for _, path := range doc.Paths.InMatchingOrder() {
		for method := range doc.Paths.Value(path).Operations() {
			operations = append(operations, method+" "+path)
		}
	}
	require.Greater(t, len(operations), 50)
	places := make(chan struct{}, 100)
	for _, op := range append(slices.Clone(operations), "PUT /secrets/door") {
		for who := range bearer {
			method, path, _ := strings.Cut(op, " ")
			if op == "DELETE /session" && who == "cookie" { // the others need it
				continue
			}
			places <- struct{}{}
			running.Go(func() {
				defer func() { <-places }()
				status := call(method, "/api/v1"+regexp.MustCompile(`\{\w+\}`).ReplaceAllString(path, "0"), who)
				reads := method == http.MethodGet
				switch {
				case op == "POST /session":
					assert.Contains(
						t,
						[]int{http.StatusUnauthorized, http.StatusBadRequest},
						status,
						"%s with %s: neither a token nor a code",
						op,
						who,
					)
				case who == "admin", who == "cookie", strings.HasPrefix(who, "cookie") && reads:
					assert.NotContains(
						t,
						[]int{http.StatusUnauthorized, http.StatusForbidden, http.StatusInternalServerError},
						status,
						"%s with %s",
						op,
						who,
					)
				case who == "setter" && op == "PUT /secrets/door":
					assert.Equal(t, http.StatusForbidden, status, "a value is all that it may set, and there is none")
				case who == "setter":
					assert.Equal(t, http.StatusForbidden, status, "%s with %s", op, who)
				default:
					assert.Equal(t, http.StatusUnauthorized, status, "%s with %s", op, who)
				}
			})
		}
	}
	running.Wait()
}

// TestSmallerDoors: what each of them was, and that it is shut.
func TestSmallerDoors(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()

	t.Run("files of the service", func(t *testing.T) {
		require.NoError(t, filepath.WalkDir(d.dir, func(path string, e fs.DirEntry, err error) error {
			require.NoError(t, err)
			info, err := e.Info()
			require.NoError(t, err)
			assert.Zero(t, info.Mode().Perm()&0o077, "%s is open to others: %s", path, info.Mode())
			return nil
		}))
		again := startDesk(t)
		again.stop()
		require.NoError(t, os.Chmod(again.dir, 0o755))
		require.NoError(t, os.Chmod(filepath.Join(again.dir, "admin.token"), 0o644))
		again.run()
		info, err := os.Stat(filepath.Join(again.dir, "admin.token"))
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
		assert.Contains(t, again.log.String(), "were open to other accounts of this machine")
	})

	t.Run("sign-out ends events", func(t *testing.T) {
		resp := first(d.api.CreateSession(ctx, contract.SignIn{Token: &d.token}))
		cookie := resp.Cookies()[0]
		resp.Body.Close()
		with := func(method, path string) *http.Response {
			req, err := http.NewRequestWithContext(ctx, method, d.url+path, nil)
			require.NoError(t, err)
			req.AddCookie(cookie)
			req.Header.Set("Origin", d.url)
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			return resp
		}
		events := with("GET", "/api/v1/events")
		defer events.Body.Close()
		one := make([]byte, 10)
		_, err := io.ReadFull(events.Body, one)
		require.NoError(t, err)
		with("DELETE", "/api/v1/session").Body.Close()
		began := time.Now()
		_, err = io.Copy(io.Discard, events.Body)
		require.NoError(t, err)
		assert.Less(t, time.Since(began), 5*time.Second)
	})

	t.Run("who may set one secret learns no names", func(t *testing.T) {
		_, code := d.cliIn("x\n", "secret", "set", "door")
		require.Zero(t, code)
		d.publish(linesCatalogue("/nowhere/*.log", "http://127.0.0.1:9/in") + "auth: {bearer: '${secret.door}'}\n")
		grant := get[contract.CreatedGrant](
			t,
			first(d.api.GrantSecret(ctx, "door", contract.NewGrant{To: "Ines"})),
			nil,
		)
		req, err := http.NewRequest(http.MethodPut, d.url+"/api/v1/secrets/door", strings.NewReader(`{"value": "y"}`))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+grant.Token)
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		s := get[contract.Secret](t, resp, nil)
		assert.Equal(t, 2, s.Version)
		assert.Empty(t, s.UsedBy)
		assert.Empty(t, s.Grants)
		assert.Zero(t, s.Hosts)
		assert.Empty(t, s.About)
	})

	t.Run("export stays in its folder", func(t *testing.T) {
		outside := filepath.Join(t.TempDir(), "dir-and-more")
		for _, name := range []string{"../dir-and-more/x.yaml", "/etc/x.yaml", outside + "/x.yaml", "link/x.yaml",
			"a/../../x.yaml", ".."} {
			dir := filepath.Join(filepath.Dir(outside), "dir")
			require.NoError(t, os.MkdirAll(dir, 0o755))
			require.NoError(t, os.MkdirAll(outside, 0o755))
			_ = os.Symlink(outside, filepath.Join(dir, "link"))
			hostile := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", "application/json")
				_ = json.NewEncoder(w).
					Encode(contract.FileList{Revision: 1, Items: []contract.File{{Path: name, Text: "evil"}}})
			}))
			cmd := exec.Command(filepath.Join(bin, "synaxis"), "catalogue", "export", dir)
			cmd.Env = append(os.Environ(), "SYNAXIS_URL="+hostile.URL, "SYNAXIS_TOKEN=x", "XDG_CONFIG_HOME="+d.dir)
			out, err := cmd.CombinedOutput()
			hostile.Close()
			assert.Error(t, err, name)
			assert.Contains(t, string(out), "is not written into", name)
			left, err := os.ReadDir(outside)
			require.NoError(t, err)
			assert.Empty(t, left, name)
		}
	})

	t.Run("a condition has a bound", func(t *testing.T) {
		long := "[0,1,2,3,4,5,6,7,8,9]"
		bad := "host.name != '' || " + strings.Repeat(
			long+".exists(a, ",
			6,
		) + "host.name == string(a)" + strings.Repeat(
			")",
			6,
		)
		began := time.Now()
		resp := first(d.api.ListHosts(ctx, &contract.ListHostsParams{Hosts: &bad}))
		defer resp.Body.Close()
		assert.Less(t, time.Since(began), 5*time.Second)
		assert.Equal(t, http.StatusBadRequest, resp.StatusCode, "%s", readAll(t, resp))
	})
}

// TestFilesOfAgentAndClient: what an agent keeps, with secrets and positions, and what a person's sign-in leaves, is
// open to nobody else, whatever the umask is.
func TestFilesOfAgentAndClient(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	dir := t.TempDir()
	_, code := d.cliIn("t0psecret\n", "secret", "set", "door")
	require.Zero(t, code)
	recv := newReceiver(t, nil)
	state := filepath.Join(dir, "state")
	agent := exec.Command(
		"sh",
		"-c",
		`umask 0; exec "$0" "$@"`,
		filepath.Join(bin, "synaxis-agent"),
		"--service",
		d.url,
		"--state",
		state+"/",
		"--name",
		"h",
		"--report",
		"200ms",
	)
	agent.Env = append(os.Environ(), joinsBy(d.joinToken(1, nil))...)
	require.NoError(t, agent.Start())
	defer func() { _ = agent.Process.Kill(); _ = agent.Wait() }()
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	appendLines(t, filepath.Join(dir, "a.log"), 0, 3)
	d.publish(
		strings.Replace(
			linesCatalogue(filepath.Join(dir, "*.log"), recv.URL),
			"format: raw",
			"format: raw\nsteps: [{mask: [lane]}]",
			1,
		) + "---\nmask: lane\nfind: 'line'\nfill: {hash: '${secret.door}'}\n",
	)
	d.rollOut()
	eventually(t, 15*time.Second, "the records and their positions", func() bool {
		n, _ := recv.count()
		return n == 3 && exists(filepath.Join(state, "positions.json"))
	})
	login := exec.Command(filepath.Join(bin, "synaxis"), "login", "--url", d.url)
	login.Env, login.Stdin = append(
		os.Environ(),
		"XDG_CONFIG_HOME="+filepath.Join(dir, "config"),
		"SYNAXIS_TOKEN=",
	), strings.NewReader(
		d.token+"\n",
	)
	out, err := login.CombinedOutput()
	require.NoError(t, err, "%s", out)
	help := exec.Command(filepath.Join(bin, "synaxis-agent"), "--help")
	help.Env = append(os.Environ(), joinsBy("j1.a-token")...)
	said, err := help.CombinedOutput()
	require.NoError(t, err)
	assert.NotContains(t, string(said), "a-token")
	assert.NotContains(t, string(said), "--join-token ", "no token is on a command line, where all can read it")
	kept := map[string]bool{}
	for _, root := range []string{state, filepath.Join(dir, "config")} {
		require.NoError(t, filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			require.NoError(t, err)
			info, err := e.Info()
			require.NoError(t, err)
			if path != filepath.Join(dir, "config") {
				assert.Zero(t, info.Mode().Perm()&0o077, "%s is open to others: %s", path, info.Mode())
			}
			kept[e.Name()] = true
			return nil
		}))
	}
	for _, name := range []string{"identity.json", "last-good.json", "positions.json"} {
		assert.True(t, kept[name], "%s is looked at: %v", name, kept)
	}
	// also where the folder was given with a slash at its end
	for _, closed := range []string{"identity.json", "last-good.json"} {
		out, code := d.cli("host", "lines", "h", filepath.Join(state, closed))
		assert.NotZero(t, code)
		assert.Contains(t, out, "closed to the desk")
	}
}

func exists(path string) bool { _, err := os.Stat(path); return err == nil }
