package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"synaxis/internal/agent/deliver"
	"synaxis/internal/agent/position"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/hostconfig"
)

// parting is a destination that left the config and delivers what is left.
type parting struct {
	dest   *deliver.Destination
	cancel context.CancelFunc
	done   chan struct{}
	kept   keptParting
}

// keptParting is what a start needs to go on with it.
type keptParting struct {
	Spec    delivery.Spec
	Secrets map[string]string
	Until   time.Time
}

const partingFile = "leaving.json"

// part lets a destination that left the config deliver what is left, for as long as it says.
func (e *Engine) part(d *deliver.Destination, c hostconfig.Config) {
	k := keptParting{Spec: d.Spec, Secrets: map[string]string{}, Until: time.Now().Add(d.Spec.Drain)}
	e.mu.RLock()
	for _, ref := range d.Spec.Secrets() {
		if v, ok := e.config.Secret(ref); ok && c.Host != "" { // of a host that is retired nothing secret is kept
			k.Secrets[ref] = string(v)
		}
	}
	e.mu.RUnlock()
	e.goOn(d, k)
}

func (e *Engine) goOn(d *deliver.Destination, k keptParting) {
	ctx, cancel := context.WithDeadline(e.ctx, k.Until)
	p := &parting{dest: d, cancel: cancel, done: make(chan struct{}), kept: k}
	e.mu.Lock()
	e.parting[k.Spec.Name] = p
	e.mu.Unlock()
	e.keepPartings()
	e.leaving.Go(func() {
		defer close(p.done)
		defer cancel()
		d.Drain(ctx)
		switch {
		case d.Empty():
			d.Stop()
		case errors.Is(ctx.Err(), context.DeadlineExceeded):
			e.leftover(d, fmt.Sprintf("the destination left the config, and %s were over", k.Spec.Drain))
		default:
			return // the agent stops, or it comes back
		}
		e.mu.Lock()
		delete(e.parting, k.Spec.Name)
		e.mu.Unlock()
		e.keepPartings()
	})
}

// leftover puts what a destination has not delivered among its rejects, and says so.
func (e *Engine) leftover(d *deliver.Destination, why string) {
	n, err := d.Abandon(e.ctx, why)
	name := d.Spec.Name
	s := Status{Name: name, Code: health.LeavingConfig, Since: time.Now(),
		Reason: fmt.Sprintf("%s: %d records were not delivered and are among its rejects", why, n)}
	if err != nil {
		s.Reason = fmt.Sprintf("%s: what was not delivered is still on disk: %v", why, err)
	}
	if n == 0 && err == nil {
		return
	}
	e.log.Warn("records of a destination that left the config are left", "destination", name, "reason", s.Reason)
	e.mu.Lock()
	e.parted[name] = s
	e.mu.Unlock()
}

// comesBack is a destination that left the config and is in it again, or nil.
func (e *Engine) comesBack(name string) *deliver.Destination {
	e.mu.Lock()
	p := e.parting[name]
	delete(e.parting, name)
	delete(e.parted, name)
	e.mu.Unlock()
	if p == nil {
		return nil
	}
	p.cancel()
	<-p.done
	e.keepPartings()
	return p.dest
}

// keepPartings writes down which destinations are leaving, for the agent's eyes only.
func (e *Engine) keepPartings() {
	e.mu.RLock()
	var list []keptParting
	for _, p := range e.parting {
		list = append(list, p.kept)
	}
	e.mu.RUnlock()
	path := filepath.Join(e.dir, partingFile)
	var err error
	if len(list) == 0 {
		err = os.Remove(path)
	} else {
		var text []byte
		if text, err = json.Marshal(list); err == nil {
			err = position.WriteFile(path, text, 0o600)
		}
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		e.log.Error("which destinations are leaving cannot be written down; after a restart what is left of them goes "+
			"to the rejects", "error", err)
	}
}

// partUnknown takes care of what is on disk for destinations that are not in the config: those that were leaving when
// the agent ended go on, and what nobody knows of goes to the rejects.
func (e *Engine) partUnknown(c hostconfig.Config) {
	var list []keptParting
	if text, err := os.ReadFile(filepath.Join(e.dir, partingFile)); err == nil {
		_ = json.Unmarshal(text, &list) // what cannot be read is not known
	}
	for _, name := range e.buffers.Destinations() {
		e.mu.RLock()
		known := e.parting[name] != nil || e.dests[name] != nil
		e.mu.RUnlock()
		if _, ok := c.Destination(name); ok || known {
			continue
		}
		k := keptParting{Spec: delivery.Spec{Name: name, Kind: delivery.Discard, Buffer: delivery.DefaultBuffer,
			Rejects: delivery.DefaultRejects, Batch: delivery.DefaultBatch, Retry: delivery.DefaultRetry}}
		for _, one := range list {
			if one.Spec.Name == name {
				k = one
			}
		}
		d, err := deliver.New(k.Spec, e.deps(func(ref string) ([]byte, bool) {
			v, ok := k.Secrets[ref]
			return []byte(v), ok
		}))
		if err != nil {
			e.log.Error("what is on disk of a destination that left the config cannot be delivered", "error", err)
			continue
		}
		if k.Until.IsZero() {
			e.leftover(d, "the destination is not in the config")
			continue
		}
		d.Start()
		e.goOn(d, k)
	}
}
