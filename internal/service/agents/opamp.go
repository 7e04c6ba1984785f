package agents

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	colmetrics "go.opentelemetry.io/proto/otlp/collector/metrics/v1"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// conn is a WebSocket of an agent.
type conn struct {
	ws      *websocket.Conn
	host    string        // once it is known; the fleet's lock guards it
	origin  string        // the address that it calls from
	private bool          // nobody between can read it
	kick    chan struct{} // an offer waits
	mu      sync.Mutex    // one writer at a time
	answers atomic.Bool   // questions of the desk
	asked   sync.Map      // channels for the answers, by the question's id
}

func (c *conn) wake() {
	select {
	case c.kick <- struct{}{}:
	default:
	}
}

func (c *conn) send(ctx context.Context, m *protobufs.ServerToAgent) error {
	frame, err := wire.Marshal(m)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	return c.ws.Write(ctx, websocket.MessageBinary, frame)
}

// tokenBucket bounds how many agents are asked for their full state at a time.
type tokenBucket struct {
	rate, full, left float64
	at               time.Time
}

func (b *tokenBucket) take(now time.Time) bool {
	if !b.at.IsZero() {
		b.left = min(b.full, b.left+b.rate*now.Sub(b.at).Seconds())
	}
	b.at = now
	if b.left < 1 {
		return false
	}
	b.left--
	return true
}

// problem answers in the form of RFC 9457, with words that the agent prints.
func problem(w http.ResponseWriter, status int, code, words string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status, "code": code, "detail": words})
}

func (f *Fleet) deny(w http.ResponseWriter, err error) {
	var d Denied
	if errors.As(err, &d) {
		problem(w, http.StatusUnauthorized, "agent-denied", d.Words)
		return
	}
	f.log.Error("an agent's request failed", "error", err)
	w.Header().Set("Retry-After", "10")
	problem(w, http.StatusServiceUnavailable, "internal", "the service cannot answer now; it will be tried again")
}

// ServeOpAMP answers OpAMP: WebSocket where the request asks for it, plain polling otherwise.
func (f *Fleet) ServeOpAMP(w http.ResponseWriter, r *http.Request) {
	who, err := f.authenticate(r.Context(), r.Header.Get("Authorization"))
	if err != nil {
		f.deny(w, err)
		return
	}
	who.origin, _, _ = net.SplitHostPort(r.RemoteAddr)
	if r.Method == http.MethodPost {
		if !f.requests.enter(who) {
			busy(w)
			return
		}
		defer f.requests.leave(who)
		f.poll(w, r, who)
		return
	}
	if !f.sockets.enter(who) {
		busy(w)
		return
	}
	defer f.sockets.leave(who)
	ws, err := websocket.Accept(w, r, &websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled, InsecureSkipVerify: true})
	if err != nil {
		return
	}
	ws.SetReadLimit(wire.MaxMessage)
	f.serve(&conn{ws: ws, origin: r.RemoteAddr, private: private(r), kick: make(chan struct{}, 1)}, who)
}

// serve reads the messages of one WebSocket until it ends.
func (f *Fleet) serve(c *conn, who caller) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	defer c.ws.CloseNow()
	if who.token != nil {
		f.mu.Lock()
		f.joiners[c] = who.token.ID
		f.mu.Unlock()
		if j, err := f.joinToken(ctx, who.token.ID); err != nil || usable(j, f.now()) != nil { // it was revoked meanwhile
			f.left(c)
			return
		}
	}
	go f.push(ctx, c)
	for {
		_, frame, err := c.ws.Read(ctx)
		if err != nil {
			break
		}
		msg := &protobufs.AgentToServer{}
		if err := wire.Unmarshal(frame, msg); err != nil {
			_ = c.send(ctx, badRequest(nil, "the message is no OpAMP"))
			break
		}
		c.custom(msg)
		answer, _, err := f.take(ctx, msg, who, c)
		if err != nil {
			var d Denied
			if !errors.As(err, &d) {
				f.log.Error("a message of an agent failed", "error", err)
				break
			}
			_ = c.send(ctx, badRequest(msg.GetInstanceUid(), d.Words))
			break
		}
		if answer != nil {
			if err := c.send(ctx, answer); err != nil {
				break
			}
		}
		if msg.GetAgentDisconnect() != nil {
			break
		}
	}
	f.left(c)
}

// push sends offers as they come up and pings, so that a dead peer is noticed.
func (f *Fleet) push(ctx context.Context, c *conn) {
	ping := time.NewTicker(20 * time.Second)
	defer ping.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.kick:
			f.mu.Lock()
			var o *offer
			name := c.host
			if h := f.hosts[name]; h != nil && h.conn == c {
				o, h.offer = h.offer, nil
			}
			f.mu.Unlock()
			if o != nil {
				if err := c.send(ctx, &protobufs.ServerToAgent{RemoteConfig: f.remote(ctx, o, c.private)}); err != nil {
					return
				}
				f.desk.HostEvent(rollout.Event{Kind: rollout.Sent, Host: name, Hash: o.hash})
			}
		case <-ping.C:
			pctx, cancel := context.WithTimeout(ctx, 15*time.Second)
			err := c.ws.Ping(pctx)
			cancel()
			if err != nil {
				c.ws.CloseNow()
				return
			}
		}
	}
}

// private tells whether nobody between can read what is answered.
func private(r *http.Request) bool {
	if r.TLS != nil {
		return true
	}
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	return err == nil && at.Addr().IsLoopback()
}

// remote is an offer as it travels. The secrets that the renderer listed go along, over a private connection only; an agent that
// lacks one says so and keeps what it runs.
func (f *Fleet) remote(ctx context.Context, o *offer, private bool) *protobufs.AgentRemoteConfig {
	hash, _ := hex.DecodeString(o.hash)
	config := wire.ConfigMap([]byte(o.text))
	secrets := map[string]string{}
	for _, id := range o.secrets {
		if !private || f.secret == nil {
			f.log.Warn("a secret is not sent: the connection is in the clear and not on loopback", "secret", id)
			continue
		}
		name, version, _ := strings.Cut(id, "@")
		n, _ := strconv.Atoi(version)
		value, err := f.secret(ctx, name, n)
		if err != nil {
			f.log.Error("a secret cannot be opened", "secret", id, "error", err)
			continue
		}
		secrets[id] = value
	}
	wire.AddSecrets(config, secrets)
	return &protobufs.AgentRemoteConfig{Config: config, ConfigHash: hash}
}

func (f *Fleet) left(c *conn) {
	f.mu.Lock()
	delete(f.joiners, c)
	for _, n := range f.newcomers {
		if n.conn == c {
			n.conn = nil
		}
	}
	name := c.host
	h := f.hosts[name]
	mine := h != nil && h.conn == c
	if mine {
		h.conn, h.view.Connected, h.dirty = nil, false, true
		h.view.LastSeen = f.now()
	}
	f.mu.Unlock()
	if mine {
		f.desk.HostEvent(rollout.Event{Kind: rollout.Disconnected, Host: name})
		f.note("hosts")
	}
}

func badRequest(uid []byte, words string) *protobufs.ServerToAgent {
	return &protobufs.ServerToAgent{InstanceUid: uid, ErrorResponse: &protobufs.ServerErrorResponse{
		Type: protobufs.ServerErrorResponseType_ServerErrorResponseType_BadRequest, ErrorMessage: words}}
}

// poll answers one message over plain HTTP.
func (f *Fleet) poll(w http.ResponseWriter, r *http.Request, who caller) {
	msg := &protobufs.AgentToServer{}
	if !readBody(w, r, wire.MaxPoll, msg) {
		return
	}
	answer, host, err := f.take(r.Context(), msg, who, nil)
	if err != nil {
		f.deny(w, err)
		return
	}
	var o *offer
	f.mu.Lock()
	if h := f.hosts[host]; h != nil && h.conn == nil && h.offer != nil && who.credential != nil {
		o, h.offer = h.offer, nil
	}
	f.mu.Unlock()
	if o != nil {
		answer.RemoteConfig = f.remote(r.Context(), o, private(r))
		f.desk.HostEvent(rollout.Event{Kind: rollout.Sent, Host: host, Hash: o.hash})
	}
	out, err := proto.Marshal(answer)
	if err != nil {
		f.deny(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/x-protobuf")
	_, _ = w.Write(out)
}

// take handles one message. It returns the answer, nil when there is nothing to say over a WebSocket, and the name of
// the host.
func (f *Fleet) take(ctx context.Context, msg *protobufs.AgentToServer, who caller, c *conn) (*protobufs.ServerToAgent, string, error) {
	if len(msg.GetInstanceUid()) != 16 {
		return nil, "", Denied{"instance_uid must have 16 bytes"}
	}
	uid := hex.EncodeToString(msg.GetInstanceUid())
	answer := &protobufs.ServerToAgent{InstanceUid: msg.GetInstanceUid(), Capabilities: wire.ServerCapabilities}
	if who.token != nil {
		return f.takeJoin(ctx, msg, uid, who, answer)
	}
	if who.credential.UID != uid {
		return f.takeNewcomer(ctx, msg, uid, who, c, answer)
	}
	now := f.now()
	if retired, err := f.takeRetired(ctx, msg, who, answer); err != nil || retired {
		if c != nil && answer.RemoteConfig == nil {
			answer = nil
		}
		return answer, "", err
	}
	if who.credential.UsedAt.IsZero() {
		if err := f.used(ctx, *who.credential); err != nil {
			return nil, "", err
		}
		who.credential.UsedAt = now
	}
	running := f.recognise(ctx, msg.GetEffectiveConfig())
	f.mu.Lock()
	h := f.byUID[uid]
	if h == nil {
		f.mu.Unlock()
		return nil, "", Denied{"this agent is not in the inventory any more: its host was retired, or joined anew"}
	}
	if why := h.streams.take(msg.GetSequenceNum(), c, now); why != "" || h.otherMachine(msg) {
		if why == "" {
			why = "it carries the identity of this host, and says that it runs on another machine"
		}
		if h.conn == c {
			h.conn = nil
		}
		name := h.view.Name
		f.mu.Unlock()
		return f.tellApart(ctx, msg, name, why, who, c, answer)
	}
	gap := h.streams.gap && msg.GetAgentDescription() == nil
	arrived := !h.view.Connected || c != nil && h.conn != c
	h.view.Connected, h.view.LastSeen, h.dirty = true, now, true
	h.view.Transport = "polling"
	if c != nil {
		h.conn, h.view.Transport = c, "websocket"
		c.host = h.view.Name
	}
	name := h.view.Name
	if gap && f.bucket.take(now) {
		answer.Flags = uint64(protobufs.ServerToAgentFlags_ServerToAgentFlags_ReportFullState)
	}
	events, changed := h.report(msg, running, now)
	if d := msg.GetAgentDescription(); d != nil && h.view.ServiceName == "" {
		h.view.ServiceName = h.view.Observed["service.name"]
	}
	if msg.GetAgentDisconnect() != nil {
		h.view.Connected, h.conn = false, nil
		events = append(events, rollout.Event{Kind: rollout.Disconnected, Host: name})
		arrived = false
	}
	f.mu.Unlock()
	if msg.GetAgentDescription() != nil {
		f.seenAnew(name)
	}
	if arrived {
		e := rollout.Event{Kind: rollout.Connected, Host: name}
		if c == nil {
			e.Patience = 3 * pollPatience
		}
		events = append([]rollout.Event{e}, events...)
	}
	for _, e := range events {
		f.desk.HostEvent(e)
	}
	if arrived || changed || len(events) > 0 {
		f.note("hosts")
	}
	if c != nil && answer.Flags == 0 {
		return nil, name, nil
	}
	return answer, name, nil
}

// takeJoin handles the message of an agent that holds a join token only.
func (f *Fleet) takeJoin(ctx context.Context, msg *protobufs.AgentToServer, uid string, who caller, answer *protobufs.ServerToAgent) (*protobufs.ServerToAgent, string, error) {
	d := msg.GetAgentDescription()
	if d == nil {
		answer.Flags = uint64(protobufs.ServerToAgentFlags_ServerToAgentFlags_ReportFullState)
		return answer, "", nil
	}
	if msg.GetCapabilities()&uint64(protobufs.AgentCapabilities_AgentCapabilities_AcceptsOpAMPConnectionSettings) == 0 {
		return nil, "", Denied{"this agent does not accept connection settings, so it cannot be given a credential of its own"}
	}
	r := ask(d, uid)
	r.origin = who.origin
	if f.twin(uid, r.hostID) {
		id := wire.NewUID(f.now())
		answer.AgentIdentification = &protobufs.AgentIdentification{NewInstanceUid: id[:]}
		return answer, "", nil
	}
	credential, err := f.join(ctx, who.token.ID, r)
	if err != nil {
		return nil, "", err
	}
	answer.ConnectionSettings = settings(credential)
	return answer, "", nil
}

// settings offer a credential.
func settings(credential string) *protobufs.ConnectionSettingsOffers {
	return &protobufs.ConnectionSettingsOffers{Opamp: &protobufs.OpAMPConnectionSettings{
		Headers: &protobufs.Headers{Headers: []*protobufs.Header{{Key: "Authorization", Value: "Bearer " + credential}}}}}
}

// ask reads what an agent that wants to join says of itself.
func ask(d *protobufs.AgentDescription, uid string) joinRequest {
	r := joinRequest{uid: uid, serviceName: fact(wire.Attribute(d.GetIdentifyingAttributes(), "service.name"), maxAttribute)}
	for _, list := range [][]*protobufs.KeyValue{d.GetNonIdentifyingAttributes(), d.GetIdentifyingAttributes()} {
		if v := wire.Attribute(list, "host.name"); v != "" {
			r.name = v[:min(len(v), maxAttribute)] // as it is: what is cleaned could be the name of another host
		}
		if v := wire.Attribute(list, "host.id"); v != "" {
			r.hostID = fact(v, maxAttribute)
		}
	}
	return r
}

// recognise returns the hash of the manifest whose text an agent reports as effective, or "" when it runs something
// else. The text itself is compared: that it claims a hash is not enough.
func (f *Fleet) recognise(ctx context.Context, ec *protobufs.EffectiveConfig) string {
	text := wire.ConfigOf(ec.GetConfigMap())
	m := hashLine.FindSubmatch(text)
	if m == nil {
		return ""
	}
	if have, err := f.store.Manifest(ctx, string(m[1])); err != nil || have.Text != string(text) {
		return ""
	}
	return string(m[1])
}

var hashLine = regexp.MustCompile(`(?m)^hash: ([0-9a-f]{64})$`)

// report takes what a message says into the view; the events are for the desk. The fleet is locked.
func (h *host) report(msg *protobufs.AgentToServer, running string, now time.Time) (events []rollout.Event, changed bool) {
	v := &h.view
	if d := msg.GetAgentDescription(); d != nil {
		changed = true
		v.Observed = attributes(d)
		v.Version = v.Observed["service.version"]
		v.seen = observed(v.Observed["service.name"], v.Observed)
	}
	if tree := msg.GetHealth(); tree != nil {
		changed = true
		old := v.Components
		v.Components = map[string]Component{}
		for _, name := range slices.Sorted(maps.Keys(tree.GetComponentHealthMap())) {
			c := tree.GetComponentHealthMap()[name]
			if !componentName(name) || len(v.Components) == maxComponents {
				continue
			}
			if c.GetHealthy() { // of a destination the last answer that refused records may stand beside it
				v.Components[name] = Component{Reason: clean(c.GetLastError(), maxReason), Since: sinceOf(old[name], "", now)}
				continue
			}
			code := clean(c.GetStatus(), 64)
			if code == "" {
				code = "unhealthy"
			}
			v.Components[name] = Component{Code: code, Reason: clean(c.GetLastError(), maxReason), Since: sinceOf(old[name], code, now)}
		}
	}
	if s := msg.GetRemoteConfigStatus(); s != nil && len(s.GetLastRemoteConfigHash()) > 0 && len(s.GetLastRemoteConfigHash()) <= 64 {
		hash := hex.EncodeToString(s.GetLastRemoteConfigHash())
		state := map[protobufs.RemoteConfigStatuses]string{
			protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED: "applied", protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLYING: "applying",
			protobufs.RemoteConfigStatuses_RemoteConfigStatuses_FAILED: "failed"}[s.GetStatus()]
		if state != v.ConfigState || hash != v.ConfigHash {
			v.ConfigSince, changed = now, true
		}
		v.ConfigState, v.ConfigHash, v.ConfigReason = state, hash, clean(s.GetErrorMessage(), maxReason)
		kind := map[string]rollout.EventKind{"applied": rollout.RunsIt, "applying": rollout.Taken, "failed": rollout.CannotRun}[state]
		if state != "" {
			events = append(events, rollout.Event{Kind: kind, Host: v.Name, Hash: hash, Reason: v.ConfigReason})
		}
	}
	if ec := msg.GetEffectiveConfig(); ec != nil {
		v.Running, v.Effective, changed = running, "", true
		if running != "" {
			events = append(events, rollout.Event{Kind: rollout.Reported, Host: v.Name, Hash: running})
		} else {
			v.Effective = cleanText(wire.ConfigOf(ec.GetConfigMap()), maxEffective)
		}
	}
	return events, changed
}

func sinceOf(old Component, code string, now time.Time) time.Time {
	if old.Code == code && !old.Since.IsZero() {
		return old.Since
	}
	return now
}

// ServeMetrics takes an agent's own numbers as OTLP.
func (f *Fleet) ServeMetrics(w http.ResponseWriter, r *http.Request) {
	who, err := f.authenticate(r.Context(), r.Header.Get("Authorization"))
	if err == nil && who.credential == nil {
		err = Denied{"numbers are taken from agents that have joined"}
	}
	if err != nil {
		f.deny(w, err)
		return
	}
	if !f.requests.enter(who) {
		busy(w)
		return
	}
	defer f.requests.leave(who)
	req := &colmetrics.ExportMetricsServiceRequest{}
	if !readBody(w, r, wire.MaxMetrics, req) {
		return
	}
	numbers, start, at := wire.DecodeNumbers(req)
	f.takeNumbers(*who.credential, cleanNumbers(numbers), start, at)
	w.Header().Set("Content-Type", "application/x-protobuf")
	out, _ := proto.Marshal(&colmetrics.ExportMetricsServiceResponse{})
	_, _ = w.Write(out)
}

// takeNumbers takes the numbers of an agent whose sums count since start, as of at by the clock of its host.
func (f *Fleet) takeNumbers(c store.Credential, numbers map[string]wire.Numbers, start, at time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	h := f.byUID[c.UID]
	if h == nil {
		return
	}
	now := f.now()
	bucket := now.Unix() / 300 * 300
	if bucket != h.bucket {
		if h.bucket != 0 {
			h.learn(deltas(h.base, h.view.Numbers))
		}
		h.bucket, h.base = bucket, h.view.Numbers
	}
	same := h.view.Counting.Equal(start)
	all, recent := map[string]wire.Numbers{}, map[string]*window{}
	for name, n := range h.view.Numbers { // a source that the host runs no more keeps what it had
		if len(numbers)+len(all) < maxSources {
			all[name] = n
		}
	}
	for name, n := range numbers {
		if was, ok := all[name]; ok && same {
			n = n.NotBelow(was)
		}
		if n.Oldest > 0 { // by our own clock
			n.Oldest += now.Sub(at).Nanoseconds()
		}
		all[name] = n
		recent[name] = h.view.recent[name].add(n, now)
	}
	h.view.Numbers, h.view.recent, h.view.Counting, h.dirty = all, recent, start, true
	f.note("numbers")
}
