package run

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/bmatcuk/doublestar/v4"

	"synaxis/internal/core/hostconfig"
)

// allowed tells why a config is not run that reads or writes where the agent must not.
func (e *Engine) allowed(c hostconfig.Config) error {
	for _, s := range c.Sources {
		for _, pattern := range s.Files {
			base, _ := doublestar.SplitPattern(filepath.ToSlash(pattern))
			if hostconfig.Inside(trueFolder(base), e.own) {
				return fmt.Errorf("source %s would read %s, which is the agent's own folder", s.Name, pattern)
			}
		}
	}
	for _, d := range c.Destinations {
		if d.Kind != "file" {
			continue
		}
		dir := trueFolder(filepath.Dir(d.Path))
		if hostconfig.Inside(dir, e.own) {
			return fmt.Errorf("destination %s would write %s into the agent's own folder", d.Name, d.Path)
		}
		const readOnly = 1 // ST_RDONLY of statfs(2): also of a mount of its own, such as a unit makes
		var fs syscall.Statfs_t
		if err := syscall.Statfs(existing(dir), &fs); err == nil && fs.Flags&readOnly != 0 {
			return fmt.Errorf(
				"destination %s writes into %s, and the unit of this agent does not let it: paste the join line on "+
					"this host again, or add ReadWritePaths=%s with systemctl edit synaxis-agent",
				d.Name,
				dir,
				dir,
			)
		}
	}
	return nil
}

// trueFolder is a folder without links, as far as it exists.
func trueFolder(dir string) string {
	dir = filepath.Clean(dir)
	have := existing(dir)
	if real, err := filepath.EvalSymlinks(have); err == nil {
		return filepath.Join(real, strings.TrimPrefix(dir, have))
	}
	return dir
}

// existing is the nearest folder above that is there, or the folder itself.
func existing(dir string) string {
	for {
		if _, err := os.Stat(dir); err == nil || dir == filepath.Dir(dir) {
			return dir
		}
		dir = filepath.Dir(dir)
	}
}
