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
	"sort"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// MaxFile is the largest file that is read, in bytes.
const MaxFile = 1 << 20

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
}

// Entry is one key of a map.
type Entry struct {
	Key          string
	Line, Column int
	Value        *Node
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
	for _, part := range Split(string(text)) {
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
	return strings.Contains(text, strings.Repeat("- ", maxDepth)) || strings.Contains(text, strings.Repeat("? ", maxDepth))
}

func read(text string, offset int) (node *Node, problem *Problem) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	if tooDeep(text) {
		return nil, &Problem{Code: "syntax", Line: offset + 1, Column: 1, Reason: "nested too deeply"}
	}
	defer func() { // the parser is not ours; a panic in it is a file that cannot be read, not a crash
		if r := recover(); r != nil {
			node, problem = nil, &Problem{Code: "syntax", Line: offset + 1, Column: 1, Reason: "is not valid YAML"}
		}
	}()
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil {
		return nil, syntax(err, offset)
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, nil
	}
	if _, ok := file.Docs[0].Body.(*ast.CommentGroupNode); ok {
		return nil, nil
	}
	return convert(file.Docs[0].Body, offset, 0)
}

func syntax(err error, offset int) *Problem {
	p := &Problem{Code: "syntax", Line: offset + 1, Column: 1, Reason: err.Error()}
	var y interface {
		GetToken() *token.Token
		GetMessage() string
	}
	if errors.As(err, &y) {
		p.Reason = y.GetMessage()
		if t := y.GetToken(); t != nil && t.Position != nil {
			p.Line, p.Column = t.Position.Line+offset, t.Position.Column
		}
	}
	return p
}

func convert(n ast.Node, offset, depth int) (*Node, *Problem) {
	tok := n.GetToken()
	out := &Node{Line: offset + 1, Column: 1}
	if tok != nil && tok.Position != nil {
		out.Line, out.Column = tok.Position.Line+offset, tok.Position.Column
	}
	fail := func(reason, fix string) (*Node, *Problem) {
		return nil, &Problem{Code: "syntax", Line: out.Line, Column: out.Column, Reason: reason, Fix: fix}
	}
	if depth > maxDepth {
		return fail("nested too deeply", "")
	}
	switch n := n.(type) {
	case *ast.NullNode:
		out.Kind = Null
	case *ast.BoolNode:
		out.Kind, out.Value = Bool, tok.Value
	case *ast.IntegerNode:
		out.Kind, out.Value = Int, tok.Value
	case *ast.FloatNode:
		out.Kind, out.Value = Float, tok.Value
	case *ast.InfinityNode, *ast.NanNode:
		out.Kind, out.Value = Float, tok.Value
	case *ast.StringNode:
		out.Kind, out.Value = Text, n.Value
	case *ast.LiteralNode:
		out.Kind, out.Value = Text, n.Value.Value
	case *ast.MappingValueNode:
		return convertMap(out, []*ast.MappingValueNode{n}, offset, depth)
	case *ast.MappingNode:
		return convertMap(out, n.Values, offset, depth)
	case *ast.SequenceNode:
		out.Kind = List
		for _, v := range n.Values {
			item, err := convert(v, offset, depth+1)
			if err != nil {
				return nil, err
			}
			out.Items = append(out.Items, item)
		}
	case *ast.TagNode:
		return fail("a value that begins with ! is a YAML tag", "quote it")
	case *ast.AnchorNode, *ast.AliasNode, *ast.MergeKeyNode:
		return fail("anchors and aliases are not part of the language", "write the value out")
	default:
		return fail("is not a value", "")
	}
	return out, nil
}

func convertMap(out *Node, values []*ast.MappingValueNode, offset, depth int) (*Node, *Problem) {
	out.Kind = Map
	seen := map[string]bool{}
	for i, v := range values {
		kt := v.Key.GetToken()
		e := Entry{Key: kt.Value, Line: kt.Position.Line + offset, Column: kt.Position.Column}
		if s, ok := v.Key.(*ast.StringNode); ok {
			e.Key = s.Value
		}
		if _, ok := v.Key.(*ast.MergeKeyNode); ok {
			return nil, &Problem{Code: "syntax", Line: e.Line, Column: e.Column, Reason: "anchors and aliases are not part of the language", Fix: "write the value out"}
		}
		if i == 0 {
			out.Line, out.Column = e.Line, e.Column
		}
		if seen[e.Key] {
			return nil, &Problem{Code: "syntax", Line: e.Line, Column: e.Column, Reason: fmt.Sprintf("key %q is here twice", e.Key), Fix: "keep one"}
		}
		seen[e.Key] = true
		value, err := convert(v.Value, offset, depth+1)
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
