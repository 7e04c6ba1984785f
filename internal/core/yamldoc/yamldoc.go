// Package yamldoc reads YAML (and JSON, which is YAML) strictly and keeps the position of everything, so that
// every complaint can name a file, a line and a column.
//
// A file is split into documents; each document becomes a tree of Nodes. A Reader then takes values out of the
// tree, collects Problems instead of stopping at the first one, and reports every key that nobody asked for.
// Anchors, aliases, merge keys and tags are refused: a definition must say what it means where it stands.
package yamldoc

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"sort"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MaxFile is the largest file that is read, in bytes.
const MaxFile = 1 << 20

// maxDocuments bounds the documents of a file.
const maxDocuments = 10_000

// maxDepth bounds the nesting of maps and lists.
const maxDepth = 48

// Kind tells what a Node holds.
type Kind uint8

// The kinds of nodes.
const (
	Null Kind = iota
	Bool
	Int
	Float
	Text
	Map
	List
)

// String names the kind as an administrator would.
func (k Kind) String() string {
	return [...]string{"nothing", "true or false", "a whole number", "a number", "text", "a map", "a list"}[k]
}

// Node is one value with its position. Line and Column count from 1 within the file.
type Node struct {
	Kind         Kind
	Line, Column int
	Value        string  // scalars: the text, unquoted
	Entries      []Entry // maps, in the order of the text
	Items        []*Node // lists

	flow       bool // written as {...} or [...]
	openLine   int  // of the bracket of such a value
	openColumn int
}

// Entry is one key of a map.
type Entry struct {
	Key          string
	Line, Column int
	Value        *Node
}

// Unplaced is a copy that does not say where it stands, so that what says the same is the same.
func (n *Node) Unplaced() *Node {
	if n == nil {
		return nil
	}
	out := &Node{Kind: n.Kind, Value: n.Value}
	for _, e := range n.Entries {
		out.Entries = append(out.Entries, Entry{Key: e.Key, Value: e.Value.Unplaced()})
	}
	for _, item := range n.Items {
		out.Items = append(out.Items, item.Unplaced())
	}
	return out
}

// Get returns the value of a key, or nil.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	for i := range n.Entries {
		if n.Entries[i].Key == key {
			return n.Entries[i].Value
		}
	}
	return nil
}

// Document is one YAML document of a file. Text holds its bytes exactly, without the separator line.
type Document struct {
	File string
	Line int // line of the file at which Text begins, from 1
	Text string
	Root *Node
}

// Problem is a complaint about one place in a file.
type Problem struct {
	Code         string
	File         string
	Line, Column int
	Reason, Fix  string
	Kind, Name   string // of the definition that the place is in, when that is known
}

func (p Problem) Error() string {
	s := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Reason)
	if p.Fix != "" {
		s += " (" + p.Fix + ")"
	}
	return s
}

// Parse splits a file into documents and reads each. Documents without content are left out.
// A document that cannot be read yields a problem and no document.
func Parse(file string, text []byte) ([]Document, []Problem) {
	if len(text) > MaxFile {
		return nil, []Problem{{Code: "syntax", File: file, Line: 1, Column: 1,
			Reason: fmt.Sprintf("the file has %d bytes; at most %d are read", len(text), MaxFile), Fix: "split it"}}
	}
	var docs []Document
	var problems []Problem
	parts := Split(string(text))
	if len(parts) > maxDocuments {
		return nil, []Problem{
			{
				Code:   "syntax",
				File:   file,
				Line:   1,
				Column: 1,
				Reason: fmt.Sprintf("the file has %d documents; at most %d are read", len(parts), maxDocuments),
				Fix:    "split it",
			},
		}
	}
	if tooMany(string(text)) {
		return nil, []Problem{
			{
				Code:   "syntax",
				File:   file,
				Line:   1,
				Column: 1,
				Reason: fmt.Sprintf("the file holds more than %d values", maxValues),
				Fix:    "split it",
			},
		}
	}
	for _, part := range parts {
		doc := Document{File: file, Line: part.Line, Text: part.Text}
		root, err := read(part.Text, part.Line-1)
		if err != nil {
			err.File = file
			problems = append(problems, *err)
			continue
		}
		if root == nil {
			continue
		}
		doc.Root = root
		docs = append(docs, doc)
	}
	return docs, problems
}

// Part is one document of a file: its text, the line at which it begins, and its place in bytes.
type Part struct {
	Line, Start, End int
	Text             string
}

// Split cuts a file at its separator lines (---). Joined with these lines between them, the parts are the file.
func Split(text string) []Part {
	var parts []Part
	start, startLine, line := 0, 1, 0
	for pos := 0; pos < len(text); {
		line++
		end := strings.IndexByte(text[pos:], '\n')
		next := len(text)
		if end >= 0 {
			next = pos + end + 1
		}
		if strings.TrimRight(text[pos:next], " \t\r\n") == "---" {
			parts = append(parts, Part{startLine, start, pos, text[start:pos]})
			start, startLine = next, line+1
		}
		pos = next
	}
	return append(parts, Part{startLine, start, len(text), text[start:]})
}

// tooDeep looks for nesting that only a hostile text has, before the parser recurses into it.
func tooDeep(text string) bool {
	depth := 0
	for _, c := range text {
		switch c {
		case '[', '{':
			if depth++; depth > 4*maxDepth {
				return true
			}
		case ']', '}':
			depth--
		case '\n':
			depth = max(depth, 0)
		}
	}
	return strings.Contains(text, strings.Repeat("- ", maxDepth)) ||
		strings.Contains(text, strings.Repeat("? ", maxDepth))
}

// maxValues bounds the values of a file, since each costs memory: no file that people write comes near.
const maxValues = 120_000

// tooMany estimates how many values a text holds before they are made.
func tooMany(text string) bool {
	return strings.Count(
		text,
		",",
	)+2*strings.Count(
		text,
		": ",
	)+strings.Count(
		text,
		":\n",
	)+strings.Count(
		text,
		"- ",
	)+strings.Count(
		text,
		"\r",
	) > maxValues
}

func read(text string, offset int) (node *Node, problem *Problem) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	fail := func(reason, fix string) (*Node, *Problem) {
		return nil, &Problem{Code: "syntax", Line: offset + 1, Column: 1, Reason: reason, Fix: fix}
	}
	if tooDeep(text) {
		return fail("nested too deeply", "")
	}
	defer func() { // the parser is not ours; a panic in it is a file that cannot be read, not a crash
		if r := recover(); r != nil {
			node, problem = nil, &Problem{Code: "syntax", Line: offset + 1, Column: 1, Reason: "is not valid YAML"}
		}
	}()
	dec := yaml.NewDecoder(strings.NewReader(text))
	var doc, more yaml.Node
	if err := dec.Decode(&doc); errors.Is(err, io.EOF) {
		return nil, nil
	} else if err != nil {
		return nil, syntax(err, offset)
	}
	if err := dec.Decode(&more); err == nil {
		return nil, &Problem{
			Code:   "syntax",
			Line:   offset + more.Line,
			Column: max(more.Column, 1),
			Reason: "something follows the end of the document",
			Fix:    "begin another document with a line ---",
		}
	} else if !errors.Is(err, io.EOF) {
		return nil, syntax(err, offset)
	}
	if len(doc.Content) == 0 ||
		doc.Content[0].Kind == yaml.ScalarNode && doc.Content[0].Value == "" && doc.Content[0].Style == 0 {
		return nil, nil
	}
	return convert(doc.Content[0], offset, 0)
}

var atLine = regexp.MustCompile(`^(?:yaml: )?(?:line (\d+): )?`)

func syntax(err error, offset int) *Problem {
	words := err.Error()
	p := &Problem{Code: "syntax", Line: offset + 1, Column: 1, Reason: atLine.ReplaceAllString(words, "")}
	if m := atLine.FindStringSubmatch(words); m[1] != "" {
		n, _ := strconv.Atoi(m[1])
		p.Line = offset + max(n, 1)
	}
	return p
}

func convert(n *yaml.Node, offset, depth int) (*Node, *Problem) {
	out := &Node{Line: n.Line + offset, Column: max(n.Column, 1)}
	fail := func(reason, fix string) (*Node, *Problem) {
		return nil, &Problem{Code: "syntax", Line: out.Line, Column: out.Column, Reason: reason, Fix: fix}
	}
	switch {
	case depth > maxDepth:
		return fail("nested too deeply", "")
	case n.Kind == yaml.AliasNode || n.Anchor != "":
		return fail("anchors and aliases are not part of the language", "write the value out")
	case n.Style&yaml.TaggedStyle != 0:
		return fail("a value that begins with ! is a YAML tag", "quote it")
	}
	if n.Style&yaml.FlowStyle != 0 && n.Kind != yaml.ScalarNode {
		out.flow, out.openLine, out.openColumn = true, out.Line, out.Column
	}
	switch n.Kind {
	case yaml.MappingNode:
		return convertMap(out, n, offset, depth)
	case yaml.SequenceNode:
		out.Kind = List
		for _, v := range n.Content {
			item, err := convert(v, offset, depth+1)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, item)
		}
	case yaml.ScalarNode:
		out.Value = n.Value
		out.Kind = Text
		switch n.ShortTag() {
		case "!!null":
			out.Kind, out.Value = Null, ""
		case "!!bool":
			out.Kind = Bool
		case "!!int":
			out.Kind = Int
		case "!!float":
			out.Kind = Float
		}
	default:
		return fail("is not a value", "")
	}
	return out, nil
}

func convertMap(out *Node, n *yaml.Node, offset, depth int) (*Node, *Problem) {
	out.Kind = Map
	seen := make(map[string]bool, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		k := n.Content[i]
		e := Entry{Key: k.Value, Line: k.Line + offset, Column: max(k.Column, 1)}
		fail := func(reason, fix string) (*Node, *Problem) {
			return nil, &Problem{Code: "syntax", Line: e.Line, Column: e.Column, Reason: reason, Fix: fix}
		}
		switch {
		case k.Kind == yaml.AliasNode || k.Anchor != "" || k.ShortTag() == "!!merge":
			return fail("anchors and aliases are not part of the language", "write the value out")
		case k.Kind != yaml.ScalarNode:
			return fail("a key is one word", "quote it")
		case k.Style&yaml.TaggedStyle != 0:
			return fail("a key that begins with ! is a YAML tag", "quote it")
		case seen[e.Key]:
			return fail(fmt.Sprintf("key %q is here twice", e.Key), "keep one")
		}
		if i == 0 {
			out.Line, out.Column = e.Line, e.Column
		}
		seen[e.Key] = true
		value, err := convert(n.Content[i+1], offset, depth+1)
		if err != nil {
			return nil, err
		}
		e.Value = value
		out.Entries = append(out.Entries, e)
	}
	return out, nil
}

// Quote returns s as a double-quoted YAML (and JSON) scalar.
func Quote(s string) string { return string(AppendQuote(nil, s)) }

// AppendQuote appends s as a double-quoted scalar that both YAML and JSON read back as s.
func AppendQuote(dst []byte, s string) []byte {
	const hex = "0123456789abcdef"
	dst = append(dst, '"')
	from := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 0x20 && c != '"' && c != '\\' && c != 0x7f {
			continue
		}
		dst = append(dst, s[from:i]...)
		switch c {
		case '"', '\\':
			dst = append(dst, '\\', c)
		case '\n':
			dst = append(dst, '\\', 'n')
		case '\t':
			dst = append(dst, '\\', 't')
		case '\r':
			dst = append(dst, '\\', 'r')
		default:
			dst = append(dst, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
		}
		from = i + 1
	}
	dst = append(dst, s[from:]...)
	return append(dst, '"')
}

// AppendFlowList writes a list of texts in one line.
func AppendFlowList(dst []byte, items []string) []byte {
	dst = append(dst, '[')
	for i, s := range items {
		if i > 0 {
			dst = append(dst, ", "...)
		}
		dst = AppendQuote(dst, s)
	}
	return append(dst, ']')
}

// AppendFlowMap writes a map of texts in one line, sorted by key.
func AppendFlowMap(dst []byte, m map[string]string) []byte {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	dst = append(dst, '{')
	for i, k := range keys {
		if i > 0 {
			dst = append(dst, ", "...)
		}
		dst = append(AppendQuote(dst, k), ": "...)
		dst = AppendQuote(dst, m[k])
	}
	return append(dst, '}')
}

// Nearest returns the candidate that is most like word, or "" when none is close.
func Nearest(word string, candidates []string) string {
	best, bestCost := "", len(word)/2+1
	for _, c := range candidates {
		if cost := distance(word, c); cost < bestCost {
			best, bestCost = c, cost
		}
	}
	return best
}

// distance is the Levenshtein distance over bytes.
func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		prev := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := prev
			if a[i-1] != b[j-1] {
				cost++
			}
			prev = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}
