package run

import (
	"strings"
	"time"
)

// isolate prepares readings for destinations alone that begin or end: what is written down of a source's files is
// taken over. It answers which readings must begin by what is written down, since it is not what they had. The engine
// is locked, and the readings concerned have stopped.
func (e *Engine) isolate(setups map[string]setup) (again map[string]bool) {
	again = map[string]bool{}
	for key, p := range setups {
		if p.Only == "" || e.sources[key] != nil || e.store.Known(key) {
			continue
		}
		e.store.Fork(p.Spec.Name, key, p.Only)
		e.store.Begin(key, time.Now())
		if b := e.books.open(p.Spec.Name, e.store); b != nil {
			e.books.open(key, e.store).Take(b, p.Only)
		}
	}
	for _, key := range e.store.Sources() {
		source, destination, own := strings.Cut(key, ">")
		if _, goesOn := setups[key]; !own || goesOn {
			continue
		}
		if p, stays := setups[source]; stays {
			e.store.Join(key, source, destination, p.Spec.FirstRead != "now")
			again[source] = true
		}
		e.books.join(source, destination, e.store)
		e.store.ForgetSource(key)
	}
	return again
}
