package guess

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func linesOf(text string) [][]byte { return bytes.Split([]byte(text), []byte{'\n'}) }

// TestNext: what stands at the front of a line, with its kind and the marks around it.
func TestNext(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]struct{ sep, kind, text, open, tail, key, rest string }{
		"2031-04-02 06:15:09.5 x":         {"", "time", "2031-04-02 06:15:09.5", "", "", "", " x"},
		" | WARN  | x":                    {" | ", "level", "WARN", "", "", "", "  | x"},
		"[main] x":                        {"", "bracket", "main", "[", "", "", " x"},
		"[412] x":                         {"", "int", "412", "[", "", "", " x"},
		"[ INFO ]: x":                     {"", "level", " INFO ", "[", ":", "", " x"},
		"[2031-04-02 06:15:09: INFO/a] x": {"", "time", "2031-04-02 06:15:09", "[", ":", "", " INFO/a] x"},
		`"GET / HTTP/1.1", x`:             {"", "quoted", "GET / HTTP/1.1", "", ",", "", " x"},
		`lane="4 b" x`:                    {"", "pair", `"4 b"`, "", "", "lane", " x"},
		"lane=4":                          {"", "pair", "4", "", "", "lane", ""},
		"INFO:root:x":                     {"", "level", "INFO", "", ":", "", "root:x"},
		"root:it is":                      {"", "word", "root", "", ":", "", "it is"},
		"NOTICE[412]: x":                  {"", "level", "NOTICE", "", "[", "", "412]: x"},
		"412]: x":                         {"", "int", "412", "", "]", "", ": x"},
		"Fatal error:  x":                 {"", "level", "Fatal error", "", ":", "", "  x"},
		"%BERTH-3-DOWN: x":                {"", "mnemonic", "%BERTH-3-DOWN", "", ":", "", " x"},
		" *Apr  2 06:15:09: x":            {" *", "time", "Apr  2 06:15:09", "", ":", "", " x"},
		" e.w.Desk        : it is":        {" ", "word", "e.w.Desk", "", " :", "", " it is"},
		"192.0.2.7 x":                     {"", "ip", "192.0.2.7", "", "", "", " x"},
		"1932873309 x":                    {"", "epoch", "1932873309", "", "", "", " x"},
		"-4 x":                            {"", "int", "-4", "", "", "", " x"},
		"4.5 x":                           {"", "float", "4.5", "", "", "", " x"},
		"007 x":                           {"", "word", "007", "", "", "", " x"},
		"(unended x":                      {"", "word", "(unended", "", "", "", " x"},
		`"unended x`:                      {"", "word", `"unended`, "", "", "", " x"},
	} {
		got, rest, ok := next(line, false)
		require.True(t, ok, line)
		assert.Equal(
			t,
			want,
			struct{ sep, kind, text, open, tail, key, rest string }{
				got.sep,
				got.kind,
				got.text,
				got.open,
				got.tail,
				got.key,
				rest,
			},
			line,
		)
	}
	for _, line := range []string{"", "   ", " \t"} {
		_, _, ok := next(line, false)
		assert.False(t, ok)
	}
}

// TestBeginning: how records of several lines begin, and that lines of one are left alone.
func TestBeginning(t *testing.T) {
	t.Parallel()
	const head = "2031-04-02 06:15:09 ERROR it broke\n"
	for text, want := range map[string]string{
		strings.Repeat(head, 5):                                                    "",
		strings.Repeat(head+"\tat a.B(c:1)\n\tat a.C(d:2)\n", 3):                   `^\d\d\d\d-\d\d-\d\d`,
		head + "  more of it\n" + head + head + "  and more\n":                     `^\d\d\d\d-\d\d-\d\d`,
		strings.Repeat("Apr  2 06:15:09 h a: x\n  more\n", 3):                      `^[A-Za-z]+ +\d\d? +\d\d?:`,
		"one\n  more\ntwo\n  more\nthree\n":                                        `^\S`,
		"INFO:a:b\nERROR:a:c\nTraceback (most recent call last):\n  x\nINFO:a:d\n": `^[A-Z]+:`,
		"[ERROR] a\n\tat x\n[INFO] b\n\tat y\n[WARN] c\n":                          `^\[[A-Z]+\]`,
		"Start: 1\nEnd: 2\n\nStart: 3\nEnd: 4\n\nStart: 5\nEnd: 6\n":               `^Start: `,
		strings.Repeat(head+"{\"a\":1}\n{\"b\":2}\n", 3):                           "",
		"<e:v a=\"b\" time=\"2031-04-02T06:15:09Z\">\n<x/>\n</e:v>\n<e:v a=\"long one\" time=\"2031-04-02T06:15:10Z\">\n</e:v>\n<e:v time=\"2031-04-02T06:15:11Z\">\n</e:v>\n": `^<e:v `,
		"just words\nand more\nand more\n": "",
		"":                                 "",
	} {
		assert.Equal(t, want, beginning(linesOf(text)), text)
	}
}

// TestTables: columns, their names and their types; what only looks like them is none.
func TestTables(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"when,lane,note\n2031-04-02T06:15:09Z,4,x y\n2031-04-02T06:15:10Z,5,z w\n":       `, when,lane,note lane:int at when`,
		"2031-04-02T06:15:09Z;4;192.0.2.7;x y z\n2031-04-02T06:15:10Z;5;192.0.2.8;w v u": `; time,column2,column3,message column2:int,column3:ip at time`,
		"02.04.2031\t06:15:09\tINFO\t1.5\n03.04.2031\t06:15:10\tWARN\t2.5":               "\t date,time,level,column4 column4:float at time",
		"#Fields: date time a b\n2031-04-02 06:15:09 1 x\n2031-04-02 06:15:10 2 y":       `  date,time,a,b a:int at time`,
		"a,b,c\nd,e\nf,g,h,i":        "",
		"it is, as told, so\nit, is": "",
		"one,two\nthree,four":        "",
	} {
		got := ""
		for _, s := range tables(linesOf(text)) {
			sep := s.Separator
			if sep == "" {
				sep = ","
			}
			types := []string{}
			for _, c := range s.Columns {
				if s.Fields[c] != "" {
					types = append(types, c+":"+s.Fields[c])
				}
			}
			got = sep + " " + strings.Join(s.Columns, ",") + " " + strings.Join(types, ",") + " at " + s.Time.Field
		}
		assert.Equal(t, want, got, text)
	}
	rows := numbers(linesOf("1 2 - 192.0.2.7 4 5 1932873309 x\n2 3 - - 4 5 1932873310 y"))
	require.Len(t, rows, 1)
	assert.Equal(t, []string{"time", "time"}, []string{rows[0].Time.Field, rows[0].Columns[6]})
	assert.Empty(
		t,
		numbers(linesOf("this is a line of many words and no number\nthis is a line of many words and 1 number")),
	)
	assert.Empty(t, numbers(linesOf("1 2 3 4 5 6 7 8\n1 2 3 4 5 6 7")))
	bars := barred(
		linesOf("INFO | a b | 2031-04-02 06:15:09 | 4 | x | y\nERROR | c | 2031-04-02 06:15:10 | 5 | z"),
		"",
	)
	require.NotEmpty(t, bars)
	assert.Equal(t, "{level:token} | {part} | {ts:time} | {number:int} | {message:remainder}", bars[0].Template)
	assert.Empty(t, barred(linesOf("a | b | c\nd | e | f"), ""), "neither a time nor a level")
	assert.Empty(t, barred(linesOf("2031-04-02 06:15:09 | x\n2031-04-02 06:15:10 | y"), ""))
}
