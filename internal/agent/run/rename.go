package run

import (
	"synaxis/internal/agent/buffer"
	"synaxis/internal/core/hostconfig"
)

// renamed are the sources and destinations of a config that had another name before, which is not in it any more.
func (e *Engine) renamed(c hostconfig.Config) (sources, destinations map[string]string) {
	sources, destinations = map[string]string{}, map[string]string{}
	names := map[string]bool{}
	for _, s := range c.Sources {
		names[s.Name] = true
	}
	for _, s := range c.Sources {
		if s.Was != "" && !names[s.Was] && e.known(s.Was) && len(e.store.Files(s.Name)) == 0 {
			sources[s.Was] = s.Name
		}
	}
	for _, d := range c.Destinations {
		if _, still := c.Destination(d.Was); d.Was == "" || still {
			continue
		}
		e.mu.RLock()
		running := e.dests[d.Was] != nil
		taken := e.dests[d.Name] != nil
		e.mu.RUnlock()
		if !taken && (running || len(e.buffers.Have(d.Was)) > 0 || len(e.rejects.Destinations()) > 0) {
			destinations[d.Was] = d.Name
		}
	}
	return sources, destinations
}

// known tells whether anything is known of a source.
func (e *Engine) known(source string) bool {
	return len(e.store.Files(source)) > 0 || e.store.Numbers(source).Read > 0
}

// rename gives what is known of sources and destinations their new names. Their buffers are renamed already where they
// are delivered.
func (e *Engine) rename(sources, destinations map[string]string) {
	for was, now := range sources {
		for _, k := range e.buffers.Keys() {
			if k.Source == was {
				e.renameLane(k, buffer.Key{Destination: k.Destination, Source: now})
			}
		}
		e.books.move(was, now)
	}
	for was, now := range destinations {
		e.renameBuffers(was, now)
		for _, b := range e.books.each() {
			b.Rename(was, now)
		}
	}
	if len(sources)+len(destinations) > 0 {
		e.store.Rename(sources, destinations)
	}
}

// renameBuffers gives the buffers and rejects of a destination its new name.
func (e *Engine) renameBuffers(was, now string) {
	for _, k := range e.buffers.Keys() {
		if k.Destination == was {
			e.renameLane(k, buffer.Key{Destination: now, Source: k.Source})
		}
	}
	if err := e.rejects.Rename(was, now); err != nil {
		e.log.Error("the rejects of a renamed destination keep its old name", "was", was, "now", now, "error", err)
	}
}

func (e *Engine) renameLane(from, to buffer.Key) {
	if err := e.buffers.Rename(from, to); err != nil {
		e.log.Error("a buffer keeps its old name, and goes to the rejects", "destination", from.Destination,
			"source", from.Source, "error", err)
	}
}
