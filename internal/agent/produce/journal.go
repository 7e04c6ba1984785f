package produce

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"synaxis/internal/core/journal"
	"synaxis/internal/core/pipeline"
)

// journalctl is the program that follows the journal, from where it was read to. One that begins with what comes now
// begins behind the latest entry there is, or where there is none at this time: nothing is passed over when it must be
// started again before an entry has come.
func (in *Input) journalctl(ctx context.Context) ([]string, error) {
	if _, denied := SystemJournal(); denied != nil {
		return nil, denied
	}
	place := in.sent
	if place == "" && in.Spec.FirstRead != "start" {
		place = sinceMark + strconv.FormatInt(in.Now().Unix(), 10)
		if last := latest(ctx); last != "" {
			place = last
		}
		in.ready()
		in.send(ctx, pipeline.Counts{}, place)
	}
	run := []string{"journalctl", "--output=export", "--follow", "--no-pager", "--quiet", "--no-tail"}
	switch {
	case strings.HasPrefix(place, sinceMark):
		run = append(run, "--since="+place)
	case place != "":
		run = append(run, "--after-cursor="+place)
	}
	if units := journal.Units(in.Spec.Journal.Units); units.Plain() {
		for _, u := range units {
			run = append(run, "--unit="+u)
		}
	}
	return run, nil
}

// sinceMark begins a place that is a time, in seconds, and no entry's.
const sinceMark = "@"

// latest is the place of the latest entry of the journal, or "".
func latest(ctx context.Context) string {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "journalctl", "--output=export", "--no-pager", "--quiet", "--lines=1")
	cmd.WaitDelay = endWithin
	out, err := cmd.Output()
	if err != nil {
		return ""
	}
	e, _, _, _ := journal.Next(out)
	return e.Cursor
}

// journalFolders are where the system keeps its journal: over restarts, and until the next one.
var journalFolders = []string{"/var/log/journal", "/run/log/journal"}

// SystemJournal tells whether the system keeps a journal, and why it cannot be read, where that is so: its program
// would show what the agent's own user has written, and say nothing of all the rest.
func SystemJournal() (kept bool, denied error) { return journalIn(journalFolders) }

func journalIn(folders []string) (kept bool, denied error) {
	for _, folder := range folders {
		files, _ := filepath.Glob(filepath.Join(folder, "*", "system*.journal"))
		for _, path := range files {
			f, err := os.Open(path)
			if err == nil {
				f.Close()
				return true, nil
			}
			if kept = true; os.IsPermission(err) {
				denied = fmt.Errorf("the agent's user may not read the system's journal (%s); add it to the group "+
					"systemd-journal, and start the agent anew", path)
			}
		}
	}
	return kept, denied
}
