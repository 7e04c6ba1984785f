// Package expr reads conditions and computed values. They are written in CEL (the Common Expression Language, cel.dev)
// and checked, with types, against the names that are really there, so that a misspelt field is an error at the desk.
//
// Names with dots are flat: fields.http.response.status_code is one name, and the longest known name wins.
package expr

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"synaxis/internal/core/record"
	"synaxis/internal/core/yamldoc"
)

// Type is the type of a name or of the value of an expression.
type Type uint8

// The types. Dyn is known only when a record is there.
const (
	Dyn Type = iota
	Text
	Int
	Float
	Bool
	Time
)

// String names the type as the language does.
func (t Type) String() string {
	return [...]string{"any", "text", "int", "float", "bool", "time"}[t]
}

func (t Type) cel() *cel.Type {
	return [...]*cel.Type{cel.DynType, cel.StringType, cel.IntType, cel.DoubleType, cel.BoolType, cel.TimestampType}[t]
}

func typeOf(t *cel.Type) Type {
	switch t.Kind() {
	case types.StringKind:
		return Text
	case types.IntKind, types.UintKind:
		return Int
	case types.DoubleKind:
		return Float
	case types.BoolKind:
		return Bool
	case types.TimestampKind:
		return Time
	}
	return Dyn
}

// maxText bounds one expression, in bytes.
const maxText = 4096

// levels are the names that stand for the severity numbers of OpenTelemetry.
var levels = []string{"TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"}

// Scope is the names that an expression may use.
type Scope struct {
	Record bool            // level, body, time, observed time and the levels are known
	Names  map[string]Type // in full, such as fields.lane
	Open   []string        // spaces in which any other name is allowed, such as labels or fields
	Texts  []string        // of Open, those whose values are texts
	Empty  string          // of Open, the one in which a name that is not there has the value ""
}

var base = sync.OnceValues(func() (*cel.Env, error) {
	return cel.NewEnv(
		cel.CrossTypeNumericComparisons(true),
		cel.ParserExpressionSizeLimit(maxText),
		cel.ParserRecursionLimit(32),
	)
})

var recordNames = map[string]Type{
	"level":    Int,
	"body":     Text,
	"time":     Time,
	"observed": Time,
	"source":   Text,
	"host":     Text,
}

// env makes the environment of a scope.
func (s Scope) env() (*cel.Env, error) {
	env, err := base()
	if err != nil {
		return nil, err
	}
	var opts []cel.EnvOption
	if s.Record {
		for _, l := range levels {
			opts = append(opts, cel.Constant(l, cel.IntType, types.Int(record.ParseLevel(l))))
		}
		for n, t := range recordNames {
			opts = append(opts, cel.Variable(n, t.cel()))
		}
	}
	spaces := map[string]bool{}
	for _, o := range s.Open {
		spaces[o] = true
		value := cel.DynType
		if slices.Contains(s.Texts, o) {
			value = cel.StringType
		}
		opts = append(opts, cel.Variable(o, cel.MapType(cel.StringType, value)))
		if o == s.Empty {
			opts = append(opts, cel.Variable(lenient+o, cel.MapType(cel.StringType, value)))
		}
	}
	for n, t := range s.Names {
		if space, _, dotted := strings.Cut(n, "."); dotted && !spaces[space] {
			spaces[space] = true
			opts = append(opts, cel.Variable(space, cel.MapType(cel.StringType, cel.DynType)))
		}
		opts = append(opts, cel.Variable(n, t.cel()))
	}
	return env.Extend(opts...)
}

// Unknown is a name that is not there.
type Unknown struct{ Name, Near string }

func (u Unknown) Error() string {
	if u.Near != "" {
		return fmt.Sprintf("there is no %s; did you mean %s?", u.Name, u.Near)
	}
	return fmt.Sprintf("there is no %s", u.Name)
}

// Checker checks expressions of one scope.
type Checker struct {
	scope Scope
	env   *cel.Env
	flat  bool // names of open spaces are looked up whole
}

// NewChecker prepares a scope.
func NewChecker(s Scope) (*Checker, error) {
	env, err := s.env()
	return &Checker{scope: s, env: env}, err
}

// Checked is an expression that was found good.
type Checked struct {
	Type Type
	tree *cel.Ast
}

// Check reads an expression. want is the type that it must give, or Dyn for any; an Unknown error names what is not
// there.
func (c *Checker) Check(text string, want Type) (Checked, error) {
	tree, issues := c.env.Parse(text)
	if issues.Err() != nil {
		return Checked{}, plainly(issues)
	}
	if err := c.names(tree.NativeRep().Expr()); err != nil {
		return Checked{}, err
	}
	tree, issues = c.env.Check(tree)
	if issues.Err() != nil {
		return Checked{}, plainly(issues)
	}
	out := Checked{typeOf(tree.OutputType()), tree}
	if want != Dyn && out.Type != Dyn && out.Type != want {
		return out, fmt.Errorf("%q gives %s; a condition must be true or false", text, out.Type)
	}
	return out, nil
}

// plainly puts the first issue in one line.
func plainly(issues *cel.Issues) error {
	e := issues.Errors()[0]
	words := e.Message
	if rest, ok := strings.CutPrefix(words, "Syntax error: "); ok {
		words = legible(rest)
	}
	if strings.HasPrefix(words, "found no matching overload for '") {
		words = overload(words)
	}
	return errors.New(strings.Join(strings.Fields(words), " "))
}

// legible says in our words what the parser complains about most.
func legible(words string) string {
	token, unread := strings.CutPrefix(words, "token recognition error at: '")
	input, _ := strings.CutPrefix(words, "mismatched input '")
	switch {
	case unread && strings.HasPrefix(token, "="):
		return "= compares nothing; write =="
	case unread && (strings.HasPrefix(token, "& ") || strings.HasPrefix(token, "| ")),
		strings.HasPrefix(input, "and'"),
		strings.HasPrefix(input, "or'"):
		return "write && for and, || for or"
	case unread && (strings.HasPrefix(token, `"`) || strings.HasPrefix(token, "'")):
		return "a quote is not closed"
	case strings.HasPrefix(input, "<EOF>'"), strings.Contains(words, "at '<EOF>'"):
		return "it ends too early"
	}
	return "cannot be read: " + words
}

// overload says in our words that an operator does not fit its operands.
func overload(words string) string {
	name, rest, _ := strings.Cut(strings.TrimPrefix(words, "found no matching overload for '"), "' applied to '(")
	operands := strings.NewReplacer("string", "text", "double", "float").Replace(strings.TrimSuffix(rest, ")'"))
	if shown, ok := operators.FindReverse(name); ok && shown != "" {
		name = shown
	}
	return fmt.Sprintf(
		"%s does not go between %s",
		strings.Trim(name, "_"),
		strings.ReplaceAll(operands, ", ", " and "),
	)
}

// names finds names that are not there, turns fields["a.b"] into the flat name, and makes whole numbers that stand
// beside a float floats.
func (c *Checker) names(root ast.Expr) error {
	factory := ast.NewExprFactory()
	local := map[string]bool{}
	ast.PreOrderVisit(root, ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.ComprehensionKind {
			k := e.AsComprehension()
			local[k.IterVar()], local[k.AccuVar()] = true, true
			if k.HasIterVar2() {
				local[k.IterVar2()] = true
			}
		}
	}))
	var bad error
	ast.PostOrderVisit(root, ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind || e.AsCall().FunctionName() != operators.Index {
			return
		}
		args := e.AsCall().Args()
		if args[0].Kind() != ast.IdentKind || args[1].Kind() != ast.LiteralKind {
			return
		}
		if key, ok := args[1].AsLiteral().Value().(string); ok {
			name := args[0].AsIdent() + "." + key
			if _, known := c.scope.Names[name]; known {
				e.SetKindCase(factory.NewIdent(e.ID(), name))
			} else if !slices.Contains(c.scope.Open, args[0].AsIdent()) && bad == nil {
				bad = c.unknown(name)
			}
		}
	}))
	var visit func(e ast.Expr)
	visit = func(e ast.Expr) {
		if bad != nil {
			return
		}
		if name, ok := chain(e); ok {
			first, _, _ := strings.Cut(name, ".")
			if !local[first] {
				bad = c.known(name)
			}
			return
		}
		c.widen(factory, e)
		for _, k := range children(e) {
			visit(k)
		}
	}
	visit(root)
	if bad == nil && c.flat {
		c.flatten(root, local)
	}
	if bad == nil && c.scope.Empty != "" {
		c.lenient(factory, root)
	}
	return bad
}

// lenient begins the name of the space that gives "" for what is not there. It takes the place of the plain one where
// a value is asked for; has() and the like keep the plain one.
const lenient = "@"

func (c *Checker) lenient(factory ast.ExprFactory, root ast.Expr) {
	ast.PostOrderVisit(root, ast.NewExprVisitor(func(e ast.Expr) {
		var of ast.Expr
		switch {
		case e.Kind() == ast.SelectKind && !e.AsSelect().IsTestOnly():
			of = e.AsSelect().Operand()
		case e.Kind() == ast.CallKind && e.AsCall().FunctionName() == operators.Index:
			of = e.AsCall().Args()[0]
		}
		if of != nil && of.Kind() == ast.IdentKind && of.AsIdent() == c.scope.Empty {
			of.SetKindCase(factory.NewIdent(of.ID(), lenient+c.scope.Empty))
		}
	}))
}

// widen makes whole numbers floats where they stand beside a float name in == and !=, since numbers of different types
// compare.
func (c *Checker) widen(factory ast.ExprFactory, e ast.Expr) {
	if e.Kind() != ast.CallKind ||
		e.AsCall().FunctionName() != operators.Equals && e.AsCall().FunctionName() != operators.NotEquals {
		return
	}
	args := e.AsCall().Args()
	for i, a := range args {
		name, ok := chain(a)
		other := args[1-i]
		if !ok || c.scope.Names[name] != Float || other.Kind() != ast.LiteralKind {
			continue
		}
		if n, isInt := other.AsLiteral().Value().(int64); isInt {
			other.SetKindCase(factory.NewLiteral(other.ID(), types.Double(n)))
		}
	}
}

// known tells whether a chain of names begins with one that is there.
func (c *Checker) known(name string) error {
	for part := name; part != ""; {
		if _, ok := c.scope.Names[part]; ok {
			return nil
		}
		if _, ok := recordNames[part]; ok && c.scope.Record {
			return nil
		}
		i := strings.LastIndexByte(part, '.')
		if i < 0 {
			break
		}
		part = part[:i]
	}
	space, _, dotted := strings.Cut(name, ".")
	if slices.Contains(c.scope.Open, space) || c.scope.Record && slices.Contains(levels, name) {
		return nil
	}
	if !dotted && c.isSpace(space) {
		return nil
	}
	if !dotted &&
		slices.Contains(
			[]string{"int", "double", "string", "bool", "bytes", "duration", "timestamp", "type", "uint"},
			name,
		) {
		return nil
	}
	return c.unknown(name)
}

func (c *Checker) isSpace(space string) bool {
	for n := range c.scope.Names {
		if strings.HasPrefix(n, space+".") {
			return true
		}
	}
	return false
}

func (c *Checker) unknown(name string) error {
	all := slices.Clone(c.scope.Open)
	for n := range c.scope.Names {
		all = append(all, n)
	}
	if c.scope.Record {
		all = append(all, levels...)
		for n := range recordNames {
			all = append(all, n)
		}
	}
	slices.Sort(all)
	if space, rest, dotted := strings.Cut(name, "."); dotted && !c.isSpace(space) {
		if near := yamldoc.Nearest(space, c.scope.Open); near != "" {
			return Unknown{name, near + "." + rest}
		}
	}
	return Unknown{name, yamldoc.Nearest(name, all)}
}

// chain is the dotted name that an expression is, if it is one.
func chain(e ast.Expr) (string, bool) {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent(), true
	case ast.SelectKind:
		s := e.AsSelect()
		if name, ok := chain(s.Operand()); ok {
			return name + "." + s.FieldName(), true
		}
	}
	return "", false
}

func children(e ast.Expr) []ast.Expr {
	switch e.Kind() {
	case ast.CallKind:
		call := e.AsCall()
		if call.IsMemberFunction() {
			return append([]ast.Expr{call.Target()}, call.Args()...)
		}
		return call.Args()
	case ast.SelectKind:
		return []ast.Expr{e.AsSelect().Operand()}
	case ast.ListKind:
		return e.AsList().Elements()
	case ast.MapKind:
		var out []ast.Expr
		for _, m := range e.AsMap().Entries() {
			out = append(out, m.AsMapEntry().Key(), m.AsMapEntry().Value())
		}
		return out
	case ast.ComprehensionKind:
		k := e.AsComprehension()
		return []ast.Expr{k.IterRange(), k.AccuInit(), k.LoopCondition(), k.LoopStep(), k.Result()}
	}
	return nil
}

// Uses returns the dotted names that an expression uses, each once.
func (k Checked) Uses() []string {
	if k.tree == nil {
		return nil
	}
	seen := map[string]bool{}
	var visit func(e ast.Expr)
	visit = func(e ast.Expr) {
		if name, ok := chain(e); ok {
			seen[strings.TrimPrefix(name, lenient)] = true
			return
		}
		for _, c := range children(e) {
			visit(c)
		}
	}
	visit(k.tree.NativeRep().Expr())
	out := make([]string, 0, len(seen))
	for n := range seen {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}
