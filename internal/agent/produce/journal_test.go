package produce

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestSystemJournal: a journal that is there and may not be read is told; one that is not there, or one of which a
// file may be read, is not.
func TestSystemJournal(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "journal")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	for _, x := range []struct {
		folder, file string
		mode         os.FileMode
	}{
		{"closed/m", "system.journal", 0o600}, {"closed/m", "user-1000.journal", 0o644},
		{"rotated/m", "system.journal", 0o600}, {"rotated/m", "system@5-1.journal", 0o644},
	} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, x.folder), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, x.folder, x.file), nil, x.mode))
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // and never unlocked: the thread ends with what it may do
		if os.Getuid() == 0 {
			_, _ = unix.SetfsuidRetUid(65534)
		} else {
			assert.NoError(t, os.Chmod(filepath.Join(dir, "closed/m/system.journal"), 0))
		}
		for _, c := range []struct {
			folders []string
			kept    bool
			words   string
		}{
			{[]string{"closed"}, true, "group systemd-journal"},
			{[]string{"closed", "rotated"}, true, ""},
			{[]string{"none"}, false, ""},
			{[]string{"none", "closed"}, true, "group systemd-journal"},
		} {
			var folders []string
			for _, f := range c.folders {
				folders = append(folders, filepath.Join(dir, f))
			}
			kept, denied := journalIn(folders)
			assert.Equal(t, c.kept, kept, c.folders)
			if c.words == "" {
				assert.NoError(t, denied, c.folders)
			} else {
				assert.ErrorContains(t, denied, c.words)
			}
		}
	}()
	<-done
}
