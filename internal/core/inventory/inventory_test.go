package inventory

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMatch(t *testing.T) {
	t.Parallel()
	labels := map[string]string{"role": "gate", "site": "np"}
	for _, c := range []struct {
		s    Selector
		want bool
	}{
		{Selector{All: true}, true},
		{Selector{}, false},
		{Selector{Terms: []Term{{"role", []string{"gate"}}}}, true},
		{Selector{Terms: []Term{{"role", []string{"kiosk", "gate"}}, {"site", []string{"np"}}}}, true},
		{Selector{Terms: []Term{{"role", []string{"gate"}}, {"site", []string{"sm"}}}}, false},
		{Selector{Terms: []Term{{"lane", []string{"1"}}}}, false},
	} {
		assert.Equal(t, c.want, c.s.Match(&Host{Labels: labels}), c.s.String())
	}
}

func TestNames(t *testing.T) {
	t.Parallel()
	for _, ok := range []string{"a", "gate-1.np", "A_b"} {
		assert.Empty(t, CheckName(ok))
	}
	for _, bad := range []string{"", "a b", "<b>", "a/b", strings.Repeat("a", 254), "é"} {
		assert.NotEmpty(t, CheckName(bad), bad)
	}
	assert.Empty(t, CheckKey("log_root"))
	for _, bad := range []string{"", "A", "a=b", strings.Repeat("a", 64)} {
		assert.NotEmpty(t, CheckKey(bad), bad)
	}
}
