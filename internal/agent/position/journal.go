package position

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"synaxis/internal/agent/buffer"
	"synaxis/internal/core/wire"
)

// A line of the journal is everything that one Save changed, so that no crash leaves a part of it.

// change is a part of a line: what is not nil replaces what was known.
type change struct {
	File    *File         `json:"file,omitempty"`
	Forget  *Key          `json:"forget,omitempty"`
	Source  string        `json:"source,omitempty"` // of Numbers
	Numbers *wire.Numbers `json:"numbers,omitempty"`
	Pattern string        `json:"pattern,omitempty"`
	At      time.Time     `json:"at,omitzero"` // of Pattern, or zero when it is forgotten
	Lane    *Lane         `json:"lane,omitempty"`
	NoLane  *buffer.Key   `json:"noLane,omitempty"`
	NoCount string        `json:"noCount,omitempty"` // a source whose numbers another has now
}

// replay takes what the journal says beyond the file. A line that a crash tore off ends it.
func (s *Store) replay() error {
	text, err := os.ReadFile(s.journalPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("read positions: %w", err)
	}
	used := int64(0)
	for line := range bytes.Lines(text) {
		changes, whole := readLine(line)
		if !whole {
			s.fold = true
			break
		}
		used += int64(len(line))
		for _, c := range changes {
			s.take(c)
		}
	}
	s.length = used
	s.measure()
	return nil
}

// readLine reads a line of the journal. Versions before this one wrote a line for each change.
func readLine(line []byte) (changes []change, whole bool) {
	if line[len(line)-1] != '\n' {
		return nil, false
	}
	if line[0] == '{' {
		var c change
		err := json.Unmarshal(line, &c)
		return []change{c}, err == nil
	}
	err := json.Unmarshal(line, &changes)
	return changes, err == nil
}

func (s *Store) take(c change) {
	switch {
	case c.File != nil:
		s.files[c.File.Key()] = *c.File
	case c.Forget != nil:
		delete(s.files, *c.Forget)
	case c.Numbers != nil:
		s.numbers[c.Source] = *c.Numbers
	case c.NoCount != "":
		delete(s.numbers, c.NoCount)
	case c.Pattern != "" && c.At.IsZero():
		delete(s.patterns, c.Pattern)
	case c.Pattern != "":
		s.patterns[c.Pattern] = c.At
	case c.Lane != nil:
		s.lanes[c.Lane.Key] = c.Lane.Mark
	case c.NoLane != nil:
		delete(s.lanes, *c.NoLane)
	}
}

func (s *Store) journalPath() string {
	return fmt.Sprintf("%s.%d.journal", strings.TrimSuffix(s.path, ".json"), s.folds)
}

func (s *Store) beforePath() string { return strings.TrimSuffix(s.path, ".json") + ".before.json" }

// lines are the changes as a line of the journal; fold tells that there is no file yet to which a journal could
// belong.
func (s *Store) lines() (line []byte, fold bool) {
	var changes []change
	add := func(c change) { changes = append(changes, c) }
	for k := range s.looked {
		add(change{Pattern: k, At: s.patterns[k]})
	}
	for k := range s.changed {
		if f, ok := s.files[k]; ok {
			add(change{File: &f})
		} else {
			add(change{Forget: &k})
		}
	}
	for source := range s.counted {
		if n, ok := s.numbers[source]; ok {
			add(change{Source: source, Numbers: &n})
		} else {
			add(change{NoCount: source})
		}
	}
	for k := range s.marked {
		if m, ok := s.lanes[k]; ok {
			add(change{Lane: &Lane{k, m}})
		} else {
			add(change{NoLane: &k})
		}
	}
	if len(changes) == 0 {
		return nil, false
	}
	text, err := json.Marshal(changes)
	if err != nil { // texts and numbers always become JSON
		return nil, false
	}
	return append(text, '\n'), s.base == 0
}

func (s *Store) everything() ([]byte, error) {
	st := state{Began: s.began, Fold: s.folds + 1, Numbers: s.numbers, Patterns: s.patterns}
	for _, f := range s.files {
		st.Files = append(st.Files, f)
	}
	for k, m := range s.lanes {
		st.Lanes = append(st.Lanes, Lane{k, m})
	}
	return json.Marshal(st)
}

func (s *Store) append(lines []byte) error {
	if s.journal == nil {
		f, err := os.OpenFile(s.journalPath(), os.O_CREATE|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		s.journal = f
	}
	_, err := s.journal.WriteAt(lines, s.length)
	if err == nil {
		err = s.journal.Sync()
	}
	if err != nil {
		_ = s.journal.Truncate(s.length) // half a line would end the journal for a reader
		return err
	}
	s.length += int64(len(lines))
	s.measure()
	return nil
}

// rewrite puts everything into a new file and begins a new journal. The file before stays as it was, for the case that
// this one is damaged.
func (s *Store) rewrite(text []byte) error {
	next := s.path + ".next"
	if err := WriteFile(next, text, 0o600); err != nil {
		return err
	}
	_ = os.Remove(s.beforePath())
	if err := os.Link(s.path, s.beforePath()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.Rename(next, s.path); err != nil {
		return err
	}
	if s.journal != nil {
		s.journal.Close()
		s.journal = nil
	}
	_ = os.Remove(s.journalPath()) // which nobody reads any more
	s.mu.Lock()
	s.base, s.length, s.fold = int64(len(text)), 0, false
	s.folds++
	s.measure()
	s.mu.Unlock()
	return nil
}
