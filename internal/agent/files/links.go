package files

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/core/hostconfig"
)

// Who may write into a folder of logs may put a link there, and the agent would read with its own rights what they
// cannot. So a link is followed only where what it leads to is in a folder that the patterns of the source name, or
// where the source says so; and never into the agent's own folder.

// bounds are the folders that a source reads in.
type bounds struct {
	own    string            // the agent's own folder, without links
	follow bool              // links lead anywhere else
	bases  map[string]string // of patterns, without links, as they were when they were first there
}

// resolve notes where the folder of a pattern is. It is done once, so that a link that takes the folder's place later
// is none of it.
func (b *bounds) resolve(pattern, base string) {
	if _, ok := b.bases[pattern]; ok {
		return
	}
	if !doublestarMeta(pattern) { // it names a file, and its folder is the one that it stands in
		base = filepath.Dir(pattern)
	}
	if real, err := filepath.EvalSymlinks(base); err == nil {
		b.bases[pattern] = real
	}
}

func doublestarMeta(pattern string) bool {
	_, rest := doublestar.SplitPattern(pattern)
	return strings.ContainsAny(rest, "*?[{")
}

// stat looks at a path that a pattern took. why tells why it is not read; info is nil when it is no file. dirs are
// folders that were resolved in this look.
func (b *bounds) stat(path string, dirs map[string]string) (info fs.FileInfo, why string) {
	dir, ok := dirs[filepath.Dir(path)]
	if !ok {
		var err error
		if dir, err = filepath.EvalSymlinks(filepath.Dir(path)); err != nil {
			return nil, ""
		}
		dirs[filepath.Dir(path)] = dir
	}
	real := filepath.Join(dir, filepath.Base(path))
	info, err := os.Lstat(path)
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		if real, err = filepath.EvalSymlinks(path); err == nil {
			info, err = os.Stat(real)
		}
	}
	if err != nil || !info.Mode().IsRegular() {
		return nil, ""
	}
	if hostconfig.Inside(real, b.own) {
		return nil, fmt.Sprintf("%s is not read: it is in the agent's own folder", path)
	}
	if b.follow || real == path {
		return info, ""
	}
	for _, base := range b.bases {
		if hostconfig.Inside(real, base) {
			return info, ""
		}
	}
	return nil, fmt.Sprintf(
		"%s is not read: it is a link to %s, outside of the folders that the source names; name that folder, or say "+
			"read: {links: follow}",
		path,
		real,
	)
}
