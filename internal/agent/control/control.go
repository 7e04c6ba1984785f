// Package control is the agent's connection to the service: OpAMP over WebSocket, and its own numbers as OTLP.
package control

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	mrand "math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/agent/position"
	"synaxis/internal/core/wire"
)

// Options say whom to call and as whom.
type Options struct {
	Service   string // http or https address
	JoinToken string
	TokenFile string // holds the join token, and is removed once it was used
	Pin       string
	StateDir  string
	HostID    string // of the machine, so that a copied state folder is noticed
	Report    time.Duration
	Log       *slog.Logger
}

// Host is the rest of the agent, as the connection sees it.
type Host interface {
	Describe() *protobufs.AgentDescription
	Health() *protobufs.ComponentHealth // without counters; equal when nothing changed
	Effective() []byte                  // text of the config that runs, or nil
	ConfigStatus() *protobufs.RemoteConfigStatus
	Apply(text, secrets, hash []byte) *protobufs.RemoteConfigStatus
	Forget() error // stop, and throw away what was copied from another host
	Metrics(now time.Time) proto.Message
	Answer(ctx context.Context, kind string, ask wire.Ask) wire.Reply // to what the desk wants to see of the host
}

// Identity is what the agent keeps of its membership.
type Identity struct {
	UID        string `json:"uid"` // 32 hexadecimal digits
	Credential string `json:"credential,omitempty"`
	HostID     string `json:"hostId,omitempty"`   // the machine that it was kept on
	Newcomer   bool   `json:"newcomer,omitempty"` // the uid is its own, the credential still another host's
}

// idleFor is how long a connection stays open that numbers were sent over, so that an agent that reports seldom holds
// one connection and not two.
const idleFor = 5 * time.Second

// Client holds the connection.
type Client struct {
	Options
	host     Host
	identity Identity
	http     *http.Client
	sequence uint64
	every    chan time.Duration
	secrets  chan wire.Secret // that are asked for
	waiting  sync.Map         // answers, by the id of the question
}

// secretWithin is how long the newest value of a secret is waited for.
const secretWithin = 10 * time.Second

// NewestSecret asks the service for the newest value of a secret, by a reference such as ${secret.archive_token@7}. ok
// is false when the service is not there, or does not give it.
func (c *Client) NewestSecret(ref string) (value string, ok bool) {
	name, found := strings.CutPrefix(strings.TrimSuffix(ref, "}"), "${secret.")
	if !found {
		return "", false
	}
	s, ok := c.askSecret(wire.Secret{Ref: name})
	return s.Value, ok && s.Found
}

// Certificate asks the service for a certificate of the listener of a source, by a request in PEM. Without one, words
// say why.
func (c *Client) Certificate(source, request string) (chain, words string) {
	s, ok := c.askSecret(wire.Secret{Ref: source, Request: request})
	switch {
	case !ok:
		return "", "the service is not there"
	case !s.Found:
		return "", s.Value
	}
	return s.Value, ""
}

// askSecret asks the service; ok is false when it is not there.
func (c *Client) askSecret(s wire.Secret) (wire.Secret, bool) {
	s.ID = rand.Text()
	answer := make(chan wire.Secret, 1)
	c.waiting.Store(s.ID, answer)
	defer c.waiting.Delete(s.ID)
	late := time.NewTimer(secretWithin)
	defer late.Stop()
	select {
	case c.secrets <- s:
	case <-late.C:
		return s, false
	}
	select {
	case s = <-answer:
		return s, true
	case <-late.C:
		return s, false
	}
}

// ReportEvery changes how often the agent reports.
func (c *Client) ReportEvery(d time.Duration) {
	select {
	case <-c.every: // an older wish that was not taken yet
	default:
	}
	select {
	case c.every <- d:
	default:
	}
}

// New reads the identity from the state folder, or makes a new one.
func New(o Options, host Host) (*Client, error) {
	if o.Pin != "" {
		if err := wire.CheckPin(o.Pin); err != nil {
			return nil, err
		}
	}
	u, err := url.Parse(o.Service)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("--service %q: expected an address such as https://desk.example:7443", o.Service)
	}
	c := &Client{Options: o, host: host, every: make(chan time.Duration, 1),
		secrets: make(chan wire.Secret)}
	text, err := os.ReadFile(c.path())
	switch {
	case err == nil:
		if err := json.Unmarshal(text, &c.identity); err != nil {
			return nil, fmt.Errorf(
				"the identity in %s is damaged: %w; remove that file alone, and start the agent with a join token: "+
					"it keeps its positions, and reads on where it was",
				c.path(),
				err,
			)
		}
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	if c.identity.UID == "" {
		c.identity.UID = fmt.Sprintf("%x", wire.NewUID())
	}
	if c.identity.HostID == "" {
		c.identity.HostID = o.HostID
		if err := c.keep(); err != nil {
			return nil, err
		}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = wire.PinnedTLS(o.Pin, u.Hostname())
	transport.IdleConnTimeout = idleFor
	c.http = &http.Client{Transport: transport}
	return c, nil
}

// Copied tells whether the state folder seems to come from another machine, so that what is in it must not be used
// before the service has said who this agent is.
func (c *Client) Copied() bool { return c.identity.Newcomer || c.identity.HostID != c.HostID }

func (c *Client) path() string { return filepath.Join(c.StateDir, "identity.json") }

func (c *Client) keep() error {
	text, err := json.Marshal(c.identity)
	if err != nil {
		return err
	}
	if err := position.WriteFile(c.path(), text, 0o600); err != nil {
		return fmt.Errorf("keep the identity: %w", err)
	}
	return nil
}

func (c *Client) uid() []byte {
	var b []byte
	_, _ = fmt.Sscanf(c.identity.UID, "%x", &b)
	return b
}

// refusal is an answer that trying again soon will not change.
type refusal struct{ words string }

func (r refusal) Error() string { return r.words }

// errRejoin asks to connect again at once, with a new credential.
var errRejoin = errors.New("connect again")

// slowRetry is the pause after a refusal: somebody must act first.
const slowRetry = 30 * time.Second

// Needs asks the service what a host of this name would need, for the script that installs the agent. The answer is a
// line for each need, KEY=VALUE.
func Needs(ctx context.Context, o Options, query url.Values) (string, error) {
	u, err := url.Parse(o.Service)
	if err != nil || u.Host == "" {
		return "", fmt.Errorf("--service %q: expected an address such as https://desk.example:7443", o.Service)
	}
	if o.Pin != "" {
		if err := wire.CheckPin(o.Pin); err != nil {
			return "", err
		}
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = wire.PinnedTLS(o.Pin, u.Hostname())
	req, err := http.NewRequestWithContext(
		ctx,
		http.MethodGet,
		strings.TrimSuffix(o.Service, "/")+wire.NeedsPath+"?"+query.Encode(),
		nil,
	)
	if err != nil {
		return "", err
	}
	req.Header.Set("Authorization", "Bearer "+o.JoinToken)
	resp, err := (&http.Client{Transport: transport, Timeout: 20 * time.Second}).Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if err != nil {
		return "", err
	}
	if resp.StatusCode != http.StatusOK {
		return "", errors.New(strings.TrimSpace(string(text)))
	}
	return string(text), nil
}

// Run keeps the connection until ctx ends. What goes wrong is logged in words; it never gives up.
func (c *Client) Run(ctx context.Context) {
	for try := 0; ctx.Err() == nil; {
		began := time.Now()
		err := c.session(ctx)
		if ctx.Err() != nil {
			return
		}
		if errors.Is(err, errRejoin) {
			continue
		}
		if time.Since(began) > 10*time.Second {
			try = 0
		}
		try++
		limit := time.Second << min(try, 5)
		pause := time.Duration(
			mrand.Float64() * float64(limit),
		) // full jitter, so that a fleet does not come back at once
		var r refusal
		if errors.As(err, &r) || errors.Is(err, wire.ErrPin) {
			pause = slowRetry + time.Duration(mrand.Float64()*float64(slowRetry))
		}
		c.Log.Warn(
			"not connected to the service",
			"service",
			c.Service,
			"reason",
			err,
			"again_in",
			pause.Round(100*time.Millisecond),
		)
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

func (c *Client) authorization() string {
	if c.identity.Credential != "" {
		return "Bearer " + c.identity.Credential
	}
	if c.JoinToken == "" && c.TokenFile != "" {
		if text, err := os.ReadFile(c.TokenFile); err == nil {
			return "Bearer " + strings.TrimSpace(string(text))
		}
	}
	return "Bearer " + c.JoinToken
}

// join asks for a credential, in one request: a connection is made once there is one to make it with.
func (c *Client) join(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute) // a fleet that joins at once waits for its turns
	defer cancel()
	body, err := proto.Marshal(c.message(&protobufs.AgentToServer{AgentDescription: c.host.Describe()}))
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(
		ctx,
		http.MethodPost,
		strings.TrimSuffix(c.Service, "/")+wire.OpAMPPath,
		bytes.NewReader(body),
	)
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-protobuf")
	req.Header.Set("Authorization", c.authorization())
	resp, err := c.http.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return c.refused(resp, nil)
	}
	text, err := io.ReadAll(io.LimitReader(resp.Body, wire.MaxPoll))
	if err != nil {
		return err
	}
	answer := &protobufs.ServerToAgent{}
	if err := proto.Unmarshal(text, answer); err != nil {
		return fmt.Errorf("the service sent something that is no OpAMP: %w", err)
	}
	if id := answer.GetAgentIdentification().GetNewInstanceUid(); len(id) == 16 {
		return c.becomeNewcomer(fmt.Sprintf("%x", id))
	}
	if err := c.takeCredential(answer.GetConnectionSettings()); err != nil {
		return err
	}
	return errors.New("the service gave no credential")
}

func (c *Client) session(ctx context.Context) error {
	if c.identity.Credential == "" {
		return c.join(ctx)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	header := http.Header{"Authorization": {c.authorization()}}
	dialCtx, done := context.WithTimeout(ctx, 20*time.Second)
	conn, resp, err := websocket.Dial(dialCtx, strings.TrimSuffix(c.Service, "/")+wire.OpAMPPath,
		&websocket.DialOptions{HTTPClient: c.http, HTTPHeader: header, CompressionMode: websocket.CompressionDisabled})
	done()
	if err != nil {
		return c.refused(resp, err)
	}
	defer conn.CloseNow()
	conn.SetReadLimit(wire.MaxMessage)

	incoming := make(chan *protobufs.ServerToAgent)
	failed := make(chan error, 1)
	go func() {
		for {
			_, frame, err := conn.Read(ctx)
			if err != nil {
				failed <- err
				return
			}
			msg := &protobufs.ServerToAgent{}
			if err := wire.Unmarshal(frame, msg); err != nil {
				failed <- fmt.Errorf("the service sent something that is no OpAMP: %w", err)
				return
			}
			select {
			case incoming <- msg:
			case <-ctx.Done():
				return
			}
		}
	}()
	s := &session{c: c, conn: conn, replies: make(chan wire.Reply)}
	if err := s.send(ctx, s.full()); err != nil {
		return err
	}
	c.Log.Info("connected to the service", "service", c.Service)
	report := time.NewTicker(c.Report)
	defer report.Stop()
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			_ = s.send(
				context.WithoutCancel(ctx),
				&protobufs.AgentToServer{AgentDisconnect: &protobufs.AgentDisconnect{}},
			)
			_ = conn.Close(websocket.StatusNormalClosure, "the agent stops")
			return ctx.Err()
		case err := <-failed:
			return fmt.Errorf("the connection ended: %w", err)
		case msg := <-incoming:
			if err := s.take(ctx, msg); err != nil {
				return err
			}
		case reply := <-s.replies:
			s.asked--
			answer := &protobufs.CustomMessage{
				Capability: wire.DeskCapability, Type: wire.TypeReply, Data: wire.Encode(reply),
			}
			if err := s.send(ctx, &protobufs.AgentToServer{CustomMessage: answer}); err != nil {
				return err
			}
		case secret := <-c.secrets:
			question := &protobufs.CustomMessage{
				Capability: wire.DeskCapability, Type: wire.AskSecret, Data: wire.Encode(secret),
			}
			if err := s.send(ctx, &protobufs.AgentToServer{CustomMessage: question}); err != nil {
				return err
			}
		case <-look.C:
			if err := s.healthChanged(ctx); err != nil {
				return err
			}
			if err := s.configChanged(ctx); err != nil {
				return err
			}
		case every := <-c.every:
			report.Reset(every)
		case <-report.C:
			if err := s.report(ctx, s.news()); err != nil {
				return err
			}
		}
	}
}

// refused turns a failed handshake into words.
func (c *Client) refused(resp *http.Response, err error) error {
	if resp == nil {
		return err
	}
	var problem struct {
		Title  string `json:"title"`
		Detail string `json:"detail"`
	}
	if resp.Body != nil {
		text, _ := io.ReadAll(io.LimitReader(resp.Body, 4096))
		_ = json.Unmarshal(text, &problem)
	}
	words := problem.Detail
	if words == "" {
		words = "the service answered " + resp.Status
	}
	if resp.StatusCode == http.StatusUnauthorized || resp.StatusCode == http.StatusForbidden {
		return refusal{words}
	}
	return errors.New(words)
}

// message is the next one of this agent.
func (c *Client) message(m *protobufs.AgentToServer) *protobufs.AgentToServer {
	m.InstanceUid, m.SequenceNum, m.Capabilities = c.uid(), c.sequence, wire.AgentCapabilities
	if m.AgentDescription != nil {
		m.CustomCapabilities = &protobufs.CustomCapabilities{Capabilities: []string{wire.DeskCapability}}
	}
	c.sequence++
	return m
}

// becomeNewcomer takes a uid of its own: the service has found that this agent is the copy of another one. The uid is
// on disk before anything is thrown away, and everything is thrown away before the agent calls again.
func (c *Client) becomeNewcomer(uid string) error {
	c.identity.UID, c.identity.HostID, c.identity.Newcomer = uid, c.HostID, c.identity.Credential != ""
	if err := c.keep(); err != nil {
		return err
	}
	c.Log.Warn(
		"this agent carries the identity of another host; it waits for approval at the desk, and delivers nothing " +
			"of what was copied",
	)
	if err := c.host.Forget(); err != nil {
		return fmt.Errorf("throw away what was copied from another host: %w", err)
	}
	return errRejoin
}

// takeCredential keeps the credential that the service offers and asks to connect again with it.
func (c *Client) takeCredential(o *protobufs.ConnectionSettingsOffers) error {
	for _, h := range o.GetOpamp().GetHeaders().GetHeaders() {
		credential, ok := strings.CutPrefix(h.GetValue(), "Bearer ")
		if h.GetKey() != "Authorization" || !ok || credential == c.identity.Credential {
			continue
		}
		c.identity.Credential, c.identity.HostID, c.identity.Newcomer = credential, c.HostID, false
		if err := c.keep(); err != nil {
			return err
		}
		if c.TokenFile != "" {
			if err := os.Remove(c.TokenFile); err != nil && !errors.Is(err, fs.ErrNotExist) {
				c.Log.Warn("the join token is used up, and its file cannot be removed", "error", err)
			}
		}
		c.Log.Info("joined; the credential is kept in the state folder")
		return errRejoin
	}
	return nil
}

func (c *Client) sendMetrics(ctx context.Context) {
	body, err := proto.Marshal(c.host.Metrics(time.Now()))
	if err != nil {
		c.Log.Error("numbers cannot be encoded", "error", err)
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(
		ctx,
		http.MethodPost,
		strings.TrimSuffix(c.Service, "/")+wire.MetricsPath,
		bytes.NewReader(body),
	)
	if err != nil {
		return
	}
	req.Header.Set("Content-Type", "application/x-protobuf")
	req.Header.Set("Authorization", c.authorization())
	resp, err := c.http.Do(req)
	if err != nil {
		return // the connection itself will say so
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, 4096))
	resp.Body.Close()
	if resp.StatusCode/100 != 2 {
		c.Log.Warn("the service did not take the numbers", "status", resp.Status)
	}
}
