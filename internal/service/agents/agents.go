// Package agents speaks OpAMP with agents, over WebSocket and by polling, and takes their numbers. It owns nothing: it
// asks membership who is calling, tells links and reports what was heard, and rollouts what happened.
package agents

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	"golang.org/x/time/rate"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/contract"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/rollout"
	"synaxis/internal/core/wire"
	"synaxis/internal/service/certificates"
	"synaxis/internal/service/hosts"
	"synaxis/internal/service/inventory"
	"synaxis/internal/service/links"
	"synaxis/internal/service/membership"
	"synaxis/internal/service/reports"
	"synaxis/internal/service/rollouts"
	"synaxis/internal/service/store"
)

// Secrets opens a version of a secret.
type Secrets interface {
	Value(ctx context.Context, name string, version int) (string, error)
	Versions() map[string]int // the newest of each, by name
}

// Parts are what the endpoint speaks for.
type Parts struct {
	Store      *store.Store
	Inventory  *inventory.Inventory
	Membership *membership.Membership
	Links      *links.Links
	Reports    *reports.Reports
	Hosts      *hosts.Hosts
	Rollouts   *rollouts.Queue
	Secrets    Secrets
	Authority  *certificates.Authority
	Log        *slog.Logger
	Now        func() time.Time
	Note       func(topic string)
}

// Agents is the endpoint. It is safe for concurrent use.
type Agents struct {
	p        Parts
	gathered gathered
	requests crowd // over plain HTTP
	sockets  crowd
}

// New makes the endpoint.
func New(p Parts) *Agents {
	a := &Agents{p: p}
	a.requests.members, a.requests.joiners = 4, 64
	a.sockets.members, a.sockets.joiners = 8, 256 // dead ones are noticed within 35 s
	p.Store.Follow(a.follow)
	return a
}

// follow ends the connections of those who may not speak any more, and tells those that are to call again.
func (a *Agents) follow(changes []store.Change) {
	var hangup []string
	for _, c := range changes {
		switch c := c.(type) {
		case store.HostPut:
			if !c.RetiredAt.IsZero() {
				hangup = append(hangup, c.UID)
			}
		case store.HostReplaced:
			hangup = append(hangup, c.UID)
		case store.TokenPut:
			if !c.RevokedAt.IsZero() {
				go a.p.Links.HangupToken(c.ID)
			}
		case store.NewcomerPut:
			if c.Approved != "" || !c.DeniedAt.IsZero() {
				go a.p.Links.Hangup(c.UID) // it calls again, and is given its credential or is told
			}
		}
	}
	for _, uid := range hangup {
		go a.p.Links.Forget(uid) // it calls again, and is told
	}
}

// Run notices agents that went away, and writes what they reported now and then, until ctx ends.
func (a *Agents) Run(ctx context.Context) {
	t := time.NewTicker(time.Second)
	defer t.Stop()
	ticks := 0
	for {
		select {
		case <-ctx.Done():
			a.takeGathered()
			a.p.Reports.Flush(context.WithoutCancel(ctx))
			return
		case <-t.C:
			if ticks++; ticks%silentEvery == 0 {
				for _, c := range a.p.Links.Silent(silentFor) {
					go ping(c)
				}
			}
			for _, uid := range a.p.Links.Missing() {
				a.away(uid)
			}
			a.p.Hosts.Pass()
			a.p.Hosts.FlushTurns(ctx)
			a.p.Reports.FlushDue(ctx)
		}
	}
}

// away tells that an agent is not there any more.
func (a *Agents) away(uid string) {
	h, ok := a.p.Inventory.ByUID(uid)
	if !ok {
		return
	}
	a.p.Reports.Seen(h.Name, "")
	a.p.Hosts.Touch(h.Name)
	a.p.Rollouts.Tell(rollout.Event{Kind: rollout.Disconnected, Host: h.Name})
	a.p.Note("hosts")
}

// problem answers in the form of RFC 9457, with words that the agent prints.
func problem(w http.ResponseWriter, status int, code contract.Code, words string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).
		Encode(map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status, "code": code,
			"detail": words})
}

func (a *Agents) deny(w http.ResponseWriter, err error) {
	var d membership.Denied
	if errors.As(err, &d) {
		problem(w, http.StatusUnauthorized, contract.AgentDenied, d.Words)
		return
	}
	a.p.Log.Error("an agent's request failed", "error", err)
	w.Header().Set("Retry-After", "10")
	problem(w, http.StatusServiceUnavailable, contract.Internal, "the service cannot answer now; it will be tried "+
		"again")
}

// ServeOpAMP answers OpAMP: WebSocket where the request asks for it, plain polling otherwise.
func (a *Agents) ServeOpAMP(w http.ResponseWriter, r *http.Request) {
	who, err := a.p.Membership.Authenticate(r.Header.Get("Authorization"))
	if err != nil {
		a.deny(w, err)
		return
	}
	who.Origin, _, _ = net.SplitHostPort(r.RemoteAddr)
	if r.Method == http.MethodPost {
		if !a.requests.enter(r.Context(), who) {
			busy(w)
			return
		}
		defer a.requests.leave(who)
		a.poll(w, r, who)
		return
	}
	if !a.sockets.enter(r.Context(), who) {
		busy(w)
		return
	}
	ws, err := websocket.Accept(
		lean{w},
		r,
		&websocket.AcceptOptions{CompressionMode: websocket.CompressionDisabled, InsecureSkipVerify: true},
	)
	if err != nil {
		a.sockets.leave(who)
		return
	}
	ws.SetReadLimit(wire.MaxMessage)
	c := a.p.Links.Open(ws, private(r), a.push)
	// Beside the handler, which returns: what the server keeps for a request would stay as long as the connection
	// does.
	go func() {
		defer a.sockets.leave(who)
		a.serve(c, who)
	}()
}

// The pace of one connection: what is more waits on its own host, so that an agent that floods harms only itself.
const (
	paceMessages = 20       // a second
	paceBurst    = 400      // at once; the largest message counts 257
	paceBytes    = 64 << 10 // count as one more message
	paceReports  = 2        // of numbers, a second
	reportsBurst = 20
)

// silentFor is how long a connection may be silent before it is asked whether anybody is there: agents report more
// often. Every so many seconds it is looked who is.
const (
	silentFor   = 32 * time.Second
	silentEvery = 3
)

// serve reads the messages of one WebSocket until it ends.
func (a *Agents) serve(c *links.Conn, who membership.Caller) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	defer c.Close()
	defer func() {
		a.takeGathered() // what is taken after it has left would make it look as if it was there
		if uid := a.p.Links.Left(c); uid != "" {
			a.away(uid)
		}
	}()
	if who.Token != nil {
		a.p.Links.Joins(c, who.Token.ID)
		if a.p.Membership.Usable(who.Token.ID) != nil { // it was revoked meanwhile
			return
		}
	}
	var own []byte
	if who.Credential != nil {
		own, _ = hex.DecodeString(who.Credential.UID)
	}
	pace, reports := rate.NewLimiter(paceMessages, paceBurst), rate.NewLimiter(paceReports, reportsBurst)
	brief := &sayer{c: c, who: who, uid: own, pace: rate.NewLimiter(paceBriefs, briefBurst), counts: reports,
		taken: -1}
	for {
		var msg *protobufs.AgentToServer
		// not by ctx, which ends with this function only: waiting for it would cost as much as the report
		if err := c.Read(context.Background(), func(frame []byte) error {
			if gathered, err := a.gather(ctx, brief, frame); gathered {
				return err
			}
			if err := pace.WaitN(ctx, 1+len(frame)/paceBytes); err != nil {
				return err
			}
			msg = &protobufs.AgentToServer{}
			err := wire.Unmarshal(frame, msg)
			if err != nil {
				_ = c.Send(ctx, badRequest(nil, "the message is no OpAMP"))
			}
			return err
		}); err != nil {
			return
		}
		if msg == nil {
			continue
		}
		a.takeGathered() // what this agent said before comes first
		if !a.handle(ctx, c, who, msg, reports) {
			return
		}
	}
}

// handle takes a message of a WebSocket. It answers false when the connection is to end.
func (a *Agents) handle(
	ctx context.Context, c *links.Conn, who membership.Caller, msg *protobufs.AgentToServer, reports *rate.Limiter,
) bool {
	c.Custom(msg)
	answer, _, err := a.take(ctx, msg, who, c)
	if !a.answer(ctx, c, msg, answer, err) {
		return false
	}
	// What is dropped here is in the next report, since sums are told from their begin.
	if m := msg.GetCustomMessage(); m.GetCapability() == wire.NumbersCapability && who.Credential != nil &&
		answer.GetAgentIdentification() == nil && reports.Allow() {
		if report, err := wire.ReadReport(m.GetData()); err == nil && len(m.GetData()) <= wire.MaxMetrics {
			a.numbers(who.Credential.UID, report)
		}
	}
	if answer := a.newest(ctx, msg, who, c.Private()); answer != nil && c.Send(ctx, answer) != nil {
		return false
	}
	return msg.GetAgentDisconnect() == nil
}

// answer sends what came of a message, if there is anything to say. It answers false when the connection is to end, or
// has ended.
func (a *Agents) answer(
	ctx context.Context, c *links.Conn, msg *protobufs.AgentToServer, answer *protobufs.ServerToAgent, err error,
) bool {
	var d membership.Denied
	switch {
	case errors.As(err, &d):
		_ = c.Send(ctx, badRequest(msg.GetInstanceUid(), d.Words))
	case err != nil:
		a.p.Log.Error("a message of an agent failed", "error", err)
	case answer == nil || c.Send(ctx, answer) == nil:
		return true
	}
	c.Close()
	return false
}

// newest answers an agent that asks for the newest value of a secret, since a receiver does not take the one that it
// has. It gets only what the config that is assigned to it uses.
func (a *Agents) newest(
	ctx context.Context, msg *protobufs.AgentToServer, who membership.Caller, private bool,
) *protobufs.ServerToAgent {
	m := msg.GetCustomMessage()
	var s wire.Secret
	if m.GetType() != wire.AskSecret || m.GetCapability() != wire.DeskCapability ||
		wire.Decode(m.GetData(), &s) != nil || who.Credential == nil {
		return nil
	}
	s.Value, s.Found = "", false
	name, _, _ := strings.Cut(s.Ref, "@")
	h, ok := a.p.Inventory.ByUID(who.Credential.UID)
	if s.Request != "" {
		s.Value, s.Found = "this host is not in the inventory any more", false
		if ok && h.RetiredAt.IsZero() {
			s.Value, s.Found = a.certify(ctx, h, s)
		}
		s.Request = ""
	} else if ok && private && h.RetiredAt.IsZero() {
		v, _ := a.p.Hosts.Get(h.Name)
		manifest, err := a.p.Store.Manifest(ctx, v.Assigned.Hash)
		uses := slices.ContainsFunc(manifest.Secrets, func(id string) bool { return strings.HasPrefix(id, name+"@") })
		if version := a.p.Secrets.Versions()[name]; err == nil && uses && version > 0 {
			value, err := a.p.Secrets.Value(ctx, name, version)
			s.Value, s.Found = value, err == nil
			a.p.Log.Info("an agent asked for the newest value of a secret", "host", h.Name, "secret", name,
				"version", version)
		}
	}
	return &protobufs.ServerToAgent{InstanceUid: msg.GetInstanceUid(), CustomMessage: &protobufs.CustomMessage{
		Capability: wire.DeskCapability, Type: wire.TypeSecret, Data: wire.Encode(s)}}
}

// certify signs a certificate for a listener of a host, where its config asks for one. Otherwise the words say why
// not.
func (a *Agents) certify(ctx context.Context, h store.Host, s wire.Secret) (text string, ok bool) {
	v, _ := a.p.Hosts.Get(h.Name)
	manifest, err := a.p.Store.Manifest(ctx, v.Assigned.Hash)
	if err != nil {
		return "the host has no config yet", false
	}
	config, err := hostconfig.Read([]byte(manifest.Text), hostconfig.Runs)
	if err != nil {
		return err.Error(), false
	}
	i := slices.IndexFunc(config.Sources, func(x pipeline.Source) bool {
		return x.Name == s.Ref && x.Listen != nil && x.Listen.Certificate == pipeline.Issued
	})
	if i < 0 {
		return fmt.Sprintf("the config of %s asks for no certificate for %s", h.Name, s.Ref), false
	}
	names := append(strings.Split(v.Observed["host.ip"], ", "), v.Observed["host.name"],
		config.Sources[i].Listen.Address)
	chain, until, err := a.p.Authority.Listener(s.Request, h.Name, names)
	if err != nil {
		return err.Error(), false
	}
	a.p.Log.Info("a certificate of a listener was signed", "host", h.Name, "source", s.Ref, "until",
		until.Format(time.DateOnly))
	return chain, true
}

// push sends what is offered to an agent.
func (a *Agents) push(c *links.Conn) {
	uid := a.p.Links.UID(c)
	o := a.p.Links.Take(uid, c)
	if o == nil {
		return
	}
	ctx := context.Background()
	if err := c.Send(ctx, &protobufs.ServerToAgent{RemoteConfig: a.remote(ctx, o, c.Private())}); err != nil {
		c.Close()
		return
	}
	a.sent(uid, o)
}

// ping closes a connection on which nobody answers.
func ping(c *links.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	if c.Ping(ctx) != nil {
		c.Close()
	}
}

func (a *Agents) sent(uid string, o *links.Offer) {
	if h, ok := a.p.Inventory.ByUID(uid); ok {
		a.p.Rollouts.Tell(rollout.Event{Kind: rollout.Sent, Host: h.Name, Hash: o.Hash})
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

// remote is an offer as it travels. The secrets that the renderer listed go along, over a private connection only; an
// agent that lacks one says so and keeps what it runs.
func (a *Agents) remote(ctx context.Context, o *links.Offer, private bool) *protobufs.AgentRemoteConfig {
	hash, _ := hex.DecodeString(o.Hash)
	config := wire.ConfigMap([]byte(o.Text))
	values := map[string]string{}
	for _, id := range o.Secrets {
		if !private {
			a.p.Log.Warn("a secret is not sent: the connection is in the clear and not on loopback", "secret", id)
			continue
		}
		name, version, _ := strings.Cut(id, "@")
		n, _ := strconv.Atoi(version)
		value, err := a.p.Secrets.Value(ctx, name, n)
		if err != nil {
			a.p.Log.Error("a secret cannot be opened", "secret", id, "error", err)
			continue
		}
		values[id] = value
	}
	wire.AddSecrets(config, values)
	return &protobufs.AgentRemoteConfig{Config: config, ConfigHash: hash}
}

func badRequest(uid []byte, words string) *protobufs.ServerToAgent {
	return &protobufs.ServerToAgent{InstanceUid: uid, ErrorResponse: &protobufs.ServerErrorResponse{
		Type: protobufs.ServerErrorResponseType_ServerErrorResponseType_BadRequest, ErrorMessage: words}}
}

// poll answers one message over plain HTTP.
func (a *Agents) poll(w http.ResponseWriter, r *http.Request, who membership.Caller) {
	msg := &protobufs.AgentToServer{}
	if !readBody(w, r, wire.MaxPoll, "AgentToServer", func(text []byte) error { return wire.Read(text, msg) }) {
		return
	}
	answer, uid, err := a.take(r.Context(), msg, who, nil)
	if err != nil {
		a.deny(w, err)
		return
	}
	if uid != "" {
		if o := a.p.Links.Take(uid, nil); o != nil {
			answer.RemoteConfig = a.remote(r.Context(), o, private(r))
			a.sent(uid, o)
		}
	}
	out, err := proto.Marshal(answer)
	if err != nil {
		a.deny(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/x-protobuf")
	_, _ = w.Write(out)
}

// take handles one message. It returns the answer, nil when there is nothing to say over a WebSocket, and the uid of
// the agent when it is that of a host.
func (a *Agents) take(
	ctx context.Context,
	msg *protobufs.AgentToServer,
	who membership.Caller,
	c *links.Conn,
) (*protobufs.ServerToAgent, string, error) {
	if len(msg.GetInstanceUid()) != 16 {
		return nil, "", membership.Denied{Words: "instance_uid must have 16 bytes"}
	}
	uid := hex.EncodeToString(msg.GetInstanceUid())
	answer := blank(msg)
	if who.Token != nil {
		return a.takeJoin(ctx, msg, uid, who, answer)
	}
	if who.Credential.UID != uid {
		return a.takeNewcomer(ctx, msg, uid, who, c, answer)
	}
	if retired, err := a.takeRetired(ctx, msg, who, answer); err != nil || retired {
		if c != nil && answer.RemoteConfig == nil {
			answer = nil
		}
		return answer, "", err
	}
	if who.Credential.UsedAt.IsZero() {
		if err := a.p.Membership.Use(ctx, who.Credential.ID); err != nil {
			return nil, "", err
		}
		who.Credential.UsedAt = a.p.Now()
	}
	h, ok := a.p.Inventory.ByUID(uid)
	if !ok {
		return nil, "", membership.Denied{
			Words: "this agent is not in the inventory any more: its host was retired, or joined anew",
		}
	}
	running := a.recognise(ctx, msg.GetEffectiveConfig())
	heard := a.p.Links.Hear(uid, msg.GetSequenceNum(), c, msg.GetAgentDescription() != nil)
	return a.takeHeard(ctx, msg, who, c, h, heard, running, answer)
}

// blank is an answer to a message.
func blank(msg *protobufs.AgentToServer) *protobufs.ServerToAgent {
	return &protobufs.ServerToAgent{InstanceUid: msg.GetInstanceUid(), Capabilities: wire.ServerCapabilities}
}

// takeHeard handles a message of the agent of a host, whose config is the known one of a hash, or "".
func (a *Agents) takeHeard(
	ctx context.Context,
	msg *protobufs.AgentToServer,
	who membership.Caller,
	c *links.Conn,
	h store.Host,
	heard links.Heard,
	running string,
	answer *protobufs.ServerToAgent,
) (*protobufs.ServerToAgent, string, error) {
	uid := who.Credential.UID
	if heard.Copy == "" && otherMachine(h, msg) {
		heard.Copy = "it carries the identity of this host, and says that it runs on another machine"
		a.p.Links.Detach(uid, c)
	}
	if heard.Copy != "" {
		return a.tellApart(ctx, msg, h.Name, heard.Copy, who, answer)
	}
	if heard.AskAll {
		answer.Flags = uint64(protobufs.ServerToAgentFlags_ServerToAgentFlags_ReportFullState)
	}
	transport := "polling"
	if c != nil {
		transport = reports.WebSocket
	}
	took := a.p.Reports.Take(h.Name, transport, msg, running)
	events := took.Events
	switch {
	case msg.GetAgentDisconnect() != nil:
		a.p.Links.Bye(uid)
		events = append(events, rollout.Event{Kind: rollout.Disconnected, Host: h.Name})
	case heard.Arrived:
		e := rollout.Event{Kind: rollout.Connected, Host: h.Name}
		if c == nil {
			e.Patience = 3 * links.PollPatience
		}
		events = append([]rollout.Event{e}, events...)
	}
	if took.Described {
		a.p.Inventory.Touch(h.Name)
		a.p.Rollouts.Changed(h.Name)
	}
	for _, e := range events {
		a.p.Rollouts.Tell(e)
	}
	if took.Changed || len(events) > 0 {
		a.p.Hosts.Touch(h.Name)
		a.p.Note("hosts")
	}
	if c != nil && msg.GetAgentDescription() != nil { // once a connection, and when the host has changed
		answer.CustomCapabilities = &protobufs.CustomCapabilities{
			Capabilities: []string{wire.DeskCapability, wire.NumbersCapability}}
		return answer, uid, nil
	}
	if c != nil && answer.Flags == 0 {
		return nil, uid, nil
	}
	return answer, uid, nil
}

// recognise returns the hash of the manifest whose text an agent reports as effective, or "" when it runs something
// else. The text itself is compared: that it claims a hash is not enough.
func (a *Agents) recognise(ctx context.Context, ec *protobufs.EffectiveConfig) string {
	text := wire.ConfigOf(ec.GetConfigMap())
	m := hashLine.FindSubmatch(text)
	if m == nil {
		return ""
	}
	if have, err := a.p.Store.Manifest(ctx, string(m[1])); err != nil || have.Text != string(text) {
		return ""
	}
	return string(m[1])
}

var hashLine = regexp.MustCompile(`(?m)^hash: ([0-9a-f]{64})$`)
