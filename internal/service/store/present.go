package store

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"modernc.org/sqlite"
	sqlitecodes "modernc.org/sqlite/lib"
)

// files of a data folder, with what is lost without them.
var files = []string{"catalogue.db", "state.db", "admin.token", "secrets.key"}

// CheckPresent tells why a data folder must not be used as it is: where its catalogue is gone or empty and other files
// of a service are there, a start would begin a new service without hosts, and no agent would be known any more.
func CheckPresent(dir string) error {
	var there []string
	for _, name := range files[1:] {
		if info, err := os.Stat(filepath.Join(dir, name)); err == nil && info.Size() > 0 {
			there = append(there, name)
		} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("data folder: %w", err)
		}
	}
	path := filepath.Join(dir, files[0])
	info, err := os.Stat(path)
	if err == nil && info.Size() > 0 || len(there) == 0 {
		return nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("data folder: %w", err)
	}
	what := "is gone"
	if err == nil {
		what = "is empty"
	}
	return fmt.Errorf(
		"%s %s, and %s is there: the hosts, definitions and secrets of this service were in it; restore the folder "+
			"%s from a backup, all files together, or, to begin a new service, use an empty folder",
		path,
		what,
		strings.Join(there, ", "),
		dir,
	)
}

// explain says in words what an error of the database means for the person who reads it.
func explain(name string, err error) error {
	var e *sqlite.Error
	if err == nil || !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff {
	case sqlitecodes.SQLITE_BUSY, sqlitecodes.SQLITE_LOCKED:
		return fmt.Errorf(
			"another program holds %s locked, such as a shell of the database or a backup; end it and try again: %w",
			name,
			err,
		)
	case sqlitecodes.SQLITE_FULL:
		return fmt.Errorf("there is no room on the disk of %s: %w", name, err)
	case sqlitecodes.SQLITE_READONLY:
		return fmt.Errorf("%s cannot be written: %w", name, err)
	case sqlitecodes.SQLITE_CORRUPT, sqlitecodes.SQLITE_NOTADB:
		return fmt.Errorf("%s is damaged; restore the data folder from a backup: %w", name, err)
	case sqlitecodes.SQLITE_IOERR, sqlitecodes.SQLITE_CANTOPEN:
		return fmt.Errorf("%s cannot be read or written: %w", name, err)
	}
	return err
}
