package agents

import (
	"bytes"
	"context"
	"encoding/hex"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/core/wire"
	"synaxis/internal/service/links"
	"synaxis/internal/service/membership"
	"synaxis/internal/service/reports"
	"synaxis/internal/service/store"
)

// takeJoin handles the message of an agent that holds a join token only.
func (a *Agents) takeJoin(
	ctx context.Context,
	msg *protobufs.AgentToServer,
	uid string,
	who membership.Caller,
	answer *protobufs.ServerToAgent,
) (*protobufs.ServerToAgent, string, error) {
	d := msg.GetAgentDescription()
	if d == nil {
		answer.Flags = uint64(protobufs.ServerToAgentFlags_ServerToAgentFlags_ReportFullState)
		return answer, "", nil
	}
	if msg.GetCapabilities()&uint64(
		protobufs.AgentCapabilities_AgentCapabilities_AcceptsOpAMPConnectionSettings,
	) == 0 {
		return nil, "", membership.Denied{
			Words: "this agent does not accept connection settings, so it cannot be given a credential of its own",
		}
	}
	r := ask(d, uid)
	r.Origin = who.Origin
	if h, ok := a.p.Inventory.ByUID(uid); ok && h.HostID != "" && r.HostID != "" &&
		h.HostID != r.HostID { // the uid of another machine's
		id := wire.NewUID()
		answer.AgentIdentification = &protobufs.AgentIdentification{NewInstanceUid: id[:]}
		return answer, "", nil
	}
	was, _ := a.p.Inventory.Get(r.Name)
	credential, err := a.p.Membership.Join(ctx, who.Token.ID, r)
	if err != nil {
		a.p.Links.Wait(uid, nil) // in case it waits for approval now
		return nil, "", err
	}
	if !was.RetiredAt.IsZero() {
		a.p.Reports.BroughtBack(r.Name)
	}
	answer.ConnectionSettings = settings(credential)
	return answer, "", nil
}

// settings offer a credential.
func settings(credential string) *protobufs.ConnectionSettingsOffers {
	return &protobufs.ConnectionSettingsOffers{Opamp: &protobufs.OpAMPConnectionSettings{
		Headers: &protobufs.Headers{
			Headers: []*protobufs.Header{{Key: "Authorization", Value: "Bearer " + credential}},
		}}}
}

// maxName is how many bytes of a name are looked at.
const maxName = 256

// ask reads what an agent that wants to join says of itself.
func ask(d *protobufs.AgentDescription, uid string) membership.Request {
	r := membership.Request{
		UID:         uid,
		ServiceName: reports.Fact(wire.Attribute(d.GetIdentifyingAttributes(), "service.name")),
	}
	for _, list := range [][]*protobufs.KeyValue{d.GetNonIdentifyingAttributes(), d.GetIdentifyingAttributes()} {
		if v := wire.Attribute(list, "host.name"); v != "" {
			r.Name = v[:min(len(v), maxName)] // as it is: what is cleaned could be the name of another host
		}
		if v := wire.Attribute(list, "host.id"); v != "" {
			r.HostID = reports.Fact(v)
		}
	}
	return r
}

// otherMachine tells whether a message comes from another machine than the host's.
func otherMachine(h store.Host, msg *protobufs.AgentToServer) bool {
	d := msg.GetAgentDescription()
	if d == nil || h.HostID == "" {
		return false
	}
	id := ask(d, "").HostID
	return id != "" && id != h.HostID
}

// tellApart gives the copy of an agent a uid of its own.
func (a *Agents) tellApart(
	ctx context.Context,
	msg *protobufs.AgentToServer,
	host, why string,
	who membership.Caller,
	answer *protobufs.ServerToAgent,
) (*protobufs.ServerToAgent, string, error) {
	id := wire.NewUID()
	r := ask(msg.GetAgentDescription(), hex.EncodeToString(id[:]))
	r.Name, r.Origin = reports.Fact(r.Name), who.Origin
	uid, err := a.p.Membership.TellApart(ctx, who.Credential.ID, host, why, r)
	if err != nil {
		return nil, "", err
	}
	a.p.Links.Wait(uid, nil)
	raw, err := hex.DecodeString(uid)
	answer.AgentIdentification = &protobufs.AgentIdentification{NewInstanceUid: raw}
	return answer, "", err
}

// takeNewcomer handles a message of an agent that was given a uid of its own and still has the other's credential.
func (a *Agents) takeNewcomer(
	ctx context.Context,
	msg *protobufs.AgentToServer,
	uid string,
	who membership.Caller,
	c *links.Conn,
	answer *protobufs.ServerToAgent,
) (*protobufs.ServerToAgent, string, error) {
	r := membership.Request{UID: uid, Origin: who.Origin}
	d := msg.GetAgentDescription()
	if d != nil {
		r = ask(d, uid)
		r.Name, r.Origin = reports.Fact(r.Name), who.Origin
	}
	text, err := a.p.Membership.TakeNewcomer(ctx, who.Credential.ID, r, d != nil)
	if err != nil {
		return nil, "", err
	}
	a.p.Links.Wait(uid, c)
	if text != "" {
		answer.ConnectionSettings = settings(text)
	} else if c != nil {
		answer = nil
	}
	return answer, "", nil
}

// takeRetired answers an agent whose host was retired: it is told to run nothing, until it says that it does; then its
// credential ends. It answers false for an agent that is none of a retired host.
func (a *Agents) takeRetired(
	ctx context.Context,
	msg *protobufs.AgentToServer,
	who membership.Caller,
	answer *protobufs.ServerToAgent,
) (bool, error) {
	name := who.Credential.Host
	h, ok := a.p.Inventory.Get(name)
	if !ok || h.UID != who.Credential.UID || h.RetiredAt.IsZero() {
		return false, nil
	}
	a.p.Reports.Seen(name, "")
	status := msg.GetRemoteConfigStatus()
	told := bytes.Equal(status.GetLastRemoteConfigHash(), wire.NothingHash)
	if !told || status.GetStatus() != protobufs.RemoteConfigStatuses_RemoteConfigStatuses_APPLIED {
		if !told {
			answer.RemoteConfig = &protobufs.AgentRemoteConfig{
				Config:     wire.ConfigMap(nil),
				ConfigHash: wire.NothingHash,
			}
		}
		return true, nil
	}
	if err := a.p.Membership.Emptied(ctx, name, who.Origin); err != nil {
		return true, err
	}
	a.p.Reports.Emptied(name)
	a.p.Log.Info("the agent of a retired host has stopped to collect and has deleted its secrets", "host", name)
	a.p.Note("hosts")
	return true, membership.Denied{
		Words: "this host was retired at the desk, and its agent has nothing left to do; to bring it back, remove " +
			"identity.json from its state folder and give it a token that is made for it: synaxis join-token create " +
			"--host NAME",
	}
}
