package run

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCopiedStateIsNotUsed: on another machine than it was kept on, nothing of a state folder runs before the service
// has said who the host is; told that it is another, the agent throws all of it away.
func TestCopiedStateIsNotUsed(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	config := `{"config":"# none\nhash: 0000000000000000000000000000000000000000000000000000000000000000\nhost: a\n"}`
	for name, text := range map[string]string{lastGood: config, "positions.json": "{}",
		"identity.json": `{"uid":"00000000000000000000000000000001","credential":"c1.x","hostId":"one"}`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	open := func(id string) *Agent {
		a, err := New(Options{Service: "http://127.0.0.1:9", StateDir: dir, Name: "a", HostID: id})
		require.NoError(t, err)
		t.Cleanup(func() { a.engine.Stop(); a.lock.Close() })
		return a
	}
	a := open("two")
	assert.Nil(t, a.ConfigStatus(), "nothing of the copied config was even tried")
	assert.FileExists(
		t,
		a.lastGoodPath(),
		"it may be the same host with another machine id: that is for the service to say",
	)
	require.NoError(t, a.Forget())
	assert.NoFileExists(t, a.lastGoodPath())
	assert.NoFileExists(t, filepath.Join(dir, "positions.json"))
	a.lock.Close()
	require.NoError(t, os.WriteFile(filepath.Join(dir, lastGood), []byte(config), 0o600))
	assert.NotNil(t, open("one").ConfigStatus(), "on the machine that it was kept on it is used")
}
