package test

import (
	"os"
	"os/exec"
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
	ran := 0
	for _, block := range strings.Split(string(page), "```sh\n")[1:] {
		block, _, _ = strings.Cut(block, "```")
		for line := range strings.Lines(block) {
			command, _, _ := strings.Cut(line, " #")
			cmd := exec.Command("sh", "-c", command)
			cmd.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "SYNAXIS_URL="+f.url,
				"SYNAXIS_TOKEN="+f.token)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s\n%s", command, out)
			switch {
			case strings.Contains(command, "--as csv"):
				assert.Regexp(t, `(?m)^\S+Z,,read,\d+$`, string(out))
			case strings.Contains(command, "openmetrics"):
				assert.Regexp(t, `(?s)synaxis_step\{number="read".*# EOF\n$`, string(out))
			case strings.Contains(command, "suggest"):
				assert.Contains(t, string(out), "no suggestion yet: too little was counted")
			case strings.Contains(command, "explain"):
				assert.Contains(t, string(out), "unparsed goes as it went")
			case strings.Contains(command, "numbers"):
				assert.Contains(t, string(out), "█", command)
			}
			ran++
		}
	}
	assert.Equal(t, 19, ran)
}
