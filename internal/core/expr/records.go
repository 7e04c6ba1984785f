package expr

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"synaxis/internal/core/record"
)

// costLimit bounds what one expression may cost for one record, in units of cel-go's cost model. What goes beyond it
// is an error of the expression, as any other.
const costLimit = 100_000

// recordChecker is for expressions on the data path: the desk has checked names and types, here they count as they
// come.
var recordChecker = sync.OnceValues(func() (*Checker, error) {
	c, err := NewChecker(Scope{Record: true, Open: []string{"fields", "labels"}, Texts: []string{"labels"}})
	if err == nil {
		c.flat = true
	}
	return c, err
})

// Program is an expression that is ready to be computed over records. It belongs to one goroutine.
type Program struct {
	text string
	cond cond // of a condition that closures can compute
	fn   fn   // of a value likewise
	slow cel.Program
	row  row
}

// Compile makes an expression ready for records whose fields have the names of a schema. With condition it must be
// true or false. Comparisons, in, has, logic, arithmetic and functions of texts become closures over the slots of the
// schema; anything else runs in cel-go. Both agree, errors included.
func Compile(text string, condition bool, schema *record.Schema) (*Program, error) {
	c, err := recordChecker()
	if err != nil {
		return nil, err
	}
	want := Dyn
	if condition {
		want = Bool
	}
	k, err := c.Check(text, want)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", text, err)
	}
	p := &Program{text: text}
	if p.slow, err = c.env.Program(k.tree, cel.CostLimit(costLimit)); err != nil {
		return nil, fmt.Errorf("%s: %w", text, err)
	}
	t := translator{schema: schema}
	if condition {
		p.cond = t.condition(k.tree.NativeRep().Expr())
	} else {
		p.fn = t.value(k.tree.NativeRep().Expr())
	}
	return p, nil
}

// Text is the expression as it was written.
func (p *Program) Text() string { return p.text }

// Native tells whether closures compute the expression.
func (p *Program) Native() bool { return p.cond != nil || p.fn != nil }

// Met tells whether a record meets a condition. failed means that it could not be computed, because a field is missing
// or of another type; it is then not met.
func (p *Program) Met(b *record.Batch, r *record.Record) (met, failed bool) {
	if p.cond != nil {
		p.row.b, p.row.r, p.row.punt = b, r, false
		got := p.cond(&p.row)
		if !p.row.punt {
			return got == yes, got == broken
		}
	}
	out, _, err := p.slow.Eval(activation{b, r})
	if v, ok := out.(types.Bool); ok && err == nil {
		return bool(v), false
	}
	return false, true
}

// Value computes a value for a record and puts what it needs into the batch. there is false for null, which takes a
// field away; failed means that it could not be computed.
func (p *Program) Value(b *record.Batch, r *record.Record) (v record.Value, there, failed bool) {
	if p.fn != nil {
		p.row.b, p.row.r, p.row.punt = b, r, false
		got := p.fn(&p.row)
		if !p.row.punt {
			v, ok := got.put(b)
			return v, true, !ok
		}
	}
	out, _, err := p.slow.Eval(activation{b, r})
	if err != nil {
		return v, false, true
	}
	return putCEL(b, out)
}

// put makes a value a field; a time becomes text.
func (v val) put(b *record.Batch) (record.Value, bool) {
	switch v.kind {
	case isText:
		return record.Value{Span: b.Put(v.text)}, true
	case isInt:
		return record.Value{Kind: record.Int, Num: v.num}, true
	case isFloat:
		return record.Value{Kind: record.Float, Num: v.num}, true
	case isBool:
		return record.Value{Kind: record.Bool, Num: v.num}, true
	case isTime:
		return record.Value{Span: b.Put(time.Unix(0, int64(v.num)).UTC().AppendFormat(nil, time.RFC3339Nano))}, true
	case isJSON:
		return record.Value{Kind: record.JSON, Span: b.Put(v.text)}, true
	}
	return record.Value{}, false
}

func putCEL(b *record.Batch, out ref.Val) (v record.Value, there, failed bool) {
	x := val{kind: isError}
	switch o := out.(type) {
	case types.Null:
		return v, false, false
	case types.String:
		x = val{kind: isText, text: []byte(o)}
	case types.Int:
		x = intVal(int64(o))
	case types.Uint:
		x = intVal(int64(o))
	case types.Double:
		x = floatVal(float64(o))
	case types.Bool:
		x = boolVal(bool(o))
	case types.Timestamp:
		x = val{kind: isTime, num: uint64(o.UnixNano())}
	case types.Duration:
		x = val{kind: isText, text: []byte(o.String())}
	default:
		if text, err := json.Marshal(native(out)); err == nil {
			x = val{kind: isJSON, text: text}
		}
	}
	v, ok := x.put(b)
	return v, true, !ok
}

// native makes lists and maps plain, so that they can be written as JSON.
func native(v ref.Val) any {
	switch v := v.Value().(type) {
	case []ref.Val:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = native(x)
		}
		return out
	case map[ref.Val]ref.Val:
		out := map[string]any{}
		for k, x := range v {
			out[fmt.Sprint(k.Value())] = native(x)
		}
		return out
	case time.Time, time.Duration:
		return fmt.Sprint(v)
	default:
		return v
	}
}

// activation is a record as cel-go sees it.
type activation struct {
	b *record.Batch
	r *record.Record
}

func (a activation) Parent() cel.Activation { return nil }

func (a activation) ResolveName(name string) (any, bool) {
	r := row{b: a.b, r: a.r}
	if v := r.known(name); v.kind != isError {
		return v.cel(), true
	}
	switch name {
	case "fields":
		all := map[string]any{}
		for _, v := range a.b.Fields(a.r) {
			all[a.b.Schema.Name(v.Slot)] = r.of(v).cel()
		}
		return all, true
	case "labels":
		all := map[string]string{}
		if a.b.Origin != nil {
			for _, l := range a.b.Origin.Labels {
				all[l.Key] = l.Value
			}
		}
		return all, true
	}
	return nil, false
}

func (v val) cel() any {
	switch v.kind {
	case isText:
		return string(v.text)
	case isInt:
		return int64(v.num)
	case isFloat:
		return v.float()
	case isBool:
		return v.num != 0
	case isTime:
		return time.Unix(0, int64(v.num)).UTC()
	case isJSON:
		d := json.NewDecoder(strings.NewReader(string(v.text)))
		d.UseNumber()
		var x any
		if d.Decode(&x) == nil {
			return numbers(x)
		}
	}
	return nil
}

// numbers makes whole numbers of JSON ints and all others floats, as fields have them.
func numbers(x any) any {
	switch x := x.(type) {
	case json.Number:
		if n, err := strconv.ParseInt(x.String(), 10, 64); err == nil {
			return n
		}
		f, _ := x.Float64()
		return f
	case []any:
		for i := range x {
			x[i] = numbers(x[i])
		}
	case map[string]any:
		for k := range x {
			x[k] = numbers(x[k])
		}
	}
	return x
}

// flatten makes every dotted name of an open space one name: fields.a.b is fields["a.b"], and has(fields.a.b) asks
// whether it is there.
func (c *Checker) flatten(root ast.Expr, local map[string]bool) {
	factory := ast.NewExprFactory()
	id := int64(1 << 20) // beyond all that a parser gave
	var visit func(e ast.Expr)
	visit = func(e ast.Expr) {
		name, ok := chain(e)
		space, rest, dotted := strings.Cut(name, ".")
		if !ok || local[space] || !slices.Contains(c.scope.Open, space) {
			for _, k := range children(e) {
				visit(k)
			}
			return
		}
		if !dotted {
			return
		}
		id += 2
		key, of := factory.NewLiteral(id, types.String(rest)), factory.NewIdent(id+1, space)
		if e.Kind() == ast.SelectKind && e.AsSelect().IsTestOnly() {
			e.SetKindCase(factory.NewCall(e.ID(), operators.In, key, of))
			return
		}
		e.SetKindCase(factory.NewCall(e.ID(), operators.Index, of, key))
	}
	visit(root)
}
