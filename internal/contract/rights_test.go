package contract

import (
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEveryOperationHasItsRight: the table has the operations of the contract and no others; who may only look changes
// nothing.
func TestEveryOperationHasItsRight(t *testing.T) {
	t.Parallel()
	doc, err := openapi3.NewLoader().LoadFromFile("../../api/openapi.yaml")
	require.NoError(t, err)
	left := map[string]bool{}
	for name := range rights {
		left[name] = true
	}
	for _, path := range doc.Paths.InMatchingOrder() {
		for method, op := range doc.Paths.Value(path).Operations() {
			name := strings.ToUpper(op.OperationID[:1]) + op.OperationID[1:]
			needs, ok := RightsFor(name)
			require.True(t, ok, "%s has no row", name)
			delete(left, name)
			if name == "CreateSession" {
				assert.Empty(t, needs)
				continue
			}
			assert.NotEmpty(t, needs, name)
			for _, right := range needs {
				switch right {
				case MayLook:
					assert.True(t, method == "GET", "%s %s needs more than to look", method, path)
				case MayChange, MaySetSecret:
					assert.True(t, method != "GET", "%s %s", method, path)
				}
			}
		}
	}
	assert.Empty(t, left, "rows of no operation")
	_, ok := RightsFor("NoSuch")
	assert.False(t, ok)
}
