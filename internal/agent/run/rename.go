package run

import (
	"maps"
	"slices"
	"strings"

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
		if !taken && (running || len(e.buffers.Have(d.Was)) > 0 || e.delivered(d.Was) ||
			slices.Contains(e.rejects.Destinations(), d.Was)) {
			destinations[d.Was] = d.Name
		}
	}
	return sources, destinations
}

// known tells whether anything is known of a source.
func (e *Engine) known(source string) bool {
	return len(e.store.Files(source)) > 0 || e.store.Numbers(source).Read > 0
}

// delivered tells whether anything is known of what went to a destination.
func (e *Engine) delivered(destination string) bool {
	return slices.ContainsFunc(e.store.Sources(), func(key string) bool {
		_, only, _ := strings.Cut(key, ">")
		_, counted := e.store.Numbers(key).Deliveries[destination]
		return only == destination || counted
	})
}

// renamedReadings adds the readings for destinations alone to the sources that have another name now.
func (e *Engine) renamedReadings(sources, destinations map[string]string) map[string]string {
	out := maps.Clone(sources)
	for _, key := range e.store.Sources() {
		source, only, own := strings.Cut(key, ">")
		if now, ok := sources[source]; ok {
			source = now
		}
		if now, ok := destinations[only]; ok {
			only = now
		}
		if now := reading(source, only); own && now != key {
			out[key] = now
		}
	}
	return out
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
	}
	readings := e.renamedReadings(sources, destinations)
	for was, now := range readings {
		e.books.move(was, now)
	}
	for was, now := range destinations {
		e.renameBuffers(was, now)
		for _, b := range e.books.each() {
			b.Rename(was, now)
		}
	}
	if len(sources)+len(destinations) > 0 {
		e.store.Rename(readings, destinations)
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
