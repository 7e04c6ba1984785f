package journal

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestUnits: an entry is of the units that the journal's program would find it by.
func TestUnits(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		units  Units
		fields []string
		want   bool
	}{
		{nil, nil, true},
		{Units{"ssh"}, []string{"_SYSTEMD_UNIT", "ssh.service"}, true},
		{Units{"ssh.service"}, []string{"_SYSTEMD_UNIT", "ssh.service"}, true},
		{Units{"ssh"}, []string{"_SYSTEMD_UNIT", "ssh.socket"}, false},
		{Units{"ssh"}, []string{"_SYSTEMD_UNIT", "sshd.service"}, false},
		{Units{"ssh*"}, []string{"_SYSTEMD_UNIT", "sshd.service"}, true},
		{Units{"gate-?.service"}, []string{"_SYSTEMD_UNIT", "gate-4.service"}, true},
		{Units{"gate-?.service"}, []string{"_SYSTEMD_UNIT", "gate-14.service"}, false},
		{Units{"gate-[0-4].service"}, []string{"_SYSTEMD_UNIT", "gate-4.service"}, true},
		{Units{"gate-[!0-4].service"}, []string{"_SYSTEMD_UNIT", "gate-4.service"}, false},
		{Units{"gate-[!0-4].service"}, []string{"_SYSTEMD_UNIT", "gate-7.service"}, true},
		{Units{`dev-quay\x2d*`}, []string{"_SYSTEMD_UNIT", `dev-quay\x2d4.device`}, true},
		{Units{"[gate"}, []string{"_SYSTEMD_UNIT", "gate.service"}, false},
		{Units{"cron", "gate*"}, []string{"_SYSTEMD_UNIT", "cron.service"}, true},
		{Units{"gate*"}, []string{"UNIT", "gate.service", "_PID", "1"}, true},
		{Units{"gate*"}, []string{"UNIT", "gate.service", "_PID", "77", "_UID", "0"}, false},
		{Units{"gate*"}, []string{"OBJECT_SYSTEMD_UNIT", "gate.service", "_UID", "0"}, true},
		{Units{"gate*"}, []string{"OBJECT_SYSTEMD_UNIT", "gate.service", "_UID", "1000"}, false},
		{Units{"gate*"}, []string{"COREDUMP_UNIT", "gate.service", "_UID", "0"}, true},
		{Units{"gate*"}, []string{"_SYSTEMD_UNIT", "cron.service", "_UID", "0", "MESSAGE", "gate.service"}, false},
		{Units{"gate*"}, []string{"MESSAGE", "of the kernel"}, false},
	} {
		e, _, ok, err := Next([]byte(export(c.fields...) + "\n"))
		require.NoError(t, err)
		require.Equal(t, c.fields != nil, ok)
		assert.Equal(t, c.want, c.units.Have(&e), "%v of %v", c.units, c.fields)
	}
	var many []string
	for range 100 {
		many = append(many, "UNIT", "cron.service")
	}
	e, _, _, err := Next([]byte(export(append(many, "_SYSTEMD_UNIT", "gate.service")...) + "\n"))
	require.NoError(t, err)
	assert.True(t, Units{"gate*"}.Have(&e), "a program hides nothing by what it says of units")
	assert.True(t, Units{"ssh", "cron.service"}.Plain())
	assert.False(t, Units{"ssh", "cron*"}.Plain())
	assert.True(t, Units(nil).Plain())
}
