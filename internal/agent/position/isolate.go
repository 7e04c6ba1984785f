package position

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// Sources are all of which a file or a pattern is known, or which have begun.
func (s *Store) Sources() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	names := map[string]bool{}
	for k := range s.files {
		names[k.Source] = true
	}
	for k := range s.patterns {
		source, _, _ := strings.Cut(k, "\n")
		names[source] = true
	}
	return slices.Sorted(maps.Keys(names))
}

// Known tells whether a source has begun, or anything of its files is known.
func (s *Store) Known(source string) bool { return slices.Contains(s.Sources(), source) }

// Begin remembers that a source has begun, so that it is known before it has seen a file.
func (s *Store) Begin(source string, now time.Time) {
	s.FirstLook(source, "", now)
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

// hasLooked tells whether a source has looked at one of its patterns. The store is locked.
func (s *Store) hasLooked(source string) bool {
	for k := range s.patterns {
		if pattern, ok := strings.CutPrefix(k, source+"\n"); ok && pattern != "" {
			return true
		}
	}
	return false
}

// Join brings what a reading for one destination alone has settled back to the source. A destination that is behind
// the others takes the position of a file back; the others are then ahead. A file that the reading has not seen yet is
// taken back to its start, unless it would have begun at the file's end: fromStart tells that it would not.
func (s *Store) Join(from, source, destination string, fromStart bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	others := map[string]bool{}
	for name := range s.numbers[source].Deliveries {
		if name != destination {
			others[name] = true
		}
	}
	fromStart = fromStart || s.hasLooked(from)
	for k, f := range maps.Clone(s.files) {
		if _, seen := s.files[Key{from, k.Dev, k.Ino}]; k.Source == source && !seen && fromStart && f.Offset > 0 {
			f.takeBack(0, "", others)
			s.files[k], s.changed[k] = f, true
		}
	}
	for k, own := range maps.Clone(s.files) {
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
			f.takeBack(own.Offset, own.Tail, others)
		}
		slices.SortFunc(f.Ahead, func(a, b Ahead) int { return strings.Compare(a.Destination, b.Destination) })
		s.files[k] = f
		s.changed[k] = true
	}
}

// takeBack puts the position of a file back to where one destination is; the others stay as far as they were.
func (f *File) takeBack(offset int64, tail string, others map[string]bool) {
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
	slices.SortFunc(ahead, func(a, b Ahead) int { return strings.Compare(a.Destination, b.Destination) })
	f.Offset, f.Tail, f.Ahead = offset, tail, ahead
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
	for k := range s.patterns {
		if strings.HasPrefix(k, source+"\n") {
			delete(s.patterns, k)
			s.looked[k] = true
		}
	}
	if _, ok := s.numbers[source]; ok {
		delete(s.numbers, source)
		s.counted[source] = true
	}
}
