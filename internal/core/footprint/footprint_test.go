package footprint

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/schema"
	"synaxis/internal/core/yamldoc"
)

func TestFootprint(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Spec{
		"limits: {cpu: 20%, memory: 64MiB, disk: 512MiB}\nreport: {every: 30s}\n": {0.2, 64 << 20, 512 << 20,
			30 * time.Second, 0},
		"away: 12h\n":              {Away: 12 * time.Hour},
		"away: often\n":            {Every: -1},
		"limits: {cpu: 250%}\n":    {Every: -1},
		"report: {every: 500ms}\n": {Every: 500 * time.Millisecond},
		"{}\n":                     {},
		"limits: {cpu: 0%}\n":      {Every: -1}, // refused
		"limits: {cpu: '2'}\n":     {Every: -1},
		"limits: {memory: 64}\n":   {Every: -1},
		"report: {every: 30}\n":    {Every: -1},
		"limits: {ram: 1MiB}\n":    {Every: -1},
	} {
		docs, problems := yamldoc.Parse("a.yaml", []byte(text))
		require.Empty(t, problems)
		r := &yamldoc.Reader{}
		schema.Obj("agents", Keys...).Validate(r, docs[0].Root, "agents", schema.Where{})
		if want.Every < 0 {
			assert.NotEmpty(t, r.Problems, text)
			continue
		}
		require.Empty(t, r.Problems, text)
		assert.Equal(t, want, Decode(docs[0].Root), text)
	}
}
