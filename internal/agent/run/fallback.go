package run

import (
	"context"
	"fmt"
	"reflect"
	"time"

	"synaxis/internal/core/hostconfig"
)

// An agent that can deliver nothing any more with a new config, to destinations that the config changed and that took
// records before, goes back to the config before it by itself.

const (
	fallbackWithin = time.Minute      // of a new config
	fallbackAfter  = 20 * time.Second // without a delivery, while each of those destinations fails
	fallbackLook   = time.Second
)

// taken is how many records each destination has taken.
func (e *Engine) taken() map[string]int64 {
	out := map[string]int64{}
	for _, n := range e.numbers() {
		for to, d := range n.Deliveries {
			out[to] += d.Acknowledged
		}
	}
	return out
}

// atRisk are the destinations that a config changes and that take records now, by their names in it.
func (e *Engine) atRisk(c hostconfig.Config) (names []string) {
	have := e.taken()
	e.mu.RLock()
	defer e.mu.RUnlock()
	for _, now := range c.Destinations {
		old := now.Name
		if _, ok := e.config.Destination(old); !ok {
			old = now.Was
		}
		before, ok := e.config.Destination(old)
		d := e.dests[old]
		if !ok || d == nil || d.Trouble().Code != "" || have[old] == 0 {
			continue
		}
		before.Name, before.Was = now.Name, now.Was
		if !reflect.DeepEqual(before, now) || e.renewed(c, now) {
			names = append(names, now.Name)
		}
	}
	return names
}

// lost tells why nothing can be delivered any more, or "": each destination at risk fails for some time, and none of
// the agent's destinations has taken anything since.
func (e *Engine) lost(risk []string, before map[string]int64, now time.Time) string {
	why := ""
	for _, name := range risk {
		d := e.dest(name)
		if d == nil {
			return ""
		}
		t := d.Trouble()
		if t.Code == "" || now.Sub(t.Since) < fallbackAfter {
			return ""
		}
		why = fmt.Sprintf("destination %s: %s", name, t.Reason)
	}
	for name, n := range e.taken() {
		if n > before[name] {
			return ""
		}
	}
	return why
}

// watch goes back to the config before when the new one turns out to deliver nothing within its first minute.
func (a *Agent) watch(ctx context.Context, risk []string, hash []byte, was, wasSecrets []byte) {
	if len(risk) == 0 || len(was) == 0 {
		return
	}
	began := time.Now()
	before := a.engine.taken()
	tick := time.NewTicker(fallbackLook)
	defer tick.Stop()
	for time.Since(began) < fallbackWithin {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if why := a.engine.lost(risk, before, time.Now()); why != "" {
			a.fallBack(ctx, hash, was, wasSecrets, why)
			return
		}
	}
}

// fallBack runs the config before again, and says so as the state of the new one.
func (a *Agent) fallBack(ctx context.Context, hash, was, wasSecrets []byte, why string) {
	a.applying.Lock()
	defer a.applying.Unlock()
	if ctx.Err() != nil { // another config came meanwhile
		return
	}
	c, err := a.read(was, wasSecrets)
	if err == nil {
		err = a.keep(was, wasSecrets)
	}
	if err == nil {
		err = a.engine.Apply(c)
	}
	if err != nil {
		a.o.Log.Error("the config before cannot be brought back", "error", err)
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.text, a.secrets = was, wasSecrets
	a.status = failed(hash,
		fmt.Errorf("within its first minute nothing could be delivered that could be before, so the "+
			"config before it runs again: %s", why))
	a.o.Log.Error("nothing could be delivered any more; the config before runs again", "reason", why)
}
