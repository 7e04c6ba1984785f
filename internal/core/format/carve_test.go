package format

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCarve(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ template, line, part, want string }{
		"a time in front": {"", "2031-04-02 06:15:09 lane 4 denied", "2031-04-02 06:15:09",
			"{part:time} {message:remainder}"},
		"a number in a text": {"{ts:time} {message:remainder}", "2031-04-02 06:15:09 ticket denied at lane " +
			"4 today", "4", "{ts:time} {message}lane {part:int} {message-2:remainder}"},
		"behind an equals": {"{message:remainder}", "ok lane=4 doc=PA12", "4", "{message}lane={part:int} " +
			"{message-2:remainder}"},
		"at the end": {"{ts:time} {message:remainder}", "2031-04-02 06:15:09 took 48ms", "48",
			"{ts:time} took {part:int}{message-2:remainder}"},
		"a field gets another name": {"{ts:time} lane={a:int} x", "2031-04-02 06:15:09 lane=4 x", "4",
			"{ts:time} lane={part:int} x"},
		"a literal becomes a field": {"{ts:time} OK lane={a:int}", "2031-04-02 06:15:09 OK lane=4", "OK",
			"{ts:time} {part:token} lane={a:int}"},
		"two fields become one": {"{ts:time} {a:token} {b:token} x", "2031-04-02 06:15:09 low tide x",
			"low tide", "{ts:time} {part} x"},
		"an address": {"{message:remainder}", "from 198.51.100.7 in", "198.51.100.7",
			"from {part:ip} {message-2:remainder}"},
		"braces stay braces": {"{message:remainder}", "{lane} 4", "4", "{{lane}} {part:int}"},
		"a quoted text": {"{message:remainder}", `said "low tide" twice`, `"low tide"`,
			`said {part:quoted} {message-2:remainder}`},
		"the whole line": {"{message:remainder}", "tide", "tide", "{part:token}"},
		"a part of a word in between": {"{message:remainder}", "id=gate-7x", "7",
			"id=gate-{part:int}{message-2:remainder}"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			at := strings.LastIndex(c.line, c.part)
			got, _, err := Carve(c.template, c.line, at, at+len(c.part), "part", "")
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
	_, _, err := Carve("{a:int}", "no number", 0, 2, "part", "")
	require.ErrorContains(t, err, "does not read this line")
	_, _, err = Carve("", "tide", 2, 2, "part", "")
	require.ErrorContains(t, err, "nothing is selected")
	_, _, err = Carve("", "tide", 0, 4, "a part", "")
	require.ErrorContains(t, err, "may hold letters")
}

// FuzzCarve: what is carved reads its line and gives the part, or says that it cannot.
func FuzzCarve(f *testing.F) {
	f.Add("{ts:time} {message:remainder}", "2031-04-02 06:15:09 lane 4", 25, 26)
	f.Add("", "a=1 b={2}", 2, 3)
	f.Fuzz(func(t *testing.T, template, line string, start, end int) {
		got, typ, err := Carve(template, line, start, end, "part", "")
		if err == nil {
			require.NoError(t, gives(got, line, "part", line[start:end], typ))
		}
	})
}
