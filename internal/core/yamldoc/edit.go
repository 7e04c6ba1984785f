package yamldoc

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Edit is one change of a document, as a form makes it. Path names a place by the keys of maps and, as "#2", by
// positions in lists; "#+" is a new last item. Value is nil to take the place away, or a bool, int64, float64, string,
// []any or a list of Pairs.
type Edit struct {
	Path  []string
	Value any
}

// Pair is one key of a map that is written, in the order of the list.
type Pair struct {
	Key   string
	Value any
}

// ErrEdit says that a place cannot be edited by splicing, so that a person must edit the text.
var ErrEdit = errors.New("this place cannot be edited in a form; edit the text")

// Splice makes an edit in the text of one document. Only the bytes of the place change; comments and spacing
// everywhere else stay as they are. The result is read again and must mean what the edit says and nothing else, or
// there is an error.
func Splice(text string, e Edit) (string, error) {
	root, problem := read(text, 0)
	if problem != nil {
		return "", *problem
	}
	if root == nil || root.Kind != Map || len(e.Path) == 0 {
		return "", ErrEdit
	}
	s := splicer{text: text, lines: lineStarts(text)}
	out, err := s.edit(root, e)
	if err != nil {
		return "", err
	}
	again, problem := read(out, 0)
	if problem != nil || again == nil {
		return "", ErrEdit
	}
	want := copyTree(root)
	if !apply(want, e.Path, e.Value) || !equal(want, again) {
		return "", ErrEdit
	}
	return out, nil
}

type splicer struct {
	text  string
	lines []int // offsets at which lines begin
}

func lineStarts(text string) []int {
	out := []int{0}
	for i := range len(text) {
		if text[i] == '\n' {
			out = append(out, i+1)
		}
	}
	return out
}

// offset is the place of a line and column, which counts characters, in bytes.
func (s *splicer) offset(line, column int) int {
	if line < 1 || line > len(s.lines) {
		return len(s.text)
	}
	at := s.lines[line-1]
	for i := 1; i < column && at < len(s.text); i++ {
		_, n := utf8.DecodeRuneInString(s.text[at:])
		at += n
	}
	return at
}

func (s *splicer) lineEnd(at int) int {
	if i := strings.IndexByte(s.text[at:], '\n'); i >= 0 {
		return at + i
	}
	return len(s.text)
}

func (s *splicer) lineStart(at int) int { return strings.LastIndexByte(s.text[:at], '\n') + 1 }

// start is where the text of a node begins.
func (s *splicer) start(n *Node) int {
	if n.flow {
		return s.offset(n.openLine, n.openColumn)
	}
	return s.offset(n.Line, n.Column)
}

// end is where the text of a node ends, without what follows it on its line. inFlow tells that the node stands within
// brackets; column is that of the key or dash that it belongs to, in blocks.
func (s *splicer) end(n *Node, inFlow bool, column int) int {
	at := s.start(n)
	if at >= len(s.text) {
		return len(s.text)
	}
	switch c := s.text[at]; {
	case n.flow:
		return s.bracket(at)
	case c == '"' || c == '\'':
		return s.quoted(at)
	case n.Kind == Map || n.Kind == List || (c == '|' || c == '>') && !inFlow:
		return s.block(at, column, n.Kind == List)
	case inFlow:
		end := at
		for end < len(s.text) && !strings.ContainsRune(",}]\n", rune(s.text[end])) && !strings.HasPrefix(s.text[end:],
			" #") && !strings.HasPrefix(s.text[end:], ": ") {
			end++
		}
		return at + len(strings.TrimRight(s.text[at:end], " \t"))
	}
	end := s.lineEnd(at)
	if i := strings.Index(s.text[at:end], " #"); i >= 0 {
		end = at + i
	}
	return at + len(strings.TrimRight(s.text[at:end], " \t\r"))
}

func (s *splicer) quoted(at int) int {
	q := s.text[at]
	for i := at + 1; i < len(s.text); i++ {
		switch {
		case s.text[i] == '\\' && q == '"':
			i++
		case s.text[i] == q && q == '\'' && i+1 < len(s.text) && s.text[i+1] == q:
			i++
		case s.text[i] == q:
			return i + 1
		}
	}
	return len(s.text)
}

func (s *splicer) bracket(at int) int {
	depth := 0
	for i := at; i < len(s.text); i++ {
		switch c := s.text[i]; {
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			if depth--; depth == 0 {
				return i + 1
			}
		case (c == '"' || c == '\'') && strings.ContainsRune("[{,: \n", rune(s.text[i-1])):
			i = s.quoted(i) - 1
		case c == '#' && (s.text[i-1] == ' ' || s.text[i-1] == '\n'):
			i = s.lineEnd(i) - 1
		}
	}
	return len(s.text)
}

// block is the end of a value of several lines: the last line with content that is indented deeper than its key.
func (s *splicer) block(at, column int, list bool) int {
	end := s.lineEnd(at)
	if i := strings.Index(s.text[at:end], " #"); i >= 0 && !strings.ContainsAny(s.text[at:at+1], "|>") &&
		s.lineEnd(at) == s.lineEnd(end) {
		end = s.lineEnd(at)
	}
	for next := end + 1; next <= len(s.text) && next > 0; next = s.lineEnd(next) + 1 {
		if next >= len(s.text) {
			break
		}
		line := s.text[next:s.lineEnd(next)]
		content := strings.TrimLeft(line, " ")
		if strings.TrimSpace(content) == "" {
			continue
		}
		indent := len(line) - len(content)
		deeper := indent > column-1 || list && indent == column-1 && strings.HasPrefix(content, "-")
		if !deeper {
			break
		}
		if !strings.HasPrefix(content, "#") {
			end = s.lineEnd(next)
		}
	}
	return end
}

func index(key string, n int) (int, bool) {
	rest, ok := strings.CutPrefix(key, "#")
	i, err := strconv.Atoi(rest)
	return i, ok && err == nil && i >= 0 && i < n
}

// edit finds the place and splices.
func (s *splicer) edit(n *Node, e Edit) (string, error) {
	inFlow, column := false, 0
	for depth, key := range e.Path {
		last := depth == len(e.Path)-1
		inFlow = inFlow || n.flow
		switch n.Kind {
		case Map:
			i := slices.IndexFunc(n.Entries, func(x Entry) bool { return x.Key == key })
			if i < 0 {
				if e.Value == nil {
					return s.text, nil
				}
				if !last {
					e.Value = nested(e.Path[depth+1:], e.Value)
					if e.Value == nil {
						return "", ErrEdit
					}
				}
				return s.addKey(n, inFlow, key, e.Value)
			}
			entry := n.Entries[i]
			column = entry.Column
			if last {
				if e.Value == nil {
					return s.removeKey(n, i, inFlow)
				}
				return s.replace(entry.Value, inFlow, column, e.Value)
			}
			n = entry.Value
		case List:
			if key == "#+" && last && e.Value != nil {
				return s.addItem(n, inFlow, column, e.Value)
			}
			i, ok := index(key, len(n.Items))
			if !ok {
				return "", ErrEdit
			}
			item := n.Items[i]
			if !n.flow {
				column = s.dash(item)
			}
			if last {
				if e.Value == nil {
					return s.removeItem(n, i, inFlow)
				}
				return s.replace(item, inFlow, column, e.Value)
			}
			n = item
		default:
			return "", ErrEdit
		}
	}
	return "", ErrEdit
}

// nested puts a value below keys that are not there yet.
func nested(path []string, value any) any {
	for _, key := range slices.Backward(path) {
		switch {
		case key == "#+" || key == "#0":
			value = []any{value}
		case strings.HasPrefix(key, "#"):
			return nil
		default:
			value = []Pair{{key, value}}
		}
	}
	return value
}

// dash is the column of the dash before an item of a block list.
func (s *splicer) dash(item *Node) int {
	at := s.start(item)
	from := s.lineStart(at)
	return strings.LastIndexByte(s.text[from:at], '-') + 1
}

func (s *splicer) replace(n *Node, inFlow bool, column int, value any) (string, error) {
	start := s.start(n)
	if n.Kind == Null && n.Value == "" &&
		(start >= len(s.text) || s.text[start] != '~' && !strings.HasPrefix(s.text[start:], "null")) {
		return "", ErrEdit
	}
	end := s.end(n, inFlow || n.flow, column)
	old := s.text[start:end]
	text := format(value, old)
	if (n.Kind == Map || n.Kind == List) && !n.flow { // a block that begins on the line of its key stays there
		if from := s.lineStart(start); strings.TrimSpace(s.text[from:start]) == "" {
			start = from - 1
			for start > 0 && (s.text[start-1] == ' ' || s.text[start-1] == '\r') {
				start--
			}
			if i := strings.LastIndexByte(s.text[:start], '\n'); strings.Contains(s.text[i+1:start], " #") {
				return "", ErrEdit // a comment stands beside the key
			}
			text = " " + text
		}
	}
	return s.text[:start] + text + s.text[end:], nil
}

func (s *splicer) addKey(n *Node, inFlow bool, key string, value any) (string, error) {
	line := formatKey(key) + ": " + format(value, "")
	if n.flow {
		end := s.bracket(s.start(n)) - 1
		at := end
		for at > 0 && (s.text[at-1] == ' ' || s.text[at-1] == '\n') {
			at--
		}
		sep := ", "
		if len(n.Entries) == 0 {
			sep = ""
		}
		return s.text[:at] + sep + line + s.text[at:], nil
	}
	if inFlow || len(n.Entries) == 0 {
		return "", ErrEdit
	}
	last := n.Entries[len(n.Entries)-1]
	at := s.lineEnd(max(s.end(last.Value, false, last.Column), s.offset(last.Line, last.Column)))
	pad := strings.Repeat(" ", last.Column-1)
	return s.text[:at] + "\n" + pad + line + s.text[at:], nil
}

func (s *splicer) removeKey(n *Node, i int, inFlow bool) (string, error) {
	e := n.Entries[i]
	start := s.offset(e.Line, e.Column)
	if start > 0 && (s.text[start-1] == '"' || s.text[start-1] == '\'') {
		start--
	}
	return s.remove(start, s.end(e.Value, inFlow || n.flow, e.Column), n.flow, len(n.Entries))
}

func (s *splicer) removeItem(n *Node, i int, inFlow bool) (string, error) {
	item := n.Items[i]
	start, column := s.start(item), 0
	if !n.flow {
		column = s.dash(item)
		start = s.lineStart(start) + column - 1
	}
	return s.remove(start, s.end(item, inFlow || n.flow, column), n.flow, len(n.Items))
}

// remove takes a key or an item away: in brackets with a comma beside it, in a block with its lines.
func (s *splicer) remove(start, end int, flow bool, of int) (string, error) {
	if !flow {
		from := s.lineStart(start)
		if strings.TrimSpace(s.text[from:start]) != "" || of == 1 {
			return "", ErrEdit
		}
		to := min(s.lineEnd(end)+1, len(s.text))
		return s.text[:from] + s.text[to:], nil
	}
	if rest := strings.TrimLeft(s.text[end:], " \n"); strings.HasPrefix(rest, ",") {
		end = len(s.text) - len(strings.TrimLeft(rest[1:], " "))
		return s.text[:start] + s.text[end:], nil
	}
	if head := strings.TrimRight(s.text[:start], " \n"); strings.HasSuffix(head, ",") {
		start = len(head) - 1
	}
	return s.text[:start] + s.text[end:], nil
}

func (s *splicer) addItem(n *Node, inFlow bool, column int, value any) (string, error) {
	text := format(value, "")
	if n.flow {
		at := s.bracket(s.start(n)) - 1
		for at > 0 && (s.text[at-1] == ' ' || s.text[at-1] == '\n') {
			at--
		}
		if len(n.Items) > 0 {
			text = ", " + text
		}
		return s.text[:at] + text + s.text[at:], nil
	}
	if inFlow || len(n.Items) == 0 {
		return "", ErrEdit
	}
	last := n.Items[len(n.Items)-1]
	dash := s.dash(last)
	at := s.lineEnd(s.end(last, false, dash))
	return s.text[:at] + "\n" + strings.Repeat(" ", dash-1) + "- " + text + s.text[at:], nil
}

// format writes a value in one line, quoted as old was.
func format(value any, old string) string {
	switch v := value.(type) {
	case bool:
		return strconv.FormatBool(v)
	case int:
		return strconv.Itoa(v)
	case int64:
		return strconv.FormatInt(v, 10)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	case string:
		return formatText(v, old)
	case []any:
		var parts []string
		for _, x := range v {
			parts = append(parts, format(x, ""))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case []Pair:
		var parts []string
		for _, x := range v {
			parts = append(parts, formatKey(x.Key)+": "+format(x.Value, ""))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	return "null"
}

func formatKey(key string) string { return formatText(key, "") }

// formatText writes a text plainly where YAML reads it back as that text, otherwise in quotes.
func formatText(v, old string) string {
	single := !strings.ContainsAny(v, "\n\r\t\x00") && utf8.ValidString(v)
	switch {
	case strings.HasPrefix(old, "'") && single:
		return "'" + strings.ReplaceAll(v, "'", "''") + "'"
	case strings.HasPrefix(old, `"`):
		return Quote(v)
	case plain(v):
		return v
	case single && strings.ContainsAny(v, `\"`):
		return "'" + strings.ReplaceAll(v, "'", "''") + "'"
	}
	return Quote(v)
}

// plain tells whether a text can stand without quotes, also within brackets.
func plain(v string) bool {
	if v == "" || strings.TrimSpace(v) != v || strings.ContainsAny(v, "\n\r\t,[]{}#&*!|>'\"%@`") ||
		strings.ContainsAny(v[:1], "-?:=~<") ||
		strings.Contains(v, ": ") ||
		strings.HasSuffix(v, ":") {
		return false
	}
	root, problem := read("k: ["+v+"]\n", 0)
	if problem != nil || root.Get("k") == nil || len(root.Get("k").Items) != 1 {
		return false
	}
	n := root.Get("k").Items[0]
	return n.Kind == Text && n.Value == v
}

func copyTree(n *Node) *Node {
	if n == nil {
		return nil
	}
	out := *n
	out.Entries, out.Items = slices.Clone(n.Entries), slices.Clone(n.Items)
	for i := range out.Entries {
		out.Entries[i].Value = copyTree(out.Entries[i].Value)
	}
	for i := range out.Items {
		out.Items[i] = copyTree(out.Items[i])
	}
	return &out
}

// apply makes an edit in a tree, as what the text must mean afterwards.
func apply(n *Node, path []string, value any) bool {
	key, last := path[0], len(path) == 1
	switch n.Kind {
	case Map:
		i := slices.IndexFunc(n.Entries, func(e Entry) bool { return e.Key == key })
		switch {
		case i < 0 && value == nil:
			return true
		case i < 0:
			if !last {
				value = nested(path[1:], value)
			}
			n.Entries = append(n.Entries, Entry{Key: key, Value: node(value)})
			return true
		case last && value == nil:
			n.Entries = slices.Delete(n.Entries, i, i+1)
			return true
		case last:
			n.Entries[i].Value = node(value)
			return true
		}
		return apply(n.Entries[i].Value, path[1:], value)
	case List:
		if key == "#+" && last && value != nil {
			n.Items = append(n.Items, node(value))
			return true
		}
		i, ok := index(key, len(n.Items))
		switch {
		case !ok:
			return false
		case last && value == nil:
			n.Items = slices.Delete(n.Items, i, i+1)
			return true
		case last:
			n.Items[i] = node(value)
			return true
		}
		return apply(n.Items[i], path[1:], value)
	}
	return false
}

// node is what a written value reads as.
func node(value any) *Node {
	switch v := value.(type) {
	case bool:
		return &Node{Kind: Bool, Value: strconv.FormatBool(v)}
	case int, int64:
		return &Node{Kind: Int, Value: fmt.Sprint(v)}
	case float64:
		return &Node{Kind: Float, Value: format(v, "")}
	case string:
		return &Node{Kind: Text, Value: v}
	case []any:
		n := &Node{Kind: List}
		for _, x := range v {
			n.Items = append(n.Items, node(x))
		}
		return n
	case []Pair:
		n := &Node{Kind: Map}
		for _, x := range v {
			n.Entries = append(n.Entries, Entry{Key: x.Key, Value: node(x.Value)})
		}
		return n
	}
	return &Node{Kind: Null}
}

// equal tells whether two trees mean the same, places aside. A number may be written in more than one way.
func equal(a, b *Node) bool {
	number := func(n *Node) bool { return n.Kind == Int || n.Kind == Float }
	if a.Kind != b.Kind && !(number(a) && number(b)) || len(a.Entries) != len(b.Entries) ||
		len(a.Items) != len(b.Items) {
		return false
	}
	if a.Kind != Map && a.Kind != List && a.Kind != Null && a.Value != b.Value {
		return false
	}
	for i := range a.Entries {
		if a.Entries[i].Key != b.Entries[i].Key || !equal(a.Entries[i].Value, b.Entries[i].Value) {
			return false
		}
	}
	for i := range a.Items {
		if !equal(a.Items[i], b.Items[i]) {
			return false
		}
	}
	return true
}
