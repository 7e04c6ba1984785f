package control

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/wire"
)

// longest bounds a wait that would otherwise hang. It measures no speed: the machine may be busy.
const longest = time.Minute

// host is an agent that notes what is asked of it.
type host struct {
	mu       sync.Mutex
	applied  []string
	secrets  []string
	forgot   int
	complain string
	text     []byte
}

func (h *host) Describe() *protobufs.AgentDescription {
	return &protobufs.AgentDescription{
		IdentifyingAttributes: []*protobufs.KeyValue{wire.TextAttribute("host.name", "h")},
	}
}

func (h *host) Health() *protobufs.ComponentHealth {
	h.mu.Lock()
	defer h.mu.Unlock()
	return &protobufs.ComponentHealth{Healthy: h.complain == "", LastError: h.complain}
}

func (h *host) Effective() []byte {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text
}

func (h *host) ConfigStatus() *protobufs.RemoteConfigStatus { return nil }

func (h *host) Apply(text, secrets, hash []byte) *protobufs.RemoteConfigStatus {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.applied, h.secrets, h.text = append(h.applied, string(text)), append(h.secrets, string(secrets)), text
	return &protobufs.RemoteConfigStatus{
		LastRemoteConfigHash: hash,
		Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED,
	}
}

func (h *host) Forget() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.forgot++
	return nil
}

func (h *host) Metrics(now time.Time) proto.Message {
	return wire.EncodeNumbers("h", now, now, map[string]wire.Numbers{"s": {Read: 7}})
}

func (h *host) Answer(_ context.Context, kind string, ask wire.Ask) wire.Reply {
	return wire.Reply{ID: ask.ID, Error: "asked for " + kind}
}

// desk is the other side of the connection: it hands each message to answer, and sends what that gives.
type desk struct {
	*httptest.Server
	mu      sync.Mutex
	bearers []string
	numbers []map[string]wire.Numbers
	refuse  int // with this status
}

func newDesk(t *testing.T, answer func(bearer string, m *protobufs.AgentToServer) *protobufs.ServerToAgent) *desk {
	d := &desk{}
	mux := http.NewServeMux()
	mux.HandleFunc(wire.OpAMPPath, func(w http.ResponseWriter, r *http.Request) {
		bearer := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
		d.mu.Lock()
		d.bearers = append(d.bearers, bearer)
		refuse := d.refuse
		d.mu.Unlock()
		if refuse != 0 {
			w.WriteHeader(refuse)
			_, _ = io.WriteString(w, `{"detail": "not you"}`)
			return
		}
		if r.Method == http.MethodPost { // it joins, in one request
			text, _ := io.ReadAll(r.Body)
			m, out := &protobufs.AgentToServer{}, []byte(nil)
			if proto.Unmarshal(text, m) == nil {
				out, _ = proto.Marshal(answer(bearer, m))
			}
			_, _ = w.Write(out)
			return
		}
		ws, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		defer ws.CloseNow()
		for {
			_, frame, err := ws.Read(r.Context())
			if err != nil {
				return
			}
			m := &protobufs.AgentToServer{}
			if wire.Unmarshal(frame, m) != nil {
				return
			}
			if out := answer(bearer, m); out != nil {
				text, err := wire.Marshal(out)
				if err != nil || ws.Write(r.Context(), websocket.MessageBinary, text) != nil {
					return
				}
			}
		}
	})
	mux.HandleFunc(wire.MetricsPath, func(_ http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		if report, err := wire.ReadReport(text); err == nil {
			d.mu.Lock()
			d.numbers = append(d.numbers, report.Sources)
			d.mu.Unlock()
		}
	})
	d.Server = httptest.NewServer(mux)
	t.Cleanup(func() { d.CloseClientConnections(); d.Close() })
	return d
}

func start(t *testing.T, d *desk, dir string, h *host) *Client {
	c, err := New(
		Options{
			Service:   d.URL,
			JoinToken: "token",
			StateDir:  dir,
			HostID:    "machine",
			Report:    20 * time.Millisecond,
			Log:       slog.New(slog.DiscardHandler),
		},
		h,
	)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); c.Run(ctx) }()
	t.Cleanup(func() { cancel(); <-done })
	return c
}

func eventually(t *testing.T, what string, done func() bool) {
	t.Helper()
	require.Eventually(t, done, longest, 5*time.Millisecond, what)
}

func credential(text string) *protobufs.ServerToAgent {
	return &protobufs.ServerToAgent{
		ConnectionSettings: &protobufs.ConnectionSettingsOffers{Opamp: &protobufs.OpAMPConnectionSettings{
			Headers: &protobufs.Headers{
				Headers: []*protobufs.Header{{Key: "Authorization", Value: "Bearer " + text}},
			}}},
	}
}

// TestJoinsAndApplies: a token is exchanged for a credential, which is kept; a config is taken, run, and reported with
// what became of it; questions are answered, and numbers sent.
func TestJoinsAndApplies(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var seen []*protobufs.AgentToServer
	offered := false
	d := newDesk(t, func(bearer string, m *protobufs.AgentToServer) *protobufs.ServerToAgent {
		mu.Lock()
		defer mu.Unlock()
		if bearer == "token" {
			return credential("c1.secret")
		}
		if seen = append(seen, m); !offered {
			offered = true
			config := wire.ConfigMap([]byte("text"))
			wire.AddSecrets(config, map[string]string{"a@1": "s"})
			return &protobufs.ServerToAgent{
				RemoteConfig: &protobufs.AgentRemoteConfig{Config: config, ConfigHash: []byte{1}},
				CustomMessage: &protobufs.CustomMessage{
					Capability: wire.DeskCapability,
					Type:       wire.AskLogs,
					Data:       wire.Encode(wire.Ask{ID: "q"}),
				},
			}
		}
		return nil
	})
	dir, h := t.TempDir(), &host{}
	start(t, d, dir, h)
	has := func(what string, is func(*protobufs.AgentToServer) bool) {
		eventually(t, what, func() bool {
			mu.Lock()
			defer mu.Unlock()
			for _, m := range seen {
				if is(m) {
					return true
				}
			}
			return false
		})
	}
	status := func(s protobufs.RemoteConfigStatuses) func(*protobufs.AgentToServer) bool {
		return func(m *protobufs.AgentToServer) bool { return m.GetRemoteConfigStatus().GetStatus() == s }
	}
	has("applying", status(protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLYING))
	has("applied", status(protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED))
	has("what runs", func(m *protobufs.AgentToServer) bool {
		return string(wire.ConfigOf(m.GetEffectiveConfig().GetConfigMap())) == "text"
	})
	has("the answer", func(m *protobufs.AgentToServer) bool {
		var r wire.Reply
		return m.GetCustomMessage().GetType() == wire.TypeReply &&
			wire.Decode(m.GetCustomMessage().GetData(), &r) == nil &&
			r.ID == "q" &&
			r.Error == "asked for "+wire.AskLogs
	})
	assert.Equal(t, []string{`{"a@1":"s"}`}, h.secrets)
	eventually(t, "numbers", func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return len(d.numbers) > 0 && d.numbers[0]["s"].Read == 7
	})
	h.mu.Lock()
	h.complain = "full"
	h.mu.Unlock()
	has("health", func(m *protobufs.AgentToServer) bool { return m.GetHealth().GetLastError() == "full" })
	mu.Lock()
	for i := 1; i < len(seen); i++ {
		assert.Equal(t, seen[i-1].SequenceNum+1, seen[i].SequenceNum, "sequence numbers go up by one")
	}
	mu.Unlock()
	var id Identity
	text, err := os.ReadFile(filepath.Join(dir, "identity.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &id))
	assert.Equal(t, []string{"c1.secret", "machine"}, []string{id.Credential, id.HostID})
	info, err := os.Stat(filepath.Join(dir, "identity.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// TestRetirement: an empty config is applied too, and reported.
func TestRetirement(t *testing.T) {
	t.Parallel()
	told := make(chan *protobufs.AgentToServer, 100)
	d := newDesk(t, func(bearer string, m *protobufs.AgentToServer) *protobufs.ServerToAgent {
		if bearer == "token" {
			return credential("c1.secret")
		}
		select {
		case told <- m:
		default:
		}
		if m.GetAgentDescription() != nil {
			return &protobufs.ServerToAgent{
				RemoteConfig: &protobufs.AgentRemoteConfig{Config: wire.ConfigMap(nil), ConfigHash: wire.NothingHash},
			}
		}
		return nil
	})
	h := &host{text: []byte("old")}
	start(t, d, t.TempDir(), h)
	for m := range told {
		if m.GetRemoteConfigStatus().GetStatus() == protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED {
			assert.Equal(t, wire.NothingHash, m.GetRemoteConfigStatus().GetLastRemoteConfigHash())
			break
		}
	}
	assert.Equal(t, []string{""}, h.applied)
}

// TestCopied: an agent that is told that it is a copy takes the uid, throws away what was copied, and calls again as
// somebody new.
func TestCopied(t *testing.T) {
	t.Parallel()
	uid := wire.NewUID()
	calls := make(chan []byte, 100)
	d := newDesk(t, func(_ string, m *protobufs.AgentToServer) *protobufs.ServerToAgent {
		calls <- m.GetInstanceUid()
		if string(m.GetInstanceUid()) != string(uid[:]) {
			return &protobufs.ServerToAgent{
				AgentIdentification: &protobufs.AgentIdentification{NewInstanceUid: uid[:]},
			}
		}
		return nil
	})
	h := &host{}
	start(t, d, t.TempDir(), h)
	assert.NotEqual(t, uid[:], <-calls)
	assert.Equal(t, uid[:], <-calls)
	h.mu.Lock()
	assert.Equal(t, 1, h.forgot)
	h.mu.Unlock()
}

// TestRefused: a refusal is not hammered: it needs somebody to act.
func TestRefused(t *testing.T) {
	t.Parallel()
	d := newDesk(t, func(string, *protobufs.AgentToServer) *protobufs.ServerToAgent { return nil })
	d.refuse = http.StatusUnauthorized
	start(t, d, t.TempDir(), &host{})
	time.Sleep(500 * time.Millisecond)
	d.mu.Lock()
	defer d.mu.Unlock()
	assert.Len(t, d.bearers, 1)
}

// TestDamagedIdentity: what cannot be read is named, and nothing is made up in its place.
func TestDamagedIdentity(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, text := range []string{"", "{", `[]`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "identity.json"), []byte(text), 0o600))
		_, err := New(
			Options{Service: "http://127.0.0.1:1", StateDir: dir, HostID: "m", Log: slog.New(slog.DiscardHandler)},
			&host{},
		)
		require.ErrorContains(t, err, "identity.json")
		require.ErrorContains(t, err, "join token")
		require.ErrorContains(t, err, "positions")
	}
	for _, service := range []string{"", "desk.example", "ftp://desk.example"} {
		_, err := New(Options{Service: service, StateDir: t.TempDir()}, &host{})
		assert.ErrorContains(t, err, "expected an address", service)
	}
}

// TestNeeds asks what a host would need, with the token, and says why not.
func TestNeeds(t *testing.T) {
	t.Parallel()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer good" {
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = io.WriteString(w, "the join token is not known\n")
			return
		}
		_, _ = io.WriteString(w, "name="+r.URL.Query().Get("name")+"\n")
	}))
	t.Cleanup(s.Close)
	text, err := Needs(context.Background(), Options{Service: s.URL, JoinToken: "good"}, url.Values{"name": {"h"}})
	require.NoError(t, err)
	assert.Equal(t, "name=h\n", text)
	_, err = Needs(context.Background(), Options{Service: s.URL, JoinToken: "bad"}, nil)
	assert.EqualError(t, err, "the join token is not known")
	_, err = Needs(context.Background(), Options{Service: "nowhere"}, nil)
	assert.Error(t, err)
}
