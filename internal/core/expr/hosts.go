package expr

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// HostNames are what a condition over hosts may use beside labels; all are texts.
var HostNames = []string{"host.name", "observed.os", "observed.arch", "observed.name"}

// Facts is what conditions see of a host.
type Facts struct {
	Name             string
	Labels           map[string]string
	OS, Arch, System string // observed; System is the name of the operating system, such as Debian GNU/Linux 13
}

// Get answers the value of labels.KEY or one of HostNames; a missing label is "" and not there.
func (f *Facts) Get(name string) (value string, there bool) {
	switch name {
	case "host.name":
		return f.Name, true
	case "observed.os":
		return f.OS, f.OS != ""
	case "observed.arch":
		return f.Arch, f.Arch != ""
	case "observed.name":
		return f.System, f.System != ""
	}
	key, ok := strings.CutPrefix(name, "labels.")
	if !ok {
		return "", false
	}
	value, there = f.Labels[key]
	return value, there
}

// HostCondition is a condition over hosts. It is safe for use by many goroutines.
type HostCondition struct {
	Text string
	Tree *HostTree // nil when only the whole can be computed
	prog cel.Program
	uses []string
}

// HostTree is a condition in a form that can be answered for a whole column of values at once: either a test of one
// name, or And, Or, Not over others.
type HostTree struct {
	Op   Op
	Name string
	Test func(value string, there bool) bool
	Kids []*HostTree
	Text string
}

// Op is what a HostTree does.
type Op uint8

// The operations.
const (
	Test Op = iota
	And
	Or
	Not
)

var hostChecker = sync.OnceValues(func() (*Checker, error) {
	names := map[string]Type{}
	for _, n := range HostNames {
		names[n] = Text
	}
	return NewChecker(Scope{Names: names, Open: []string{"labels"}, Texts: []string{"labels"}, Empty: "labels"})
})

// ParseHosts reads a condition over hosts, such as labels.role == "gate" && observed.os == "linux".
func ParseHosts(text string) (*HostCondition, error) {
	c, err := hostChecker()
	if err != nil {
		return nil, err
	}
	k, err := c.Check(text, Bool)
	var unknown Unknown
	if errors.As(err, &unknown) && unknown.Near == "" && !strings.Contains(unknown.Name, ".") {
		unknown.Near = "labels." + unknown.Name // what the short form of hosts has one write
		return nil, unknown
	}
	if err != nil {
		return nil, err
	}
	if k.Type != Bool {
		return nil, fmt.Errorf("%q is not a condition that is true or false for a host", text)
	}
	h := &HostCondition{Text: text, uses: k.Uses()}
	root := k.tree.NativeRep().Expr()
	if h.Tree, err = hostTree(k.tree.NativeRep(), root); err != nil {
		return nil, err
	}
	if h.Tree == nil {
		if h.prog, err = c.env.Program(k.tree, cel.CostLimit(costLimit)); err != nil {
			return nil, err
		}
		if _, _, err := h.prog.Eval(hostActivation{&Facts{}}); err != nil && strings.Contains(err.Error(), "cost") {
			return nil, errors.New("this condition takes too long to compute for each host; write it simpler")
		}
	}
	return h, nil
}

// Uses returns the names that the condition uses, in full.
func (h *HostCondition) Uses() []string { return h.uses }

// Match tells whether a host meets the condition. An error while computing it is not met.
func (h *HostCondition) Match(f *Facts) bool {
	if h.Tree != nil {
		return h.Tree.Match(f)
	}
	out, _, err := h.prog.Eval(hostActivation{f})
	return err == nil && out == types.True
}

// Match tells whether a host meets the tree.
func (t *HostTree) Match(f *Facts) bool {
	switch t.Op {
	case And:
		for _, k := range t.Kids {
			if !k.Match(f) {
				return false
			}
		}
		return true
	case Or:
		for _, k := range t.Kids {
			if k.Match(f) {
				return true
			}
		}
		return false
	case Not:
		return !t.Kids[0].Match(f)
	}
	return t.Test(f.Get(t.Name))
}

// hostTree translates what it knows; nil without an error means that something else is in it.
func hostTree(tree *ast.AST, e ast.Expr) (*HostTree, error) {
	text, _ := cel.ExprToString(e, tree.SourceInfo()) // what a macro expanded to has no text of its own
	text = strings.ReplaceAll(text, lenient, "")
	test := func(name string, f func(string, bool) bool) (*HostTree, error) {
		return &HostTree{Name: name, Test: f, Text: text}, nil
	}
	switch e.Kind() {
	case ast.LiteralKind:
		v, ok := e.AsLiteral().Value().(bool)
		if !ok {
			return nil, nil
		}
		return test("host.name", func(string, bool) bool { return v })
	case ast.SelectKind:
		s := e.AsSelect()
		if name, ok := hostName(s.Operand()); ok && s.IsTestOnly() {
			return test(name+"."+s.FieldName(), func(_ string, there bool) bool { return there })
		}
		return nil, nil
	case ast.CallKind:
	default:
		return nil, nil
	}
	call := e.AsCall()
	kids := func(op Op) (*HostTree, error) {
		out := &HostTree{Op: op, Text: text}
		for _, a := range call.Args() {
			k, err := hostTree(tree, a)
			if k == nil {
				return nil, err
			}
			if k.Op == op && op != Not {
				out.Kids = append(out.Kids, k.Kids...)
			} else {
				out.Kids = append(out.Kids, k)
			}
		}
		return out, nil
	}
	switch call.FunctionName() {
	case operators.LogicalAnd:
		return kids(And)
	case operators.LogicalOr:
		return kids(Or)
	case operators.LogicalNot:
		return kids(Not)
	case operators.Equals, operators.NotEquals:
		a, b := call.Args()[0], call.Args()[1]
		name, ok := hostName(a)
		if !ok {
			a, b = b, a
			name, ok = hostName(a)
		}
		want, isText := literalText(b)
		if !ok || !isText {
			return nil, nil
		}
		equal := call.FunctionName() == operators.Equals
		return test(name, func(v string, _ bool) bool { return (v == want) == equal })
	case operators.In:
		name, ok := hostName(call.Args()[0])
		if !ok || call.Args()[1].Kind() != ast.ListKind {
			return nil, nil
		}
		var wants []string
		for _, x := range call.Args()[1].AsList().Elements() {
			s, isText := literalText(x)
			if !isText {
				return nil, nil
			}
			wants = append(wants, s)
		}
		return test(name, func(v string, _ bool) bool { return slices.Contains(wants, v) })
	}
	if !call.IsMemberFunction() || len(call.Args()) != 1 {
		return nil, nil
	}
	name, ok := hostName(call.Target())
	arg, isText := literalText(call.Args()[0])
	if !ok || !isText {
		return nil, nil
	}
	switch call.FunctionName() {
	case "startsWith":
		return test(name, func(v string, _ bool) bool { return strings.HasPrefix(v, arg) })
	case "endsWith":
		return test(name, func(v string, _ bool) bool { return strings.HasSuffix(v, arg) })
	case "contains":
		return test(name, func(v string, _ bool) bool { return strings.Contains(v, arg) })
	case "matches":
		re, err := regexp.Compile(arg)
		if err != nil {
			return nil, fmt.Errorf("matches: %w", err)
		}
		return test(name, func(v string, _ bool) bool { return re.MatchString(v) })
	}
	return nil, nil
}

// hostName is the name of a label or of something observed. labels["a.b"] and labels.a are the same.
func hostName(e ast.Expr) (string, bool) {
	if e.Kind() == ast.CallKind && e.AsCall().FunctionName() == operators.Index {
		if key, ok := literalText(e.AsCall().Args()[1]); ok && e.AsCall().Args()[0].Kind() == ast.IdentKind &&
			e.AsCall().Args()[0].AsIdent() == lenient+"labels" {
			return "labels." + key, true
		}
		return "", false
	}
	name, ok := chain(e)
	return strings.TrimPrefix(name, lenient), ok
}

// hostActivation gives names to a program.
type hostActivation struct{ facts *Facts }

func (a hostActivation) ResolveName(name string) (any, bool) {
	switch m := types.DefaultTypeAdapter.NativeToValue(a.facts.Labels).(traits.Mapper); name {
	case "labels":
		return m, true
	case lenient + "labels":
		return hostLabels{m}, true
	}
	if slices.Contains(HostNames, name) {
		v, _ := a.facts.Get(name)
		return v, true
	}
	return nil, false
}

func (a hostActivation) Parent() cel.Activation { return nil }

// hostLabels is a map in which a missing label is "".
type hostLabels struct{ traits.Mapper }

func (l hostLabels) Get(key ref.Val) ref.Val {
	v, _ := l.Find(key)
	return v
}

func (l hostLabels) Find(key ref.Val) (ref.Val, bool) {
	if v, there := l.Mapper.Find(key); there {
		return v, true
	}
	return types.String(""), true
}

// Line is one line of an explanation.
type Line struct {
	Holds bool
	Text  string
}

// Explain tells for each part of the condition that is joined by && whether a host meets it, with what the host has.
func (h *HostCondition) Explain(f *Facts) []Line {
	parts := []*HostTree{h.Tree}
	if h.Tree == nil || h.Tree.Text == "" {
		return []Line{{h.Match(f), h.Text + has(f, h.uses)}}
	}
	if h.Tree.Op == And {
		parts = h.Tree.Kids
	}
	var out []Line
	for _, p := range parts {
		if p.Text == "" {
			return []Line{{h.Match(f), h.Text + has(f, h.uses)}}
		}
		out = append(out, Line{p.Match(f), p.Text + has(f, p.names())})
	}
	return out
}

func (t *HostTree) names() []string {
	if t.Op == Test {
		return []string{t.Name}
	}
	var out []string
	for _, k := range t.Kids {
		for _, n := range k.names() {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	return out
}

// has tells what a host has of some names.
func has(f *Facts, names []string) string {
	var out []string
	for _, n := range names {
		if v, there := f.Get(n); there {
			out = append(out, fmt.Sprintf("%s is %s", n, v))
		} else if n != "labels" {
			out = append(out, n+" is not set")
		}
	}
	if len(out) == 0 {
		return ""
	}
	return ": " + strings.Join(out, ", ")
}
