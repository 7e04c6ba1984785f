// Package look answers what the desk asks of a host: the last lines of a file, and the logs that nobody collects. All
// of it is bounded, and only what is a log is ever opened: no file of the system's own, nothing hidden, nothing that
// is not text.
package look

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"synaxis/internal/core/guess"
	"synaxis/internal/core/hostconfig"
	"synaxis/internal/core/lines"
	"synaxis/internal/core/wire"
)

// Bounds of one look at folders.
const (
	maxDepth   = 5
	maxVisited = 20_000
	recent     = 24 * time.Hour // a log that nobody wrote to for longer is none that is being written
	watched    = time.Second    // how long sizes are watched
	guessFrom  = 16 << 10       // bytes of each log
	longest    = 8 << 10        // bytes of one line that is shown
)

// closed are the folders that the desk does not look into.
var closed = []string{"/proc", "/sys", "/dev", "/etc", "/boot", "/run/secrets", "/run/credentials"}

// Looker looks at one host.
type Looker struct {
	State   string                 // the agent's own folder, which is closed too
	Takes   func(path string) bool // whether a source reads a path already
	Folders func() []string        // where its sources read
	Now     func() time.Time
}

// Answer answers one question.
func (l Looker) Answer(ctx context.Context, kind string, ask wire.Ask) wire.Reply {
	r := wire.Reply{ID: ask.ID}
	var err error
	switch kind {
	case wire.AskLines:
		var last wire.Lines
		if last, err = l.Lines(ask.Path, ask.Lines); err == nil {
			r.Lines = &last
		}
	case wire.AskLogs:
		var logs wire.Logs
		if logs, err = l.Logs(ctx, ask.Folders); err == nil {
			r.Logs = &logs
		}
	default:
		err = fmt.Errorf("this agent does not know %q; install a newer one", kind)
	}
	if err != nil {
		r.Error = err.Error()
	}
	return r
}

// allowed tells why a path is not looked at, or nil.
func (l Looker) allowed(path string) error {
	if !filepath.IsAbs(path) || filepath.Clean(path) != path {
		return fmt.Errorf("%q is not a whole path, such as /var/log/gate/lane-1.log", path)
	}
	for _, c := range append([]string{l.State}, closed...) {
		if hostconfig.Inside(path, c) {
			return fmt.Errorf("%s is closed to the desk: nothing below %s is read", path, c)
		}
	}
	for part := range strings.SplitSeq(path, "/") {
		if strings.HasPrefix(part, ".") {
			return fmt.Errorf("%s is closed to the desk: hidden files and folders are not read", path)
		}
	}
	return nil
}

// open opens a log: a regular file, whose true path is allowed too.
func (l Looker) open(path string) (*os.File, fs.FileInfo, error) {
	if err := l.allowed(path); err != nil {
		return nil, nil, err
	}
	true, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil, nil, err
	}
	if err := l.allowed(true); err != nil {
		return nil, nil, err
	}
	f, err := os.OpenFile(true, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s is no file of lines", path)
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, info, nil
}

// Lines reads the last lines of a file, at most wire.MaxLines of them.
func (l Looker) Lines(path string, n int) (wire.Lines, error) {
	f, info, err := l.open(path)
	if err != nil {
		return wire.Lines{}, err
	}
	defer f.Close()
	if n <= 0 || n > wire.MaxLines {
		n = wire.MaxLines
	}
	out := wire.Lines{Path: path, Size: info.Size(), Modified: info.ModTime().UTC(), Lines: []string{}}
	data, encoding, err := tail(f, info.Size(), wire.MaxLineBytes)
	if err != nil {
		return out, err
	}
	if data == nil {
		return out, fmt.Errorf("%s is no text", path)
	}
	out.More, out.Encoding = info.Size() > wire.MaxLineBytes, encoding
	all := bytes.Split(bytes.TrimRight(data, "\r\n"), []byte{'\n'})
	if len(all) > n {
		all, out.More = all[len(all)-n:], true
	}
	for _, line := range all {
		line = bytes.TrimRight(line, "\r")
		if len(line) > longest {
			line = append(slices.Clone(line[:longest]), "…"...)
		}
		out.Lines = append(
			out.Lines,
			strings.ToValidUTF8(string(line), ""),
		) // but for a letter that was cut, it is valid
	}
	if len(bytes.TrimSpace(data)) == 0 {
		out.Lines = []string{}
	}
	return out, nil
}

// tail reads the last bytes of a file, at most most of them, as characters, from the beginning of a line on; nil for
// what is no text.
func tail(f *os.File, size, most int64) (text []byte, encoding string, err error) {
	mark := make([]byte, 2)
	n, err := f.ReadAt(mark, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, "", err
	}
	from := max(0, size-most) &^ 1 // so that no character of utf-16 is cut
	data, err := io.ReadAll(io.NewSectionReader(f, from, size-from))
	if err != nil {
		return nil, "", err
	}
	if encoding = lines.Detect(mark[:n]); encoding == "" {
		encoding = lines.Detect(data)
	}
	if !strings.HasPrefix(encoding, "utf-16") && bytes.IndexByte(data, 0) >= 0 {
		return nil, "", nil
	}
	data = lines.Text(data, encoding)
	if i := bytes.IndexByte(data, '\n'); from > 0 && i >= 0 { // the first line may be a part of one
		data = data[i+1:]
	}
	return append([]byte{}, data...), encoding, nil
}

// Logs finds the logs below some folders, below those of the sources, and those that programs have open, that no
// source takes.
func (l Looker) Logs(ctx context.Context, folders []string) (wire.Logs, error) {
	out := wire.Logs{Items: []wire.Log{}}
	for _, f := range append(append([]string{"/var/log"}, folders...), l.Folders()...) {
		f = filepath.Clean(f)
		inside := slices.ContainsFunc(out.Folders, func(g string) bool { return hostconfig.Inside(f, g) })
		if info, err := os.Stat(f); err == nil && info.IsDir() && f != "/" && !inside && l.allowed(f) == nil {
			out.Folders = append(out.Folders, f)
		}
	}
	programs := opened()
	outside := map[string]bool{} // of all folders, and where nothing stays
	found := map[string]fs.FileInfo{}
	consider := func(path string) {
		info, err := os.Lstat(path)
		if err == nil && info.Mode().IsRegular() && info.Size() > 0 && l.Now().Sub(info.ModTime()) < recent &&
			!packed(path) &&
			l.allowed(path) == nil &&
			!l.Takes(path) {
			found[path] = info
		}
	}
	visited := 0
	for _, folder := range out.Folders {
		err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if visited++; visited > maxVisited || ctx.Err() != nil {
				out.More = true
				return fs.SkipAll
			}
			switch {
			case err != nil:
				return nil // what cannot be read is not for this agent
			case d.IsDir() && (strings.Count(strings.TrimPrefix(path, folder), "/") >= maxDepth || path != folder &&
				l.allowed(path) != nil):
				return fs.SkipDir
			case d.Type().IsRegular():
				consider(path)
			}
			return nil
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return out, err
		}
	}
	// wherever they lie: what is only ever added to, or only written, is a log until its bytes say otherwise
	for path, p := range programs {
		if found[path] == nil && (p.adds || logLike(path)) {
			consider(path)
			outside[path] = passing(path)
		}
	}
	select { // long enough to see which grow
	case <-ctx.Done():
	case <-time.After(watched):
	}
	for path, was := range found {
		info, err := os.Lstat(path)
		if err != nil {
			continue
		}
		item := wire.Log{
			Path:     path,
			Size:     info.Size(),
			Modified: info.ModTime().UTC(),
			Rate:     max(0, float64(info.Size()-was.Size())/watched.Seconds()),
			Program:  programs[path].name,
		}
		if l.guess(&item) {
			out.Items = append(out.Items, item)
		}
	}
	slices.SortFunc(out.Items, func(a, b wire.Log) int {
		if x, y := outside[a.Path], outside[b.Path]; x != y { // last
			return map[bool]int{true: 1, false: -1}[x]
		}
		return cmp.Or(cmp.Compare(b.Rate, a.Rate), b.Modified.Compare(a.Modified), strings.Compare(a.Path, b.Path))
	})
	if len(out.Items) > wire.MaxLogs {
		out.Items, out.More = out.Items[:wire.MaxLogs], true
	}
	return out, nil
}

// logLike tells whether what a program has open is a log and not its database: it, or its folder, is called so.
func logLike(path string) bool {
	return !passing(path) &&
		(strings.Contains(strings.ToLower(path), "log") || slices.Contains([]string{".txt", ".out", ".err"},
			filepath.Ext(path)))
}

// passing tells whether a path lies where nothing stays.
func passing(path string) bool {
	for _, p := range []string{"/tmp/", "/var/tmp/", "/run/"} {
		if strings.HasPrefix(path, p) {
			return true
		}
	}
	return false
}

// packed tells whether a name is that of something compressed, or of a copy that was rotated away.
func packed(path string) bool {
	ext := filepath.Ext(path)
	if _, err := strconv.Atoi(strings.TrimPrefix(ext, ".")); err == nil && ext != "" {
		return true
	}
	return slices.Contains(
		[]string{".gz", ".xz", ".zst", ".bz2", ".zip", ".old", ".journal", ".pid", ".lock", ".db", ".sqlite", ".tmp"},
		ext,
	)
}

// guess looks at how a log is written; only what it is like leaves the host. It answers false for what is no text.
func (l Looker) guess(item *wire.Log) bool {
	f, info, err := l.open(item.Path)
	if err != nil {
		return false
	}
	defer f.Close()
	data, encoding, err := tail(f, info.Size(), guessFrom)
	if err != nil || data == nil {
		return false
	}
	if i := bytes.LastIndexByte(data, '\n'); i > 0 {
		data = data[:i+1]
	}
	if len(bytes.TrimSpace(data)) == 0 {
		return false
	}
	best := guess.Guess(data, guess.Options{Observed: info.ModTime()})[0]
	item.Kind, item.Share, item.NoZone = string(best.Spec.Kind), best.Share, best.NoZone
	item.Encoding = encoding
	return true
}

// program is one that has a file open for writing.
type program struct {
	name string
	adds bool // the file is open to append to, or to write alone, as logs are and databases are not
}

// opened are the files that programs have open for writing, as far as the agent may see.
func opened() map[string]program {
	out := map[string]program{}
	self := strconv.Itoa(os.Getpid())
	fds, _ := filepath.Glob("/proc/[0-9]*/fd/*") // the pattern is a good one
	for _, fd := range fds {
		path, err := os.Readlink(fd)
		if err != nil || !strings.HasPrefix(path, "/") || strings.HasSuffix(path, " (deleted)") ||
			strings.HasPrefix(path, "/dev/") ||
			strings.HasPrefix(path, "/proc/") {
			continue
		}
		process := filepath.Dir(filepath.Dir(fd))
		if filepath.Base(process) == self { // what the agent itself writes is no log of the host's
			continue
		}
		flags, err := os.ReadFile(filepath.Join(process, "fdinfo", filepath.Base(fd)))
		if err != nil {
			continue
		}
		writes, adds := forWriting(flags)
		if !writes {
			continue
		}
		name, _ := os.ReadFile(filepath.Join(process, "comm"))
		out[path] = program{strings.TrimSpace(string(name)), adds || out[path].adds}
	}
	return out
}

// forWriting reads the flags of an open file (proc(5), fdinfo): whether it is open for writing, and whether to append
// or to write alone.
func forWriting(info []byte) (writes, adds bool) {
	for line := range bytes.Lines(info) {
		if rest, ok := bytes.CutPrefix(line, []byte("flags:")); ok {
			flags, err := strconv.ParseInt(string(bytes.TrimSpace(rest)), 8, 64)
			if err != nil {
				return false, false
			}
			mode := flags & syscall.O_ACCMODE
			return mode != syscall.O_RDONLY, mode == syscall.O_WRONLY || flags&syscall.O_APPEND != 0
		}
	}
	return false, false
}
