// Package house holds what the whole code keeps to.
package house

import (
	"bytes"
	"fmt"
	"go/scanner"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// columns is how wide a line of Go may be, with tabs of four.
const columns = 119

// TestLines: lines of Go stay within the bound, but for texts that cannot be broken: what crosses it is a text.
func TestLines(t *testing.T) {
	t.Parallel()
	files := 0
	for path, text := range sources(t) {
		files++
		for _, n := range tooWide(text) {
			t.Errorf("%s:%d: the line has more than %d columns", path, n, columns)
		}
	}
	assert.Greater(t, files, 200)
}

// TestTooWide: what is found, and what is let through.
func TestTooWide(t *testing.T) {
	t.Parallel()
	long := strings.Repeat("x", 130)
	text := fmt.Sprintf("package x\n\nvar a = \"%s\"\n\nvar %s = 1\n\n// %s\nvar b = `\n%s\n`\n",
		long, long, long, long)
	assert.Equal(t, []int{5, 7}, tooWide([]byte(text)))
}

func sources(t *testing.T) map[string][]byte {
	out := map[string][]byte{}
	require.NoError(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		switch name := filepath.Base(path); {
		case err != nil:
			return err
		case d.IsDir() && (name == "node_modules" || name == ".git" || name == "bin"):
			return filepath.SkipDir
		case strings.HasSuffix(name, ".go") && !strings.HasSuffix(name, ".gen.go"):
			out[path], err = os.ReadFile(path)
			return err
		}
		return nil
	}))
	return out
}

// behind is the longest that may stand behind a text at the end of a line.
const behind = `"},`

// tooWide are the numbers of the lines that are too wide.
func tooWide(text []byte) (out []int) {
	wide := map[int]bool{}
	for i, line := range bytes.Split(text, []byte("\n")) {
		if width(line) > columns {
			wide[i+1] = true
		}
	}
	if len(wide) == 0 {
		return nil
	}
	files := token.NewFileSet()
	file := files.AddFile("", files.Base(), len(text))
	var s scanner.Scanner
	s.Init(file, text, nil, scanner.ScanComments)
	for {
		pos, kind, literal := s.Scan()
		if kind == token.EOF {
			break
		}
		if kind != token.STRING {
			continue
		}
		first := file.Line(pos)
		lines := strings.Split(literal, "\n")
		for i, line := range lines {
			before := 0
			if i == 0 {
				from := file.Offset(file.LineStart(first))
				before = width(text[from:file.Offset(pos)])
			}
			if end := before + width([]byte(line)); before <= columns && end > columns-len(behind) {
				delete(wide, first+i)
			}
		}
	}
	for n := range wide {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

func width(line []byte) int { return utf8.RuneCount(line) + 3*bytes.Count(line, []byte("\t")) }
