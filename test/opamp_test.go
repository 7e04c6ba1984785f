package test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/contract"
	"synaxis/internal/core/wire"
)

// poller is an OpAMP client over plain HTTP polling, written from the specification and not from our agent.
type poller struct {
	t        *testing.T
	url      string
	bearer   string
	uid      []byte
	sequence uint64
	gzip     bool
}

func newPoller(t *testing.T, d *desk, token string) *poller {
	p := &poller{t: t, url: d.url + "/v1/opamp", bearer: token, uid: make([]byte, 16)}
	_, _ = rand.Read(p.uid)
	return p
}

func (p *poller) send(m *protobufs.AgentToServer) (*protobufs.ServerToAgent, int) {
	p.t.Helper()
	m.InstanceUid, m.SequenceNum = p.uid, p.sequence
	m.Capabilities = uint64(
		protobufs.AgentCapabilities_AgentCapabilities_ReportsStatus |
			protobufs.AgentCapabilities_AgentCapabilities_AcceptsRemoteConfig |
			protobufs.AgentCapabilities_AgentCapabilities_ReportsEffectiveConfig |
			protobufs.AgentCapabilities_AgentCapabilities_ReportsRemoteConfig |
			protobufs.AgentCapabilities_AgentCapabilities_AcceptsOpAMPConnectionSettings,
	)
	p.sequence++
	body, err := proto.Marshal(m)
	require.NoError(p.t, err)
	if p.gzip {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, err = w.Write(body)
		require.NoError(p.t, err)
		require.NoError(p.t, w.Close())
		body = b.Bytes()
	}
	req, err := http.NewRequest(http.MethodPost, p.url, bytes.NewReader(body))
	require.NoError(p.t, err)
	req.Header.Set("Content-Type", "application/x-protobuf")
	req.Header.Set("Authorization", "Bearer "+p.bearer)
	if p.gzip {
		req.Header.Set("Content-Encoding", "gzip")
	}
	resp, err := http.DefaultClient.Do(req)
	require.NoError(p.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(p.t, err)
	if resp.StatusCode != http.StatusOK {
		return nil, resp.StatusCode
	}
	assert.Equal(p.t, "application/x-protobuf", resp.Header.Get("Content-Type"))
	var answer protobufs.ServerToAgent
	require.NoError(p.t, proto.Unmarshal(text, &answer))
	assert.Equal(p.t, p.uid, answer.InstanceUid)
	return &answer, resp.StatusCode
}

func kv(key, value string) *protobufs.KeyValue {
	return &protobufs.KeyValue{
		Key:   key,
		Value: &protobufs.AnyValue{Value: &protobufs.AnyValue_StringValue{StringValue: value}},
	}
}

func description(service, host string) *protobufs.AgentDescription {
	return &protobufs.AgentDescription{
		IdentifyingAttributes: []*protobufs.KeyValue{kv("service.name", service), kv("service.version", "9.9")},
		NonIdentifyingAttributes: []*protobufs.KeyValue{
			kv("host.name", host),
			kv("host.id", "id-of-"+host),
			kv("os.type", "linux"),
		},
	}
}

// join takes the credential that the service offers.
func (p *poller) join(d *protobufs.AgentDescription) {
	p.t.Helper()
	answer, _ := p.send(&protobufs.AgentToServer{AgentDescription: d})
	require.NotNil(p.t, answer)
	headers := answer.GetConnectionSettings().GetOpamp().GetHeaders().GetHeaders()
	require.Len(p.t, headers, 1)
	assert.Equal(p.t, "Authorization", headers[0].Key)
	p.bearer = strings.TrimPrefix(headers[0].Value, "Bearer ")
}

// TestPollingClient: a client over plain polling, independent of our agent's code, joins, takes a config and reports
// it.
func TestPollingClient(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	p := newPoller(t, d, d.joinToken(1, map[string]string{"role": "gate"}))
	p.join(description("synaxis-agent", "polled"))
	answer, _ := p.send(&protobufs.AgentToServer{})
	assert.Equal(
		t,
		uint64(protobufs.ServerToAgentFlags_ServerToAgentFlags_ReportFullState),
		answer.Flags,
		"the service knows nothing of it yet",
	)
	p.gzip = true
	answer, _ = p.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "polled")})
	assert.Zero(t, answer.Flags)
	h := d.host("polled")
	assert.True(t, h.Connected)
	assert.Equal(t, "polling", *h.Transport)
	assert.Equal(t, "linux", h.Observed["os.type"])

	d.publish(linesCatalogue("/nowhere/*.log", "http://127.0.0.1:9/in"))
	resp, err := d.api.StartRollout(context.Background(), contract.NewRollout{Plan: &oneWave})
	r := get[contract.Rollout](t, resp, err)
	var config *protobufs.AgentRemoteConfig
	eventually(t, 10*time.Second, "the config", func() bool {
		answer, _ = p.send(&protobufs.AgentToServer{})
		config = answer.GetRemoteConfig()
		return config != nil
	})
	state := func() string {
		resp, err := d.api.GetRollout(context.Background(), r.Id)
		return get[contract.Rollout](t, resp, err).Hosts[0].State
	}
	eventually(t, 5*time.Second, "offered", func() bool { return state() == "offered" })
	file := config.GetConfig().GetConfigMap()["synaxis.yaml"]
	require.NotNil(t, file)
	assert.Equal(t, "text/yaml", file.ContentType)
	assert.Contains(t, string(file.Body), "source: lines")
	status := func(s protobufs.RemoteConfigStatuses) *protobufs.RemoteConfigStatus {
		return &protobufs.RemoteConfigStatus{LastRemoteConfigHash: config.ConfigHash, Status: s}
	}
	p.send(
		&protobufs.AgentToServer{
			RemoteConfigStatus: status(protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLYING),
		},
	)
	eventually(t, 5*time.Second, "applying", func() bool { return state() == "applying" })
	p.send(
		&protobufs.AgentToServer{
			RemoteConfigStatus: status(protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED),
		},
	)
	eventually(t, 5*time.Second, "applied", func() bool { return state() == "applied" })
	altered := &protobufs.AgentConfigMap{
		ConfigMap: map[string]*protobufs.AgentConfigFile{
			"synaxis.yaml": {Body: append(bytes.Clone(file.Body), "# altered\n"...)},
		},
	}
	p.send(&protobufs.AgentToServer{EffectiveConfig: &protobufs.EffectiveConfig{ConfigMap: altered}})
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, "applied", state(), "that a text claims the hash is not enough")
	p.send(&protobufs.AgentToServer{EffectiveConfig: &protobufs.EffectiveConfig{ConfigMap: config.Config}})
	eventually(t, 5*time.Second, "confirmed", func() bool { return state() == "confirmed" })
	assert.Equal(t, *d.host("polled").AssignedHash, *d.host("polled").RunningHash)

	p.sequence += 5
	answer, _ = p.send(&protobufs.AgentToServer{})
	assert.Equal(
		t,
		uint64(protobufs.ServerToAgentFlags_ServerToAgentFlags_ReportFullState),
		answer.Flags,
		"a gap asks for the full state",
	)
	p.send(
		&protobufs.AgentToServer{
			AgentDescription: description("synaxis-agent", "polled"),
			AgentDisconnect:  &protobufs.AgentDisconnect{},
		},
	)
	assert.False(t, d.host("polled").Connected)
}

// TestOtherAgents: one that cannot read our config is seen and gets none; a credential serves one agent only.
func TestOtherAgents(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	d.publish(linesCatalogue("/nowhere/*.log", "http://127.0.0.1:9/in"))
	p := newPoller(t, d, d.joinToken(0, nil))
	p.join(description("some-other-agent", "other"))
	p.send(&protobufs.AgentToServer{AgentDescription: description("some-other-agent", "other")})
	d.rollOutOffered()
	for range 3 {
		answer, _ := p.send(&protobufs.AgentToServer{})
		assert.Nil(t, answer.GetRemoteConfig())
		time.Sleep(100 * time.Millisecond)
	}
	assert.True(t, d.connected("other"))
	copied := *p
	copied.uid = bytes.Repeat([]byte{7}, 16)
	_, status := copied.send(&protobufs.AgentToServer{})
	assert.Equal(t, http.StatusUnauthorized, status)
	old := *p
	old.bearer = p.bearer[:len(p.bearer)-1] + "x"
	_, status = old.send(&protobufs.AgentToServer{})
	assert.Equal(t, http.StatusUnauthorized, status)
	for _, body := range []string{"not protobuf \xff", ""} {
		req, err := http.NewRequest(http.MethodPost, d.url+"/v1/opamp", strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+p.bearer)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Contains(t, []int{http.StatusBadRequest, http.StatusUnauthorized}, resp.StatusCode)
	}
}

// TestReservedUses: an offer reserves a use of the token, asking again does not take another, and a use counts once.
func TestReservedUses(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	token := d.joinToken(1, nil)
	p := newPoller(t, d, token)
	p.join(description("synaxis-agent", "one"))
	first := p.bearer
	p.bearer = token
	p.join(description("synaxis-agent", "one")) // the first answer was lost on the way
	assert.NotEqual(t, first, p.bearer)
	other := newPoller(t, d, token)
	_, status := other.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "two")})
	assert.Equal(t, http.StatusUnauthorized, status, "the only use is reserved")
	tokens := func() contract.JoinToken {
		resp, err := d.api.ListJoinTokens(context.Background())
		return get[contract.JoinTokenList](t, resp, err).Items[0]
	}
	assert.Equal(t, 0, tokens().Used)
	assert.Equal(t, 1, tokens().Reserved)
	lost := *p
	lost.bearer = first
	_, status = lost.send(&protobufs.AgentToServer{})
	assert.Equal(t, http.StatusUnauthorized, status, "a credential that was offered anew is void")
	_, status = p.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "one")})
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, 1, tokens().Used)
	assert.Equal(t, 0, tokens().Reserved)
	assert.Equal(t, contract.UsedUp, tokens().State)

	// The machine is set up anew and joins by a token that was made for it: the first one stays used.
	anew := newPoller(t, d, d.hostToken("one"))
	anew.join(description("synaxis-agent", "one"))
	_, status = anew.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "one")})
	assert.Equal(t, http.StatusOK, status)
	_, status = p.send(&protobufs.AgentToServer{})
	assert.Equal(t, http.StatusUnauthorized, status, "its old agent is out")
	other.bearer = token
	_, status = other.send(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "two")})
	assert.Equal(t, http.StatusUnauthorized, status, "a use does not come back with the end of a credential")
}

// TestRetire: a retired host's agent is let in no more, also after a restart of the service; a join token that was
// made for it brings it back.
func TestRetire(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	state := t.TempDir()
	agent := d.agent("h", state, d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	get[contract.Host](t, first(d.api.RetireHost(ctx, "h")), nil)
	eventually(
		t,
		15*time.Second,
		"the agent to be told",
		func() bool { return strings.Contains(agent.log.String(), "this host was retired at the desk") },
	)
	assert.NoFileExists(t, filepath.Join(state, "last-good.json"), "its config and secrets are gone")
	assert.Contains(t, *d.host("h").Verdict.Reason, "has deleted its secrets")
	agent.stop()
	d.publish(linesCatalogue("/nowhere", "http://127.0.0.1:9/in"))
	assert.Empty(t, d.rollOut().Hosts, "it is in no rollout")
	d.kill()
	d.run()
	assert.Equal(t, "retired", *d.host("h").Verdict.Code)
	assert.Empty(t, get[contract.HostList](t, first(d.api.ListHosts(ctx, nil)), nil).Items)
	anyHost := d.agent("h", t.TempDir(), d.joinToken(1, nil))
	eventually(
		t,
		15*time.Second,
		"another to be refused",
		func() bool { return strings.Contains(anyHost.log.String(), "synaxis join-token create --host h") },
	)
	anyHost.stop()
	d.agent("h", t.TempDir(), d.hostToken("h"))
	eventually(t, 15*time.Second, "it to come back", func() bool { return d.connected("h") })
	assert.Len(t, get[contract.HostList](t, first(d.api.ListHosts(ctx, nil)), nil).Items, 1)
	retired := true
	former := get[contract.HostList](t, first(d.api.ListHosts(ctx, &contract.ListHostsParams{Retired: &retired})), nil)
	require.Len(t, former.Items, 1, "the retired one is still to be seen")
	assert.Equal(t, "h", former.Items[0].Name)
}

// TestRetiredWhileAway: an agent that is away when its host is retired is told when it calls again; until then the
// desk says that it has not been reached.
func TestRetiredWhileAway(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	state, dir := t.TempDir(), t.TempDir()
	agent := d.agent("h", state, d.joinToken(1, nil))
	eventually(t, 15*time.Second, "the agent", func() bool { return d.connected("h") })
	d.publish(linesCatalogue(dir+"/*.log", "http://127.0.0.1:9/in"))
	d.rollOut()
	require.FileExists(t, filepath.Join(state, "last-good.json"))
	agent.stop()
	eventually(t, 15*time.Second, "it to be away", func() bool { return !d.connected("h") })
	get[contract.Host](t, first(d.api.RetireHost(ctx, "h")), nil)
	assert.Contains(t, *d.host("h").Verdict.Reason, "has not been reached")
	d.agent("h", state, "")
	eventually(
		t,
		15*time.Second,
		"it to be told",
		func() bool { return strings.Contains(*d.host("h").Verdict.Reason, "has deleted its secrets") },
	)
	assert.NoFileExists(t, filepath.Join(state, "last-good.json"))
}

// TestKnock: a machine that asks for the name of a host that has joined gets advice that fits, and the desk shows it
// and can let it in.
func TestKnock(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	ctx := context.Background()
	old := newPoller(t, d, d.joinToken(0, nil))
	old.join(description("synaxis-agent", "one"))
	other := newPoller(t, d, d.joinToken(0, nil))
	answer := description("synaxis-agent", "one")
	for _, kv := range answer.NonIdentifyingAttributes {
		if kv.Key == "host.id" {
			kv.Value = &protobufs.AnyValue{Value: &protobufs.AnyValue_StringValue{StringValue: "another machine"}}
		}
	}
	_, status := other.send(&protobufs.AgentToServer{AgentDescription: answer})
	require.Equal(t, http.StatusUnauthorized, status)
	list := get[contract.NewcomerList](t, first(d.api.ListNewcomers(ctx)), nil)
	require.Len(t, list.Items, 1)
	assert.False(t, list.Items[0].Copy)
	assert.Contains(t, list.Items[0].Why, "asks for this name with a valid join token")
	name := *list.Items[0].Name
	get[contract.Host](t, first(d.api.ApproveNewcomer(ctx, list.Items[0].Id, contract.Approval{Name: "two"})), nil)
	a, status := other.send(&protobufs.AgentToServer{AgentDescription: answer})
	require.Equal(t, http.StatusOK, status)
	require.NotNil(t, a.GetConnectionSettings(), "it is let in")
	assert.Equal(t, "two", d.host("two").Name)
	assert.NotEqual(t, "two", name)
}

// rollOutOffered starts a rollout without waiting for anybody.
func (d *desk) rollOutOffered() {
	d.t.Helper()
	resp, err := d.api.StartRollout(context.Background(), contract.NewRollout{Plan: &oneWave})
	get[contract.Rollout](d.t, resp, err)
}

// speaker is an agent over a WebSocket that says what a test wants it to.
type speaker struct {
	*poller
	ws *websocket.Conn
}

// speak connects an agent that has joined, and tells what it is.
func (p *poller) speak(d *desk) *speaker {
	p.t.Helper()
	ws, _, err := websocket.Dial(context.Background(), strings.Replace(d.url, "http", "ws", 1)+"/v1/opamp",
		&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + p.bearer}}})
	require.NoError(p.t, err)
	p.t.Cleanup(func() { _ = ws.CloseNow() })
	s := &speaker{p, ws}
	s.say(&protobufs.AgentToServer{AgentDescription: description("synaxis-agent", "h")})
	_, _, err = ws.Read(context.Background())
	require.NoError(p.t, err)
	return s
}

func (s *speaker) say(m *protobufs.AgentToServer) {
	m.InstanceUid, m.SequenceNum = s.uid, s.sequence
	s.sequence++
	frame, err := wire.Marshal(m)
	require.NoError(s.t, err)
	require.NoError(s.t, s.ws.Write(context.Background(), websocket.MessageBinary, frame))
}

// report says that a source has read so much since a time.
func (s *speaker) report(began time.Time, read int64) {
	counted := map[string]wire.Numbers{"gate": {Read: read}}
	body, err := proto.Marshal(wire.EncodeNumbers("h", began, time.Now(), counted))
	require.NoError(s.t, err)
	s.say(&protobufs.AgentToServer{CustomMessage: &protobufs.CustomMessage{Capability: wire.NumbersCapability,
		Type: wire.TypeNumbers, Data: body}})
}

// healthy says that the source is well, with words.
func (s *speaker) healthy(words string) {
	parts := map[string]*protobufs.ComponentHealth{"source/gate": {Healthy: true, LastError: words}}
	s.say(&protobufs.AgentToServer{Health: &protobufs.ComponentHealth{ComponentHealthMap: parts}})
}

// TestReportsInOrder: reports of numbers alone are taken together after a moment, and still before what the same agent
// says next, or its going.
func TestReportsInOrder(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	p := newPoller(t, d, d.joinToken(1, nil))
	p.join(description("synaxis-agent", "h"))
	began, read := time.Now(), int64(0)
	for round := range 8 {
		s := p.speak(d)
		for range 5 {
			read += 100
			s.report(began, read)
		}
		s.healthy("")
		if round%2 == 0 {
			s.say(&protobufs.AgentToServer{AgentDisconnect: &protobufs.AgentDisconnect{}})
		}
		eventually(t, 10*time.Second, "numbers to come", func() bool {
			sources := d.host("h").Sources
			return len(sources) == 1 && sources[0].Numbers.Read == read
		})
		if round%2 == 1 {
			read += 100
			s.report(began, read)
			s.ws.CloseNow()
		}
		eventually(t, 10*time.Second, "the agent to be away", func() bool { return !d.host("h").Connected })
		time.Sleep(400 * time.Millisecond) // longer than reports are gathered
		assert.False(t, d.host("h").Connected, "a report that is taken late does not bring it back")
		assert.Equal(t, read, d.host("h").Sources[0].Numbers.Read)
	}
}

// TestFloodOfReports: an agent that reports a thousand times at once is still heard soon when it says something else,
// and is not asked for anything, since no message is missing; another one is heard meanwhile.
func TestFloodOfReports(t *testing.T) {
	t.Parallel()
	d := startDesk(t)
	p := newPoller(t, d, d.joinToken(1, nil))
	p.join(description("synaxis-agent", "h"))
	s, began := p.speak(d), time.Now()
	answers := make(chan error, 1)
	go func() {
		_, _, err := s.ws.Read(context.Background())
		answers <- err
	}()
	for n := range int64(1000) {
		if n%7 == 0 {
			s.say(&protobufs.AgentToServer{})
			continue
		}
		s.report(began, n)
	}
	s.healthy("after the flood")
	eventually(t, 10*time.Second, "its health", func() bool { return len(d.host("h").Sources) == 1 })
	assert.Less(t, time.Since(began), 20*time.Second)
	s.report(began, 5000)
	eventually(t, 10*time.Second, "the newest sum", func() bool {
		s.report(began, 5000)
		time.Sleep(500 * time.Millisecond)
		return d.host("h").Sources[0].Numbers.Read == 5000
	})
	s.ws.CloseNow()
	require.Error(t, <-answers, "nothing is asked")
}
