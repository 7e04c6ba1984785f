package service

import (
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"syscall"
)

// ownFolder makes the data folder, or takes one that is there: it must be of our own account, and what others may read
// or write in it is closed to them, with a warning, since it holds the token and the key of the secrets.
func ownFolder(dir string, log *slog.Logger) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if s, ok := info.Sys().(*syscall.Stat_t); ok && int(s.Uid) != os.Geteuid() {
		return fmt.Errorf(
			"%s belongs to account %d, and the service runs as %d; give it a folder of its own account",
			dir,
			s.Uid,
			os.Geteuid(),
		)
	}
	open := 0
	err = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() && !d.Type().IsRegular() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o077 == 0 {
			return nil
		}
		if path != dir {
			open++
		}
		return os.Chmod(path, info.Mode().Perm()&0o700)
	})
	if err != nil {
		return err
	}
	if open > 0 {
		log.Warn(
			"files of the data folder were open to other accounts of this machine and are closed to them now; they "+
				"may have been read: replace the admin's token and the secrets if others use this machine",
			"folder",
			dir,
			"files",
			open,
		)
	}
	return nil
}
