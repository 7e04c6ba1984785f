package expr

import (
	"cmp"
	"math"
	"slices"
	"strconv"
	"unicode/utf8"

	"cel.dev/cel-go/common/operators"
)

// The kinds of values that closures know. A list or object is JSON; what is done with it is left to cel-go.
const (
	isError uint8 = iota
	isText
	isInt
	isFloat
	isBool
	isTime // nanoseconds
	isJSON
)

type val struct {
	text []byte
	num  uint64
	kind uint8
}

func (v val) float() float64 { return math.Float64frombits(v.num) }

func (v val) isNaN() bool { return v.kind == isFloat && math.IsNaN(v.float()) }

func intVal(n int64) val     { return val{kind: isInt, num: uint64(n)} }
func floatVal(f float64) val { return val{kind: isFloat, num: math.Float64bits(f)} }
func boolVal(b bool) val {
	if b {
		return val{kind: isBool, num: 1}
	}
	return val{kind: isBool}
}

// tri is what a condition comes to.
type tri uint8

const (
	no tri = iota
	yes
	broken
)

func triOf(b bool) tri {
	if b {
		return yes
	}
	return no
}

func (v val) tri() tri {
	if v.kind != isBool {
		return broken
	}
	return tri(v.num)
}

func (t tri) val() val {
	if t == broken {
		return val{}
	}
	return val{kind: isBool, num: uint64(t)}
}

// compareNumbers compares an int and a float, or two floats, that are numbers.
func compareNumbers(x, y val) int {
	f, g := x.float(), y.float()
	if x.kind == isInt {
		f = float64(int64(x.num))
	}
	if y.kind == isInt {
		g = float64(int64(y.num))
	}
	switch { // a float beyond all ints is not rounded to one
	case x.kind == isInt && g < math.MinInt64, y.kind == isInt && f > math.MaxInt64:
		return 1
	case x.kind == isInt && g > math.MaxInt64, y.kind == isInt && f < math.MinInt64:
		return -1
	}
	return cmp.Compare(f, g)
}

// arithmetic computes as CEL does: between values of one kind only, and what does not fit an int is an error.
func arithmetic(r *row, op string, x, y val) val {
	if x.kind == isJSON || y.kind == isJSON || x.kind == isTime || y.kind == isTime {
		r.punt = true
		return val{}
	}
	if x.kind != y.kind {
		return val{}
	}
	switch x.kind {
	case isText:
		if op == operators.Add {
			return val{kind: isText, text: slices.Concat(x.text, y.text)}
		}
	case isFloat:
		a, b := x.float(), y.float()
		switch op {
		case operators.Add:
			return floatVal(a + b)
		case operators.Subtract:
			return floatVal(a - b)
		case operators.Multiply:
			return floatVal(a * b)
		case operators.Divide:
			return floatVal(a / b)
		}
	case isInt:
		return whole(op, int64(x.num), int64(y.num))
	}
	return val{}
}

func whole(op string, a, b int64) val {
	switch op {
	case operators.Add:
		if s := a + b; (s > a) == (b > 0) {
			return intVal(s)
		}
	case operators.Subtract:
		if d := a - b; (d < a) == (b > 0) {
			return intVal(d)
		}
	case operators.Multiply:
		if a == 0 || b == 0 {
			return intVal(0)
		}
		if p := a * b; p/b == a && !(a == -1 && b == math.MinInt64) && !(b == -1 && a == math.MinInt64) {
			return intVal(p)
		}
	case operators.Divide:
		if b != 0 && !(a == math.MinInt64 && b == -1) {
			return intVal(a / b)
		}
	case operators.Modulo:
		if b != 0 && !(a == math.MinInt64 && b == -1) {
			return intVal(a % b)
		}
	}
	return val{}
}

// convert computes string(), int(), double() and size().
func convert(r *row, to string, v val) val {
	if v.kind == isJSON || v.kind == isTime {
		r.punt = true
		return val{}
	}
	if v.kind == isError {
		return v
	}
	switch to {
	case "string":
		switch v.kind {
		case isInt:
			return val{kind: isText, text: strconv.AppendInt(nil, int64(v.num), 10)}
		case isFloat:
			return val{kind: isText, text: strconv.AppendFloat(nil, v.float(), 'g', -1, 64)}
		case isBool:
			return val{kind: isText, text: strconv.AppendBool(nil, v.num != 0)}
		}
		return v
	case "size":
		if v.kind == isText {
			return intVal(int64(utf8.RuneCount(v.text)))
		}
	case "int":
		switch v.kind {
		case isInt:
			return v
		case isFloat:
			if f := v.float(); f > math.MinInt64 && f < math.MaxInt64 {
				return intVal(int64(f))
			}
		case isText:
			if n, err := strconv.ParseInt(string(v.text), 10, 64); err == nil {
				return intVal(n)
			}
		}
	case "double":
		switch v.kind {
		case isFloat:
			return v
		case isInt:
			return floatVal(float64(int64(v.num)))
		case isText:
			if f, err := strconv.ParseFloat(string(v.text), 64); err == nil {
				return floatVal(f)
			}
		}
	}
	return val{}
}
