package expr

import (
	"bytes"
	"cmp"
	"math"
	"regexp"
	"slices"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"synaxis/internal/core/record"
)

// row is the record that is looked at. punt is set when only cel-go can go on.
type row struct {
	b    *record.Batch
	r    *record.Record
	punt bool
	was  [16]uint8 // by the low bits of a slot: where the record before had it
}

type (
	cond func(*row) tri
	fn   func(*row) val
)

func (r *row) of(v record.Value) val {
	switch v.Kind {
	case record.Int:
		return val{kind: isInt, num: v.Num}
	case record.Float:
		return val{kind: isFloat, num: v.Num}
	case record.Bool:
		return val{kind: isBool, num: v.Num}
	case record.JSON:
		return val{kind: isJSON, text: r.b.Bytes(v.Span)}
	}
	return val{kind: isText, text: r.b.Bytes(v.Span)}
}

// field finds a field; records of one log mostly have it in the same place.
func (r *row) field(slot uint16) *record.Value {
	values := r.b.Values[r.r.First : r.r.First+uint32(r.r.N)]
	was := &r.was[slot&15]
	if i := int(*was); i < len(values) && values[i].Slot == slot {
		return &values[i]
	}
	for i := range values {
		if values[i].Slot == slot {
			*was = uint8(min(i, 255))
			return &values[i]
		}
	}
	return nil
}

func (r *row) label(key string) (string, bool) {
	if r.b.Origin != nil {
		for _, l := range r.b.Origin.Labels {
			if l.Key == key {
				return l.Value, true
			}
		}
	}
	return "", false
}

// known is the value of a name that every record has; an error for a level that was never set, and for any other name.
func (r *row) known(name string) val {
	switch name {
	case "level":
		if r.r.Level != 0 {
			return intVal(int64(r.r.Level))
		}
	case "body":
		return val{kind: isText, text: r.b.Bytes(r.r.Body)}
	case "time":
		return val{kind: isTime, num: uint64(r.r.Time)}
	case "observed":
		return val{kind: isTime, num: uint64(r.r.Observed)}
	case "source", "host":
		if o := r.b.Origin; o != nil && name == "source" {
			return val{kind: isText, text: []byte(o.Source)}
		} else if o != nil {
			return val{kind: isText, text: []byte(o.Host)}
		}
	}
	return val{}
}

// translator makes closures of a checked tree. Its methods answer nil for what is left to cel-go.
type translator struct{ schema *record.Schema }

// condition translates an expression that is true or false.
func (t translator) condition(e ast.Expr) cond {
	if e.Kind() == ast.CallKind {
		call := e.AsCall()
		args := call.Args()
		switch name := call.FunctionName(); name {
		case operators.LogicalAnd, operators.LogicalOr:
			a, b := t.condition(args[0]), t.condition(args[1])
			if a == nil || b == nil {
				return nil
			}
			end, other := no, yes
			if name == operators.LogicalOr {
				end, other = yes, no
			}
			return func(r *row) tri {
				x := a(r)
				if x == end {
					return end
				}
				y := b(r)
				if y == end {
					return end
				}
				if x == broken || y == broken {
					return broken
				}
				return other
			}
		case operators.LogicalNot:
			if a := t.condition(args[0]); a != nil {
				return func(r *row) tri {
					switch a(r) {
					case no:
						return yes
					case yes:
						return no
					}
					return broken
				}
			}
			return nil
		case operators.Equals,
			operators.NotEquals,
			operators.Less,
			operators.LessEquals,
			operators.Greater,
			operators.GreaterEquals:
			return t.comparison(name, args[0], args[1])
		case operators.In:
			return t.in(args[0], args[1])
		case "startsWith", "endsWith", "contains", "matches":
			if call.IsMemberFunction() && len(args) == 1 {
				return t.textTest(name, call.Target(), args[0])
			}
			if name == "matches" && len(args) == 2 {
				return t.textTest(name, args[0], args[1])
			}
			return nil
		}
	}
	v := t.value(e)
	if v == nil {
		return nil
	}
	return func(r *row) tri {
		x := v(r)
		return x.tri()
	}
}

// slot is the slot of an expression that is one field.
func (t translator) slot(e ast.Expr) (uint16, bool) {
	space, key, ok := indexed(e)
	if !ok || space != "fields" {
		return 0, false
	}
	return t.schema.Slot([]byte(key))
}

func indexed(e ast.Expr) (space, key string, ok bool) {
	if e.Kind() != ast.CallKind || e.AsCall().FunctionName() != operators.Index {
		return "", "", false
	}
	args := e.AsCall().Args()
	if args[0].Kind() != ast.IdentKind || args[1].Kind() != ast.LiteralKind {
		return "", "", false
	}
	text, ok := args[1].AsLiteral().(types.String)
	return args[0].AsIdent(), string(text), ok
}

// literal is the value of a constant.
func literal(e ast.Expr) (val, bool) {
	switch e.Kind() {
	case ast.LiteralKind:
		switch v := e.AsLiteral().(type) {
		case types.String:
			return val{kind: isText, text: []byte(v)}, true
		case types.Int:
			return intVal(int64(v)), true
		case types.Double:
			return floatVal(float64(v)), true
		case types.Bool:
			return boolVal(bool(v)), true
		}
	case ast.IdentKind:
		if name := e.AsIdent(); slices.Contains(levels, name) {
			return intVal(int64(record.ParseLevel(name))), true
		}
	}
	return val{}, false
}

// comparison translates == != < <= > >=. A whole number that stands beside a field, and a text, are looked at most,
// and first.
func (t translator) comparison(op string, left, right ast.Expr) cond {
	if lit, ok := literal(right); ok && lit.kind != isBool {
		if slot, ok := t.slot(left); ok {
			return t.fieldTest(op, slot, lit)
		}
		if left.Kind() == ast.IdentKind && left.AsIdent() == "level" && lit.kind == isInt {
			n := int64(lit.num)
			return func(r *row) tri {
				if r.r.Level == 0 {
					return broken
				}
				return ordered(op, cmp.Compare(int64(r.r.Level), n))
			}
		}
	}
	a, b := t.value(left), t.value(right)
	if a == nil || b == nil {
		return nil
	}
	return func(r *row) tri {
		x, y := a(r), b(r)
		return compare(r, op, x, y)
	}
}

func (t translator) fieldTest(op string, slot uint16, lit val) cond {
	n, text, equality := int64(lit.num), lit.text, op == operators.Equals || op == operators.NotEquals
	negate := op == operators.NotEquals
	return func(r *row) tri {
		v := r.field(slot)
		switch {
		case v == nil:
			return broken
		case v.Kind == record.Int && lit.kind == isInt:
			return ordered(op, cmp.Compare(int64(v.Num), n))
		case v.Kind == record.Text && lit.kind == isText && equality:
			return triOf(string(r.b.Bytes(v.Span)) == string(text) != negate)
		}
		return compare(r, op, r.of(*v), lit)
	}
}

func ordered(op string, c int) tri {
	switch op {
	case operators.Equals:
		return triOf(c == 0)
	case operators.NotEquals:
		return triOf(c != 0)
	case operators.Less:
		return triOf(c < 0)
	case operators.LessEquals:
		return triOf(c <= 0)
	case operators.Greater:
		return triOf(c > 0)
	}
	return triOf(c >= 0)
}

// compare compares as CEL does: numbers of different kinds compare, values of other different kinds are unequal and
// have no order. NaN is neither less nor more than anything, nor equal.
func compare(r *row, op string, x, y val) tri {
	if x.kind == isError || y.kind == isError {
		return broken
	}
	if x.kind == isJSON || y.kind == isJSON {
		r.punt = true
		return broken
	}
	if x.isNaN() || y.isNaN() {
		return triOf(op == operators.NotEquals)
	}
	equality := op == operators.Equals || op == operators.NotEquals
	c, comparable := 0, true
	switch {
	case x.kind == isText && y.kind == isText:
		c = bytes.Compare(x.text, y.text)
	case x.kind == isInt && y.kind == isInt,
		x.kind == isTime && y.kind == isTime,
		x.kind == isBool && y.kind == isBool:
		c = cmp.Compare(int64(x.num), int64(y.num))
	case (x.kind == isInt || x.kind == isFloat) && (y.kind == isInt || y.kind == isFloat):
		c = compareNumbers(x, y)
	default:
		comparable = false
	}
	if !comparable {
		if equality {
			return triOf(op == operators.NotEquals)
		}
		return broken
	}
	return ordered(op, c)
}

// in translates x in [constants], and has(), which comes as "name" in fields.
func (t translator) in(left, right ast.Expr) cond {
	if lit, ok := literal(left); ok && lit.kind == isText && right.Kind() == ast.IdentKind {
		key := string(lit.text)
		switch right.AsIdent() {
		case "fields":
			slot, ok := t.schema.Slot(lit.text)
			if !ok {
				return nil
			}
			return func(r *row) tri {
				there := r.field(slot) != nil
				return triOf(there)
			}
		case "labels":
			return func(r *row) tri {
				_, there := r.label(key)
				return triOf(there)
			}
		}
		return nil
	}
	if right.Kind() != ast.ListKind {
		return nil
	}
	v := t.value(left)
	if v == nil {
		return nil
	}
	var list []val
	for _, e := range right.AsList().Elements() {
		lit, ok := literal(e)
		if !ok || lit.kind == isInt && (int64(lit.num) >= 1<<53 || int64(lit.num) <= -1<<53) ||
			lit.kind == isFloat && !(math.Abs(lit.float()) < 1<<53) {
			return nil // sets of numbers that floats cannot tell apart
		}
		list = append(list, lit)
	}
	return func(r *row) tri {
		x := v(r)
		if x.kind == isError {
			return broken
		}
		if x.kind == isJSON {
			r.punt = true
			return broken
		}
		for i := range list {
			if x.kind == isText {
				if list[i].kind == isText && string(list[i].text) == string(x.text) {
					return yes
				}
			} else if compare(r, operators.Equals, x, list[i]) == yes {
				return yes
			}
		}
		return no
	}
}

// textTest translates startsWith, endsWith, contains and matches with a constant expression.
func (t translator) textTest(name string, target, arg ast.Expr) cond {
	x, y := t.value(target), t.value(arg)
	if x == nil || y == nil {
		return nil
	}
	var re *regexp.Regexp
	if name == "matches" {
		lit, ok := literal(arg)
		if !ok {
			return nil
		}
		var err error
		if re, err = regexp.Compile(string(lit.text)); err != nil {
			return nil
		}
	}
	return func(r *row) tri {
		a, b := x(r), y(r)
		if a.kind == isJSON || b.kind == isJSON {
			r.punt = true
		}
		if a.kind != isText || b.kind != isText {
			return broken
		}
		switch name {
		case "startsWith":
			return triOf(bytes.HasPrefix(a.text, b.text))
		case "endsWith":
			return triOf(bytes.HasSuffix(a.text, b.text))
		case "contains":
			return triOf(bytes.Contains(a.text, b.text))
		}
		return triOf(re.Match(a.text))
	}
}

// value translates an expression that gives any value.
func (t translator) value(e ast.Expr) fn {
	if lit, ok := literal(e); ok {
		return func(*row) val { return lit }
	}
	if slot, ok := t.slot(e); ok {
		return func(r *row) val {
			v := r.field(slot)
			if v == nil {
				return val{}
			}
			return r.of(*v)
		}
	}
	if space, key, ok := indexed(e); ok && space == "labels" {
		return func(r *row) val {
			if v, ok := r.label(key); ok {
				return val{kind: isText, text: []byte(v)}
			}
			return val{}
		}
	}
	switch e.Kind() {
	case ast.IdentKind:
		name := e.AsIdent()
		if _, ok := recordNames[name]; !ok {
			return nil
		}
		return func(r *row) val { return r.known(name) }
	case ast.CallKind:
		return t.call(e.AsCall())
	}
	return nil
}

func (t translator) call(call ast.CallExpr) fn {
	args := call.Args()
	switch name := call.FunctionName(); name {
	case operators.LogicalAnd,
		operators.LogicalOr,
		operators.LogicalNot,
		operators.Equals,
		operators.NotEquals,
		operators.Less,
		operators.LessEquals,
		operators.Greater,
		operators.GreaterEquals,
		operators.In,
		"startsWith",
		"endsWith",
		"contains",
		"matches":
		f := factoryOf(call)
		if c := t.condition(f); c != nil {
			return func(r *row) val { return c(r).val() }
		}
	case operators.Conditional:
		c, a, b := t.condition(args[0]), t.value(args[1]), t.value(args[2])
		if c == nil || a == nil || b == nil {
			return nil
		}
		return func(r *row) val {
			switch c(r) {
			case yes:
				return a(r)
			case no:
				return b(r)
			}
			return val{}
		}
	case operators.Add, operators.Subtract, operators.Multiply, operators.Divide, operators.Modulo:
		a, b := t.value(args[0]), t.value(args[1])
		if a == nil || b == nil {
			return nil
		}
		return func(r *row) val { return arithmetic(r, name, a(r), b(r)) }
	case operators.Negate:
		if a := t.value(args[0]); a != nil {
			return func(r *row) val {
				switch v := a(r); {
				case v.kind == isInt && int64(v.num) != math.MinInt64:
					return intVal(-int64(v.num))
				case v.kind == isFloat:
					return floatVal(-v.float())
				}
				return val{}
			}
		}
	case "string", "int", "double", "size":
		of := call.Target()
		if !call.IsMemberFunction() && len(args) == 1 {
			of = args[0]
		} else if name != "size" || len(args) > 0 {
			return nil
		}
		if a := t.value(of); a != nil {
			return func(r *row) val { return convert(r, name, a(r)) }
		}
	}
	return nil
}

// factoryOf makes a call an expression again.
func factoryOf(call ast.CallExpr) ast.Expr {
	f := ast.NewExprFactory()
	if call.IsMemberFunction() {
		return f.NewMemberCall(0, call.FunctionName(), call.Target(), call.Args()...)
	}
	return f.NewCall(0, call.FunctionName(), call.Args()...)
}
