package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// found is a path that a pattern matches.
type found struct {
	path  string
	info  fs.FileInfo
	first bool // there when its pattern was first looked at
	probe bool
}

// expand looks the patterns up.
func (r *Reader) expand() (list []found, anyFirst bool, unreadable string) {
	seen, dirs := map[string]bool{}, map[string]string{}
	take := func(paths []string, first bool) {
		for _, p := range paths {
			if seen[p] || r.excepted(p) {
				continue
			}
			seen[p] = true
			r.Hints.Watch(filepath.Dir(p), r.hint, r.written)
			info, why := r.bounds.stat(p, dirs)
			if why != "" {
				unreadable = why
			}
			if info != nil {
				list = append(list, found{path: p, info: info, first: first})
			}
		}
	}
	for _, pattern := range r.Spec.Files {
		base, _ := doublestar.SplitPattern(filepath.ToSlash(pattern))
		r.bounds.resolve(pattern, base)
	}
	for _, pattern := range r.Spec.Files {
		first := r.Store.FirstLook(r.Spec.Name, pattern, r.Now())
		anyFirst = anyFirst || first
		base, _ := doublestar.SplitPattern(filepath.ToSlash(pattern))
		r.Hints.Watch(base, r.hint, r.written)
		if err := readable(base); err != nil {
			unreadable = fmt.Sprintf("the folder of %s cannot be read: %v", pattern, err)
		}
		paths, err := doublestar.FilepathGlob(pattern, doublestar.WithFilesOnly())
		if err != nil {
			unreadable = fmt.Sprintf("pattern %s: %v", pattern, err)
		}
		take(paths, first)
	}
	first := r.Named != nil && len(r.named()) > 0 && r.Store.FirstLook(r.Spec.Name, namedPattern, r.Now())
	anyFirst = anyFirst || first
	take(r.named(), first)
	for _, p := range r.probes() {
		if info, err := os.Lstat(p); err == nil && info.Mode().IsRegular() {
			list = append(list, found{path: p, info: info, probe: true})
		}
	}
	return list, anyFirst, unreadable
}

func (r *Reader) probes() []string {
	if r.Probes == nil {
		return nil
	}
	return r.Probes()
}

// empty tells whether nothing of the source's own is there: neither a file that its patterns take, nor one that is
// open.
func (r *Reader) empty(list []found) bool {
	for _, st := range r.streams {
		if !st.probe {
			return false
		}
	}
	return !slices.ContainsFunc(list, func(f found) bool { return !f.probe })
}

// Takes tells whether the source reads a path.
func (r *Reader) Takes(path string) bool { return r.wants(path) }

// wants tells whether the patterns take a path.
func (r *Reader) wants(path string) bool {
	for _, pattern := range r.Spec.Files {
		if ok, _ := doublestar.PathMatch(pattern, path); ok {
			return !r.excepted(path)
		}
	}
	return slices.Contains(r.named(), path) && !r.excepted(path) || slices.Contains(r.probes(), path)
}

// namedPattern stands for the files that a program names.
const namedPattern = "files-from"

// nothing says that there is no file.
func (r *Reader) nothing() string {
	if r.Named != nil {
		return fmt.Sprintf("%s names no file that is there", r.Spec.FilesFrom.Run[0])
	}
	return "no file matches " + strings.Join(r.Spec.Files, ", ")
}

func (r *Reader) named() []string {
	if r.Named == nil {
		return nil
	}
	paths, _ := r.Named()
	return paths
}

// excepted tells whether a pattern of except takes the path out. A pattern without a slash is for the base name.
func (r *Reader) excepted(path string) bool {
	for _, pattern := range r.Spec.Except {
		name := path
		if !strings.Contains(pattern, "/") {
			name = filepath.Base(path)
		}
		if ok, _ := doublestar.Match(pattern, name); ok {
			return true
		}
	}
	return false
}

// readable tells why a folder cannot be looked into; one that is not there is no reason.
func readable(dir string) error {
	f, err := os.Open(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = f.Close()
	}
	return err
}
