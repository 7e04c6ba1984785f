package test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/contract"
	"synaxis/internal/core/health"
)

// TestKnowingPage: the commands of docs/knowing.md run as they stand, and it tells every reason.
func TestKnowingPage(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../docs/knowing.md")
	require.NoError(t, err)
	for _, code := range health.Codes() {
		assert.Contains(t, string(page), "`"+string(code)+"`")
	}
	f := newFleet(t, "gate-a", "gate-b", "gate-c")
	f.publish(f.catalogue("{n:int} boarded") +
		"---\nnotice: anything-wrong\nwhen: state != \"\"\nto: [{syslog: {address: \"127.0.0.1:9\"}}]\n")
	require.Equal(t, contract.RolloutStateDone, f.rollOut().State)
	eventually(t, time.Minute, "records", func() bool {
		h := f.host("gate-c")
		return len(h.Sources) == 1 && h.Sources[0].Numbers.Acknowledged > 20 && h.Verdict.State == contract.Healthy
	})
	ran := f.follow(string(page), nil, func(command, out string) {
		switch {
		case strings.Contains(command, "--as csv"):
			assert.Regexp(t, `(?m)^\S+Z,,read,\d+$`, out)
		case strings.Contains(command, "openmetrics"):
			assert.Regexp(t, `(?s)synaxis_step\{number="read".*# EOF\n$`, out)
		case strings.Contains(command, "suggest"):
			assert.Contains(t, out, "no suggestion yet: too little was counted")
		case strings.Contains(command, "synaxis cost"):
			assert.Regexp(t, `(?m)^gates +\S+ \S+ +out +\S+ \S+`, out, command)
		case strings.Contains(command, "synaxis flow"):
			assert.Contains(t, out, "→ ● out", command)
		case strings.Contains(command, "synaxis peek"):
			assert.Contains(t, out, "shown of", command)
			assert.Contains(t, out, "→ out", command)
		case strings.Contains(command, "synaxis probe"):
			assert.Regexp(t, "acknowledged by out|● arrived .* out ", out)
		case strings.Contains(command, "explain"):
			assert.Contains(t, out, "unparsed goes as it went")
		case strings.Contains(command, "numbers"):
			assert.Contains(t, out, "█", command)
		}
	})
	assert.Equal(t, 27, ran)
}
