package workbench

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"synaxis/internal/core/catalogue"
)

// TestCovered: what nothing masks comes first, what says that it needs no mask next, and what is masked last; a label
// does not take a mask away.
func TestCovered(t *testing.T) {
	t.Parallel()
	const text = `source: tides
hosts: all
labels: {data: none}
read: {files: [/a]}
format: raw
send: [out]
---
source: masked
hosts: all
labels: {data: none}
read: {files: [/b]}
format: raw
steps: [{mask: [phone]}]
send: [out]
---
source: open
hosts: all
read: {files: [/c]}
format: raw
send: [out]
`
	defs, problems := catalogue.Parse("a.yaml", []byte(text))
	require.Empty(t, problems)
	cat, dup := catalogue.New(defs)
	require.Empty(t, dup)
	list, _ := Covered(cat)
	require.Len(t, list, 3)
	for i, want := range []Coverage{{Source: "open"}, {Source: "tides", None: true}, {Source: "masked",
		Covered: true}} {
		assert.Equal(t, want.Source, list[i].Source)
		assert.Equal(t, want.None, list[i].None, want.Source)
		assert.Equal(t, want.Covered, list[i].Covered, want.Source)
	}
}
