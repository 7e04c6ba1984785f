package core_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestArrowsPointDown holds the shape of the code: core knows no interface, and service and agent do not know each
// other.
func TestArrowsPointDown(t *testing.T) {
	t.Parallel()
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".go") { // so that the result is not kept when one changes
			_, err = os.ReadFile(path)
		}
		return err
	}))
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "synaxis/...").Output()
	require.NoError(t, err)
	forbidden := map[string][]string{
		"synaxis/internal/core": {
			"synaxis/internal/service",
			"synaxis/internal/agent",
			"synaxis/internal/cli",
			"github.com/gin-gonic/gin",
			"database/sql",
			"net",
			"net/http",
			"os",
			"os/exec",
		},
		"synaxis/internal/service":  {"synaxis/internal/agent", "synaxis/internal/cli"},
		"synaxis/internal/agent":    {"synaxis/internal/service", "synaxis/internal/cli"},
		"synaxis/internal/cli":      {"synaxis/internal/service", "synaxis/internal/agent"},
		"synaxis/internal/contract": {"synaxis/internal/service", "synaxis/internal/agent", "synaxis/internal/cli"},
	}
	seen := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		for place, list := range forbidden {
			if words[0] != place && !strings.HasPrefix(words[0], place+"/") {
				continue
			}
			seen[place] = true
			for _, imported := range words[1:] {
				for _, f := range list {
					ours := strings.HasPrefix(f, "synaxis/")
					require.Falsef(
						t,
						imported == f || ours && strings.HasPrefix(imported, f+"/"),
						"%s must not import %s",
						words[0],
						imported,
					)
				}
			}
		}
	}
	require.Len(t, seen, len(forbidden), "a place was not looked at")
}
