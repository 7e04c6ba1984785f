package agents

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/open-telemetry/opamp-go/protobufs"

	"synaxis/internal/core/wire"
	"synaxis/internal/service/store"
)

// askFor is how long an agent has to answer a question of the desk.
const askFor = 30 * time.Second

// Unreachable is a host that cannot be asked now.
type Unreachable struct{ Words string }

func (u Unreachable) Error() string { return u.Words }

// Refused is what an agent answers that will not, or cannot.
type Refused struct{ Words string }

func (r Refused) Error() string { return r.Words }

// ReadLines reads the last lines of a file of a host. It is in the audit before it is done.
func (f *Fleet) ReadLines(ctx context.Context, who store.Person, host, path string, n int) (wire.Lines, error) {
	r, err := f.ask(ctx, who, host, wire.AskLines, "host read-lines", wire.Ask{Path: path, Lines: n})
	if err != nil {
		return wire.Lines{}, err
	}
	if r.Lines == nil {
		return wire.Lines{}, Refused{"the agent answered something else than lines"}
	}
	return *r.Lines, nil
}

// Uncollected lists the logs of a host that no source takes. folders are looked into beside those that the agent knows.
func (f *Fleet) Uncollected(ctx context.Context, who store.Person, host string, folders []string) (wire.Logs, error) {
	r, err := f.ask(ctx, who, host, wire.AskLogs, "host list-logs", wire.Ask{Folders: folders})
	if err != nil {
		return wire.Logs{}, err
	}
	if r.Logs == nil {
		return wire.Logs{}, Refused{"the agent answered something else than logs"}
	}
	return *r.Logs, nil
}

// ask sends a question to an agent and waits for the answer.
func (f *Fleet) ask(ctx context.Context, who store.Person, name, kind, action string, a wire.Ask) (wire.Reply, error) {
	f.mu.RLock()
	h := f.hosts[name]
	var c *conn
	var connected bool
	if h != nil {
		c, connected = h.conn, h.view.Connected
	}
	f.mu.RUnlock()
	switch {
	case h == nil:
		return wire.Reply{}, store.Missingf("there is no host %s", name)
	case !connected:
		return wire.Reply{}, Unreachable{fmt.Sprintf("the agent of %s is away, so nothing can be read there; try again when it is back", name)}
	case c == nil:
		return wire.Reply{}, Unreachable{fmt.Sprintf("the agent of %s polls; a host can be looked at over a WebSocket only", name)}
	case !c.answers.Load():
		return wire.Reply{}, Unreachable{fmt.Sprintf("the agent of %s cannot show lines; install a newer one", name)}
	}
	if err := f.store.Update(ctx, func(t *store.Tx) error {
		return t.Audit(who, f.now(), action, name, nil, map[string]any{"path": a.Path, "lines": a.Lines})
	}); err != nil {
		return wire.Reply{}, err
	}
	a.ID = rand.Text()
	answer := make(chan wire.Reply, 1)
	c.asked.Store(a.ID, answer)
	defer c.asked.Delete(a.ID)
	if err := c.send(ctx, &protobufs.ServerToAgent{CustomMessage: &protobufs.CustomMessage{Capability: wire.DeskCapability, Type: kind, Data: wire.Encode(a)}}); err != nil {
		return wire.Reply{}, Unreachable{fmt.Sprintf("the agent of %s could not be asked: %v", name, err)}
	}
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	select {
	case r := <-answer:
		if r.Error != "" {
			return r, Refused{name + ": " + r.Error}
		}
		return r, nil
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return wire.Reply{}, Unreachable{fmt.Sprintf("the agent of %s has not answered within %s", name, askFor)}
		}
		return wire.Reply{}, ctx.Err()
	}
}

// custom takes what concerns the desk's questions out of a message.
func (c *conn) custom(msg *protobufs.AgentToServer) {
	if caps := msg.GetCustomCapabilities(); caps != nil {
		c.answers.Store(slices.Contains(caps.GetCapabilities(), wire.DeskCapability))
	}
	m := msg.GetCustomMessage()
	if m.GetCapability() != wire.DeskCapability {
		return
	}
	var r wire.Reply
	if wire.Decode(m.GetData(), &r) != nil {
		return
	}
	if waiting, ok := c.asked.LoadAndDelete(r.ID); ok {
		waiting.(chan wire.Reply) <- r
	}
}

// LogFolders are the settings of a host that are paths: where its logs may be.
func LogFolders(settings map[string]string) []string {
	var out []string
	for _, v := range settings {
		if strings.HasPrefix(v, "/") && !strings.ContainsAny(v, "*?\n") {
			out = append(out, v)
		}
	}
	slices.Sort(out)
	return out
}
