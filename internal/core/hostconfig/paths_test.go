package hostconfig

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestInside(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		path, dir string
		want      bool
	}{
		{"/a/b", "/a", true}, {"/a", "/a", true}, {"/ab", "/a", false}, {"/a", "/a/b", false}, {"/a", "/", true}, {"/",
			"/", true}, {"/a", "", false}, {"", "", false},
	} {
		assert.Equal(t, c.want, Inside(c.path, c.dir), "%q in %q", c.path, c.dir)
	}
}
