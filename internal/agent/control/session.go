package control

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/coder/websocket"
	"github.com/open-telemetry/opamp-go/protobufs"
	"google.golang.org/protobuf/proto"

	"synaxis/internal/core/wire"
)

// session is one connection.
type session struct {
	c          *Client
	conn       *websocket.Conn
	health     *protobufs.ComponentHealth
	healthSent time.Time
	effective  []byte
	status     *protobufs.RemoteConfigStatus // that was told last
	numbers    bool                          // the service takes numbers in messages

	description *protobufs.AgentDescription
	described   time.Time

	replies chan wire.Reply
	asked   int // questions that are not answered yet
}

// maxAsked bounds the questions of the desk that are answered at once.
const maxAsked = 4

// ask answers a question of the desk beside everything else.
func (s *session) ask(ctx context.Context, m *protobufs.CustomMessage) {
	var ask wire.Ask
	if m.GetType() == wire.TypeSecret {
		var answer wire.Secret
		if wire.Decode(m.GetData(), &answer) == nil {
			if waiting, ok := s.c.waiting.LoadAndDelete(answer.ID); ok {
				waiting.(chan wire.Secret) <- answer
			}
		}
		return
	}
	if m.GetCapability() != wire.DeskCapability || wire.Decode(m.GetData(), &ask) != nil {
		return
	}
	busy := s.asked >= maxAsked
	s.asked++
	go func() {
		reply := wire.Reply{ID: ask.ID, Error: "the agent answers other questions; ask again"}
		if !busy {
			ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
			reply = s.c.host.Answer(ctx, m.GetType(), ask)
			cancel()
		}
		select {
		case s.replies <- reply:
		case <-ctx.Done():
		}
	}()
}

func (s *session) send(ctx context.Context, m *protobufs.AgentToServer) error {
	frame, err := wire.Marshal(s.c.message(m))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	return s.conn.Write(ctx, websocket.MessageBinary, frame)
}

// describeEvery is how often the agent looks whether its host is still as it said.
const describeEvery = time.Minute

// news is the message of a report: empty, or what is observed of the host when that has changed.
func (s *session) news() *protobufs.AgentToServer {
	m := &protobufs.AgentToServer{}
	if time.Since(s.described) < describeEvery {
		return m
	}
	s.described = time.Now()
	if d := s.c.host.Describe(); !proto.Equal(d, s.description) {
		s.description, m.AgentDescription = d, d
	}
	return m
}

func (s *session) full() *protobufs.AgentToServer {
	s.health, s.healthSent = s.c.host.Health(), time.Now()
	s.effective, s.status = s.c.host.Effective(), s.c.host.ConfigStatus()
	s.description, s.described = s.c.host.Describe(), time.Now()
	return &protobufs.AgentToServer{AgentDescription: s.description, Health: s.health,
		EffectiveConfig: &protobufs.EffectiveConfig{
			ConfigMap: wire.ConfigMap(s.effective),
		}, RemoteConfigStatus: s.status}
}

// healthChanged reports health, at most every few seconds.
func (s *session) healthChanged(ctx context.Context) error {
	if time.Since(s.healthSent) < min(5*time.Second, s.c.Report) {
		return nil
	}
	now := s.c.host.Health()
	if proto.Equal(now, s.health) {
		return nil
	}
	s.health, s.healthSent = now, time.Now()
	return s.send(ctx, &protobufs.AgentToServer{Health: now})
}

// configChanged reports when the agent has gone back to another config by itself.
func (s *session) configChanged(ctx context.Context) error {
	now := s.c.host.ConfigStatus()
	if proto.Equal(now, s.status) {
		return nil
	}
	s.status, s.effective = now, s.c.host.Effective()
	return s.send(ctx, &protobufs.AgentToServer{RemoteConfigStatus: now,
		EffectiveConfig: &protobufs.EffectiveConfig{ConfigMap: wire.ConfigMap(s.effective)}})
}

func (s *session) take(ctx context.Context, msg *protobufs.ServerToAgent) error {
	if e := msg.GetErrorResponse(); e != nil {
		if e.GetType() == protobufs.ServerErrorResponseType_ServerErrorResponseType_BadRequest {
			return refusal{e.GetErrorMessage()}
		}
		return errors.New(e.GetErrorMessage())
	}
	if id := msg.GetAgentIdentification().GetNewInstanceUid(); len(id) == 16 {
		return s.c.becomeNewcomer(fmt.Sprintf("%x", id))
	}
	if err := s.c.takeCredential(msg.GetConnectionSettings()); err != nil {
		return err
	}
	if caps := msg.GetCustomCapabilities(); caps != nil {
		s.numbers = slices.Contains(caps.GetCapabilities(), wire.NumbersCapability)
	}
	if m := msg.GetCustomMessage(); m != nil {
		s.ask(ctx, m)
	}
	if rc := msg.GetRemoteConfig(); rc != nil {
		applying := &protobufs.RemoteConfigStatus{
			LastRemoteConfigHash: rc.GetConfigHash(),
			Status:               protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLYING,
		}
		if err := s.send(ctx, &protobufs.AgentToServer{RemoteConfigStatus: applying}); err != nil {
			return err
		}
		status := s.c.host.Apply(wire.ConfigOf(rc.GetConfig()), wire.SecretsOf(rc.GetConfig()), rc.GetConfigHash())
		s.health, s.healthSent = s.c.host.Health(), time.Now()
		s.effective, s.status = s.c.host.Effective(), status
		if err := s.send(ctx, &protobufs.AgentToServer{RemoteConfigStatus: status, Health: s.health,
			EffectiveConfig: &protobufs.EffectiveConfig{ConfigMap: wire.ConfigMap(s.effective)}}); err != nil {
			return err
		}
		if err := s.report(ctx, &protobufs.AgentToServer{}); err != nil {
			return err
		}
	}
	if msg.GetFlags()&uint64(protobufs.ServerToAgentFlags_ServerToAgentFlags_ReportFullState) != 0 {
		return s.send(ctx, s.full())
	}
	return nil
}

// report sends a message with the agent's numbers: in it where the service takes them so, else in a request of their
// own.
func (s *session) report(ctx context.Context, m *protobufs.AgentToServer) error {
	if s.numbers {
		body, err := proto.Marshal(s.c.host.Metrics(time.Now()))
		if err != nil {
			s.c.Log.Error("numbers cannot be encoded", "error", err)
			return nil
		}
		m.CustomMessage = &protobufs.CustomMessage{Capability: wire.NumbersCapability, Type: wire.TypeNumbers,
			Data: body}
		return s.send(ctx, m)
	}
	if err := s.send(ctx, m); err != nil {
		return err
	}
	s.c.sendMetrics(ctx)
	return nil
}
