package expr

import (
	"math"
	"slices"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types/ref"

	"synaxis/internal/core/record"
)

// Constant tells whether an expression has the same truth for every record: a constant, or parts joined by && that
// cannot hold together, such as level >= WARN && level < INFO. It answers known=false whenever it is not certain.
func (k Checked) Constant() (value, known bool) {
	if k.tree == nil {
		return false, false
	}
	return constant(k.tree.NativeRep().Expr())
}

func constant(e ast.Expr) (value, known bool) {
	switch e.Kind() {
	case ast.LiteralKind:
		v, ok := e.AsLiteral().Value().(bool)
		return v, ok
	case ast.CallKind:
		call := e.AsCall()
		switch call.FunctionName() {
		case operators.LogicalNot:
			v, ok := constant(call.Args()[0])
			return !v, ok
		case operators.LogicalOr:
			all := true
			for _, a := range call.Args() {
				v, ok := constant(a)
				if ok && v {
					return true, true
				}
				all = all && ok
			}
			return false, all
		case operators.LogicalAnd:
			parts := conjuncts(e)
			all := true
			for _, a := range parts {
				v, ok := constant(a)
				if ok && !v {
					return false, true
				}
				all = all && ok
			}
			if contradict(parts) {
				return false, true
			}
			return all, all
		}
	}
	return false, false
}

func conjuncts(e ast.Expr) []ast.Expr {
	if e.Kind() == ast.CallKind && e.AsCall().FunctionName() == operators.LogicalAnd {
		var out []ast.Expr
		for _, a := range e.AsCall().Args() {
			out = append(out, conjuncts(a)...)
		}
		return out
	}
	return []ast.Expr{e}
}

// bounds is what comparisons leave of one name.
type bounds struct {
	low, high         float64
	lowOpen, highOpen bool
	texts             []string // allowed, when some == or in said so
	some              bool
	not               []string
}

// contradict tells whether comparisons of one name with constants leave no value.
func contradict(parts []ast.Expr) bool {
	left := map[string]*bounds{}
	of := func(name string) *bounds {
		if left[name] == nil {
			left[name] = &bounds{low: math.Inf(-1), high: math.Inf(1)}
		}
		return left[name]
	}
	for _, p := range parts {
		if p.Kind() != ast.CallKind {
			continue
		}
		call := p.AsCall()
		args := call.Args()
		if len(args) != 2 || call.IsMemberFunction() {
			continue
		}
		op := call.FunctionName()
		name, ok := chain(args[0])
		other := args[1]
		if _, level := number(args[0]); !ok || level {
			if name, ok = chain(args[1]); !ok {
				continue
			}
			other = args[0]
			op = map[string]string{operators.Less: operators.Greater, operators.LessEquals: operators.GreaterEquals,
				operators.Greater: operators.Less, operators.GreaterEquals: operators.LessEquals,
				operators.Equals: operators.Equals, operators.NotEquals: operators.NotEquals}[op]
		}
		if n, isNumber := number(other); isNumber {
			b := of(name)
			b.number(op, n)
			continue
		}
		b := of(name)
		switch {
		case op == operators.In && other.Kind() == ast.ListKind:
			var texts []string
			for _, x := range other.AsList().Elements() {
				s, ok := literalText(x)
				if !ok {
					texts = nil
					break
				}
				texts = append(texts, s)
			}
			if texts != nil {
				b.among(texts)
			}
		case op == operators.Equals:
			if s, ok := literalText(other); ok {
				b.among([]string{s})
			}
		case op == operators.NotEquals:
			if s, ok := literalText(other); ok {
				b.not = append(b.not, s)
			}
		}
	}
	for _, b := range left {
		if b.low > b.high || b.low == b.high && (b.lowOpen || b.highOpen) {
			return true
		}
		if b.some && !slices.ContainsFunc(b.texts, func(s string) bool { return !slices.Contains(b.not, s) }) {
			return true
		}
	}
	return false
}

func (b *bounds) number(op string, n float64) {
	low := func(open bool) {
		if n > b.low || n == b.low && open {
			b.low, b.lowOpen = n, open
		}
	}
	high := func(open bool) {
		if n < b.high || n == b.high && open {
			b.high, b.highOpen = n, open
		}
	}
	switch op {
	case operators.Less:
		high(true)
	case operators.LessEquals:
		high(false)
	case operators.Greater:
		low(true)
	case operators.GreaterEquals:
		low(false)
	case operators.Equals:
		low(false)
		high(false)
	}
}

func (b *bounds) among(texts []string) {
	if !b.some {
		b.some, b.texts = true, texts
		return
	}
	b.texts = slices.DeleteFunc(slices.Clone(b.texts), func(s string) bool { return !slices.Contains(texts, s) })
}

func literalText(e ast.Expr) (string, bool) {
	if e.Kind() != ast.LiteralKind {
		return "", false
	}
	s, ok := value(e.AsLiteral()).(string)
	return s, ok
}

// number is the value of a number or of a level's name.
func number(e ast.Expr) (float64, bool) {
	if e.Kind() == ast.IdentKind && slices.Contains(levels, e.AsIdent()) {
		return float64(record.ParseLevel(e.AsIdent())), true
	}
	if e.Kind() != ast.LiteralKind {
		return 0, false
	}
	switch n := value(e.AsLiteral()).(type) {
	case int64:
		return float64(n), true
	case float64:
		return n, true
	}
	return 0, false
}

func value(v ref.Val) any { return v.Value() }
