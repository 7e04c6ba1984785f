package test

import (
	"context"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestJoinLine runs the line that join-token create prints, on a host made for it out of namespaces.
func TestJoinLine(t *testing.T) {
	t.Parallel()
	for _, tool := range []string{"unshare", "ip", "setpriv", "useradd", "sha256sum"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip("needs " + tool)
		}
	}
	if out, err := exec.Command("unshare", "--mount", "--pid", "--net", "--fork", "sh", "-c",
		"mount -t tmpfs t /mnt").CombinedOutput(); os.Getuid() != 0 ||
		err != nil {
		t.Skipf("needs root, and a system that lets it make namespaces: %s", out)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	text, err := exec.CommandContext(ctx, "unshare", "--mount", "--pid", "--net", "--fork", "--kill-child", "sh",
		"join/overlay.sh", bin).
		CombinedOutput()
	out := string(text)
	require.NoError(t, err, out)
	section := func(name string) string {
		_, rest, ok := strings.Cut(out, "== "+name+"\n")
		require.True(t, ok, out)
		rest, _, _ = strings.Cut(rest, "\n== ")
		return rest
	}
	for _, want := range []string{"join.sh: OK", "source bridge listens on port 514", "CPU 20%, memory 64M",
		"file destinations may write into: /srv/out", "useradd --system", "This would be done (--print), and " +
			"nothing was", "NOTHING DONE"} {
		assert.Contains(t, section("print"), want)
	}
	assert.Contains(t, section("tampered"), "REFUSED")
	assert.Contains(t, section("tampered"), "NOTHING DONE")
	assert.Contains(t, section("join"), "systemd does not run here")
	assert.Contains(t, section("join"), "setcap cap_net_bind_service=+ep")
	assert.Contains(t, section("join"), "drwx------ 2 synaxis-agent synaxis-agent")
	assert.Contains(t, section("join"), "-rw------- 1 synaxis-agent synaxis-agent")
	assert.Contains(t, section("join"), "role=relay")
	assert.Contains(t, section("join"), "TOKEN REMOVED")
	assert.Contains(t, section("uninstall"), "ALL REMOVED")
}
