package run

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/agent/listen"
	"synaxis/internal/agent/look"
	"synaxis/internal/agent/probe"
	"synaxis/internal/core/format"
	"synaxis/internal/core/pipeline"
)

// probeDir is where the files of probes are.
func (e *Engine) probeDir() string { return filepath.Join(e.dir, "probes") }

// probed is what a probe needs of the engine.
func (e *Engine) probed() probe.Host {
	return probe.Host{
		Dir: e.probeDir(),
		Tap: e.Tap,
		Format: func(source string) (spec format.Spec, src pipeline.Source, ok bool) {
			c := e.Config()
			i := slices.IndexFunc(c.Sources, func(s pipeline.Source) bool { return s.Name == source })
			if i < 0 {
				return spec, src, false
			}
			spec, _ = c.Format(c.Sources[i].Format)
			return spec, c.Sources[i], true
		},
		Newest: e.newestLine,
		Send: func(source, path, line string) error {
			e.mu.RLock()
			s := e.sources[source]
			e.mu.RUnlock()
			if s == nil {
				return errors.New("it does not listen any more")
			}
			in, ok := s.input.(*listen.Input)
			if !ok {
				return errors.New("it does not listen")
			}
			return in.Probe(path, line)
		},
		SourceTrouble: func(source string) string {
			for _, s := range e.Sources() {
				if s.Name == source {
					return s.Reason
				}
			}
			return ""
		},
		DestinationTrouble: func(name string) string {
			d := e.dest(name)
			if d == nil {
				return "it is not in the config any more"
			}
			if t := d.Trouble(); t.Reason != "" { // however short it has been so
				return t.Reason
			}
			e.mu.RLock()
			defer e.mu.RUnlock()
			return e.trouble(d).Reason
		},
		LookUp: func(ctx context.Context, destination, id string) (found, known bool, words string) {
			d := e.dest(destination)
			if d == nil {
				return false, false, ""
			}
			return d.LookUp(ctx, id)
		},
	}
}

// newestLine is the last line of the file of a source that was written last.
func (e *Engine) newestLine(source string) (string, error) {
	e.mu.RLock()
	s := e.sources[source]
	e.mu.RUnlock()
	if s == nil {
		return "", errors.New("it is not read any more")
	}
	newest, at := "", time.Time{}
	for _, pattern := range s.setup.Spec.Files {
		paths, err := doublestar.FilepathGlob(pattern, doublestar.WithFilesOnly())
		if err != nil {
			return "", err
		}
		for _, path := range paths {
			if info, err := os.Stat(path); err == nil && info.Size() > 0 && info.ModTime().After(at) {
				newest, at = path, info.ModTime()
			}
		}
	}
	if newest == "" {
		return "", errors.New("no file has a line")
	}
	l, err := look.Looker{State: e.dir, Now: time.Now}.Lines(newest, 1)
	if err != nil {
		return "", err
	}
	if len(l.Lines) == 0 {
		return "", errors.New("no file has a line")
	}
	return l.Lines[len(l.Lines)-1], nil
}
