package render

import (
	"slices"
	"strings"
)

// Line is one line of a difference. Op is ' ' for both sides, '-' for the old one only, '+' for the new one only.
type Line struct {
	Op   byte
	Text string
}

// maxDiff bounds the table of the comparison; beyond it the middle is told as removed and added.
const maxDiff = 4_000_000

// Diff compares two texts by lines (longest common subsequence) and keeps context lines around each change; what is
// left out between is one line with the text "…". Texts that are the same have no difference at all.
func Diff(old, new string, context int) []Line {
	a, b := splitLines(old), splitLines(new)
	if slices.Equal(a, b) {
		return nil
	}
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		tail++
	}
	var lines []Line
	add := func(op byte, texts []string) {
		for _, t := range texts {
			lines = append(lines, Line{op, t})
		}
	}
	add(' ', a[:head])
	lines = append(lines, middle(a[head:len(a)-tail], b[head:len(b)-tail])...)
	add(' ', a[len(a)-tail:])
	return fold(lines, context)
}

func splitLines(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(s, "\n"), "\n")
}

func middle(a, b []string) []Line {
	var out []Line
	if len(a)*len(b) > maxDiff {
		for _, t := range a {
			out = append(out, Line{'-', t})
		}
		for _, t := range b {
			out = append(out, Line{'+', t})
		}
		return out
	}
	width := len(b) + 1
	best := make([]int32, (len(a)+1)*width)
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				best[i*width+j] = best[(i+1)*width+j+1] + 1
			} else {
				best[i*width+j] = max(best[(i+1)*width+j], best[i*width+j+1])
			}
		}
	}
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			out = append(out, Line{' ', a[i]})
			i, j = i+1, j+1
		case i < len(a) && (j == len(b) || best[(i+1)*width+j] >= best[i*width+j+1]):
			out = append(out, Line{'-', a[i]})
			i++
		default:
			out = append(out, Line{'+', b[j]})
			j++
		}
	}
	return out
}

func fold(lines []Line, context int) []Line {
	keep := make([]bool, len(lines))
	for i, l := range lines {
		if l.Op == ' ' {
			continue
		}
		for k := max(0, i-context); k <= min(len(lines)-1, i+context); k++ {
			keep[k] = true
		}
	}
	var out []Line
	for i, l := range lines {
		if keep[i] {
			out = append(out, l)
		} else if len(out) == 0 || out[len(out)-1].Text != "…" {
			out = append(out, Line{' ', "…"})
		}
	}
	return out
}
