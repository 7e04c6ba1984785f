// Package preflight rehearses a config on its host and changes nothing: are the files there and can they be read, are
// destinations found, safe and willing, is there room on the disk, is the clock right.
package preflight

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/agent/deliver"
	"synaxis/internal/agent/listen"
	"synaxis/internal/agent/produce"
	"synaxis/internal/core/delivery"
	"synaxis/internal/core/health"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/pipeline"
	"synaxis/internal/core/wire"
)

// Bounds of one rehearsal.
const (
	maxFiles   = 10_000 // of a pattern
	maxOpened  = 100    // of them, to see whether they can be read
	tryWithin  = 10 * time.Second
	clockBound = 5 * time.Second
)

// Rehearsal is what one is made of.
type Rehearsal struct {
	State    string                          // the agent's own folder
	Check    func(c hostconfig.Config) error // whether the agent can run a config
	Secret   func(ref string) (string, bool) // of the config that runs: others never leave the service
	SendTest bool                            // a marked record is sent to each destination
	Desk     time.Time                       // the service's clock, as it asked
	Now      func() time.Time
}

// secretRef is a reference to a secret in a config.
var secretRef = regexp.MustCompile(`\$\{secret\.([^}]+)\}`)

// Read reads a config that came without secrets: it has those of the config that runs, and what is not here yet is no
// mistake of it.
func Read(text []byte, secret func(ref string) (string, bool)) (hostconfig.Config, error) {
	c, err := hostconfig.Read(text, hostconfig.Runs)
	c.Secrets = map[string]string{}
	for _, m := range secretRef.FindAllSubmatch(text, -1) {
		c.Secrets[string(m[1])] = "not here yet"
		if v, ok := secret(string(m[0])); ok {
			c.Secrets[string(m[1])] = v
		}
	}
	return c, err
}

// Run rehearses a config as the service would send it.
func (r Rehearsal) Run(ctx context.Context, text []byte) []wire.Tried {
	now := r.Now()
	c, err := Read(text, r.Secret)
	if err == nil && r.Check != nil {
		err = r.Check(c)
	}
	if err != nil {
		return []wire.Tried{{Kind: wire.TryConfig, Level: wire.TryTrouble, Code: string(health.ConfigRefused),
			Words: err.Error(), Todo: "mend what it says, or install a newer agent"}}
	}
	out := []wire.Tried{{Kind: wire.TryConfig, Level: wire.TryFine, Words: "the agent can run it"}}
	ctx, cancel := context.WithTimeout(ctx, tryWithin)
	defer cancel()
	destinations := make([]wire.Tried, len(c.Destinations))
	var wait sync.WaitGroup
	for i, d := range c.Destinations {
		wait.Go(func() { destinations[i] = r.destination(ctx, d) })
	}
	for _, s := range c.Sources {
		out = append(out, r.source(ctx, s)...)
	}
	wait.Wait()
	out = append(out, destinations...)
	out = append(out, r.disk(c), r.clock(now))
	return out[:min(len(out), wire.MaxTried)]
}

// source looks at the patterns of a source.
func (r Rehearsal) source(ctx context.Context, s pipeline.Source) (out []wire.Tried) {
	for _, pattern := range s.Files {
		out = append(out, r.pattern(ctx, s, pattern))
	}
	if s.Listen != nil {
		out = append(out, r.port(s))
	}
	for _, p := range []*pipeline.Program{s.Command, s.FilesFrom} {
		if p != nil && len(p.Run) > 0 {
			out = append(out, program(s.Name, p.Run[0]))
		}
	}
	if s.Journal != nil {
		out = append(out, systemJournal(s.Name))
	}
	return out
}

// port tells whether a listener can be bound.
func (r Rehearsal) port(s pipeline.Source) wire.Tried {
	l := s.Listen
	t := wire.Tried{Kind: wire.TryPort, Level: wire.TryFine, Words: "can be bound"}
	transport := l.Transport
	if transport == "tls" {
		transport = "tcp"
	}
	t.Name = fmt.Sprintf("%s %s port %s", s.Name, transport, l.Port)
	own, err := listen.Try(l)
	switch {
	case own:
		t.Words = "a source of this agent listens there now"
	case err != nil:
		t.Level, t.Code, t.Todo = wire.TryTrouble, string(health.CannotListen), health.Todo(health.CannotListen)
		t.Words = err.Error()
	}
	return t
}

// systemJournal tells whether the journal's program can be run, and what it would read.
func systemJournal(source string) wire.Tried {
	t := program(source, "journalctl")
	if t.Level != wire.TryFine {
		return t
	}
	switch kept, denied := produce.SystemJournal(); {
	case denied != nil:
		t.Level, t.Code = wire.TryTrouble, string(health.CommandFailing)
		t.Todo, t.Words = health.Todo(health.CommandFailing), denied.Error()
	case !kept:
		t.Level, t.Words = wire.TryNote, "can be run, and the system keeps no journal here yet"
	}
	return t
}

// program tells whether a program is there and may be run.
func program(source, name string) wire.Tried {
	t := wire.Tried{Kind: wire.TryProgram, Name: source + " " + name, Level: wire.TryFine, Words: "can be run"}
	if _, err := exec.LookPath(name); err != nil {
		t.Level, t.Code, t.Todo = wire.TryTrouble, string(health.CommandFailing), health.Todo(health.CommandFailing)
		t.Words = "cannot be run: " + reason(errors.Unwrap(err))
	}
	return t
}

var errEnough = errors.New("enough")

func (r Rehearsal) pattern(ctx context.Context, s pipeline.Source, pattern string) wire.Tried {
	t := wire.Tried{Kind: wire.TryPath, Name: s.Name + " " + pattern, Level: wire.TryFine}
	base, rest := doublestar.SplitPattern(filepath.ToSlash(pattern))
	if _, err := os.ReadDir(base); err != nil {
		return troubled(t, err)
	}
	var denied error
	opened := 0
	err := doublestar.GlobWalk(os.DirFS(base), rest, func(p string, d fs.DirEntry) error {
		if ctx.Err() != nil || t.Files >= maxFiles {
			return errEnough
		}
		path := filepath.Join(base, p)
		if d.IsDir() || excepted(s, path) {
			return nil
		}
		info, err := os.Stat(path)
		if err != nil || !info.Mode().IsRegular() {
			return nil
		}
		t.Files++
		t.Bytes += info.Size()
		if info.ModTime().After(t.Newest) {
			t.Newest = info.ModTime()
		}
		if opened++; opened <= maxOpened {
			f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
			if err != nil {
				denied = err
				return nil
			}
			f.Close()
		}
		return nil
	}, doublestar.WithFailOnIOErrors())
	switch {
	case denied != nil:
		return troubled(t, denied)
	case err != nil && !errors.Is(err, errEnough):
		return troubled(t, err)
	case t.Files == 0:
		t.Level, t.Code = wire.TryNote, string(health.PathMatchesNothing)
		t.Words, t.Todo = "no file matches", health.Todo(health.PathMatchesNothing)
	default:
		t.Words = "files are there and can be read"
	}
	return t
}

// excepted tells whether the source leaves a path out.
func excepted(s pipeline.Source, path string) bool {
	return slices.ContainsFunc(s.Except, func(pattern string) bool {
		name := path
		if !strings.Contains(pattern, "/") {
			name = filepath.Base(path)
		}
		ok, _ := doublestar.Match(pattern, name)
		return ok
	})
}

// troubled says why a path cannot be read. A folder that is not there is worth a note: it may come.
func troubled(t wire.Tried, err error) wire.Tried {
	t.Level, t.Code = wire.TryTrouble, string(health.NotReadable)
	t.Words, t.Todo = "cannot be read: "+reason(err), health.Todo(health.NotReadable)
	if errors.Is(err, fs.ErrNotExist) {
		t.Level, t.Code = wire.TryNote, string(health.PathMatchesNothing)
		t.Words, t.Todo = "the folder is not there", health.Todo(health.PathMatchesNothing)
	}
	return t
}

// reason is an error without the path, so that hosts with the same trouble say the same.
func reason(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// destination tries to get to a destination, as far as that is possible without a record.
func (r Rehearsal) destination(ctx context.Context, d delivery.Spec) wire.Tried {
	t := wire.Tried{Kind: wire.TryDestination, Name: d.Name, Level: wire.TryFine}
	for _, ref := range d.Secrets() {
		if _, ok := r.Secret(ref); !ok {
			t.Level, t.Words = wire.TryNote, "its secrets are not on the host yet, so that nothing was tried"
			t.Todo = "roll out to one host first, and look there"
			return t
		}
	}
	got := deliver.Try(ctx, d, deliver.Deps{Secret: r.Secret}, r.SendTest)
	t.Words, t.Code = got.Words, string(got.Code)
	switch {
	case got.Code != "":
		t.Level, t.Todo = wire.TryTrouble, health.Todo(got.Code)
	case got.Unsure:
		t.Level, t.Todo = wire.TryNote, "try it with a test record"
	}
	return t
}

// disk holds the buffers against what is free where they are kept.
func (r Rehearsal) disk(c hostconfig.Config) wire.Tried {
	t := wire.Tried{Kind: wire.TryDisk, Level: wire.TryFine}
	var st syscall.Statfs_t
	if err := syscall.Statfs(r.State, &st); err != nil {
		t.Level, t.Words = wire.TryNote, "the agent's folder cannot be looked at: "+err.Error()
		return t
	}
	free, need := int64(st.Bavail)*st.Bsize, int64(0)
	for _, d := range c.Destinations {
		need += d.Buffer.Disk
	}
	if c.Footprint.Disk > 0 {
		need = min(need, c.Footprint.Disk)
	}
	t.Bytes = free
	t.Words = "the buffers fit onto the disk"
	if need > free {
		t.Level, t.Code = wire.TryTrouble, "buffer-over-disk"
		t.Words = fmt.Sprintf("the buffers may take %d MiB, more than is free", need>>20)
		t.Todo = "make the buffers smaller, or give the host more room"
	}
	return t
}

// clock holds the host's clock against the service's.
func (r Rehearsal) clock(now time.Time) wire.Tried {
	t := wire.Tried{Kind: wire.TryClock, Level: wire.TryFine, Words: "the clock agrees with the service's"}
	if r.Desk.IsZero() {
		return t
	}
	if off := now.Sub(r.Desk); off > clockBound || off < -clockBound {
		t.Level, t.Code = wire.TryTrouble, "clock-off"
		t.Words, t.Todo = "the clock is ahead of the service's", "let the host keep time by NTP"
		if off < 0 {
			t.Words = "the clock is behind the service's"
		}
	}
	return t
}
