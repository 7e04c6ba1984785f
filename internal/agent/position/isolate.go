package position

import (
	"slices"
	"strings"
)

// Sources are all of which a file is known.
func (s *Store) Sources() (out []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for k := range s.files {
		if !slices.Contains(out, k.Source) {
			out = append(out, k.Source)
		}
	}
	return out
}

// Fork copies what is known of a source's files, as far as one destination has settled them.
func (s *Store) Fork(source, to, destination string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for k, f := range s.files {
		if k.Source != source {
			continue
		}
		f.Source = to
		f.Ahead = slices.DeleteFunc(slices.Clone(f.Ahead), func(a Ahead) bool { return a.Destination != destination })
		s.files[f.Key()] = f
		s.changed[f.Key()] = true
	}
	for k, at := range s.patterns {
		if pattern, ok := strings.CutPrefix(k, source+"\n"); ok {
			s.patterns[to+"\n"+pattern] = at
			s.looked[to+"\n"+pattern] = true
		}
	}
}

// Join brings what a reading for one destination alone has settled back to the source. A destination that is behind
// the others takes the position of a file back; the others are then ahead.
func (s *Store) Join(from, source, destination string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	others := map[string]bool{}
	for name := range s.numbers[source].Deliveries {
		if name != destination {
			others[name] = true
		}
	}
	for k, own := range s.files {
		if k.Source != from {
			continue
		}
		if own.Ahead != nil { // it had not come back to where the destination was
			own.Ahead = slices.Clone(own.Ahead)
		}
		k.Source = source
		f, ok := s.files[k]
		switch {
		case !ok:
			f = own
			f.Source = source
		case own.Offset > f.Offset:
			f.Ahead = append(slices.Clone(f.Ahead), Ahead{destination, own.Offset})
		case own.Offset < f.Offset:
			ahead := []Ahead{}
			for name := range others {
				at := f.Offset
				for _, a := range f.Ahead {
					if a.Destination == name {
						at = a.Offset
					}
				}
				ahead = append(ahead, Ahead{name, at})
			}
			f.Offset, f.Tail, f.Ahead = own.Offset, own.Tail, ahead
		}
		slices.SortFunc(f.Ahead, func(a, b Ahead) int { return strings.Compare(a.Destination, b.Destination) })
		s.files[k] = f
		s.changed[k] = true
	}
}

// ForgetSource drops everything that is known of a source.
func (s *Store) ForgetSource(source string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for k := range s.files {
		if k.Source == source {
			delete(s.files, k)
			s.changed[k] = true
		}
	}
	if _, ok := s.numbers[source]; ok {
		delete(s.numbers, source)
		s.counted[source] = true
	}
}
