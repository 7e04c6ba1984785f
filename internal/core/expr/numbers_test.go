package expr

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNumbers(t *testing.T) {
	t.Parallel()
	names := []string{"failing", "degraded_share", "read_ratio"}
	for _, c := range []struct {
		text       string
		numbers    map[string]float64
		met, known bool
	}{
		{"failing > 0", map[string]float64{"failing": 1}, true, true},
		{"failing > 0", map[string]float64{"failing": 0}, false, true},
		{"failing > 0", nil, false, false},
		{"failing > 0 || read_ratio < 0.5", map[string]float64{"failing": 1}, true, true},
		{"failing > 0 || read_ratio < 0.5", map[string]float64{"failing": 0}, false, false},
		{"failing > 0 && read_ratio < 0.5", map[string]float64{"failing": 0}, false, true},
		{"failing > 0 || degraded_share > 0.05", map[string]float64{"failing": 0, "degraded_share": 0.05}, false,
			true},
		{"failing >= 1 && degraded_share * 2.0 > 1", map[string]float64{"failing": 1, "degraded_share": 0.6}, true,
			true},
		{"failing / failing > 0", map[string]float64{"failing": 0}, false, true},
	} {
		n, err := ParseNumbers(c.text, names)
		require.NoError(t, err, c.text)
		met, known := n.Met(c.numbers)
		assert.Equal(t, []bool{c.met, c.known}, []bool{met, known}, "%s %v", c.text, c.numbers)
	}
	for _, text := range []string{"failing", "faling > 0", "", "failing > 'x'", "labels.site == 'x'"} {
		_, err := ParseNumbers(text, names)
		assert.Error(t, err, text)
	}
	n, err := ParseNumbers("failing > 0 || read_ratio < 1", names)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"failing", "read_ratio"}, n.Uses())
}
