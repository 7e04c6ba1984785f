package expr

import (
	"fmt"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
)

// NumberCondition is a condition over numbers some of which may not be known.
type NumberCondition struct {
	Text  string
	names []string
	uses  []string
	prog  cel.Program
}

// ParseNumbers reads a condition over numbers of some names, such as failing > 0 || unparsed_share > 0.2.
func ParseNumbers(text string, names []string) (*NumberCondition, error) {
	scope := Scope{Names: map[string]Type{}}
	for _, n := range names {
		scope.Names[n] = Float
	}
	c, err := NewChecker(scope)
	if err != nil {
		return nil, err
	}
	k, p, err := c.condition(text, cel.EvalOptions(cel.OptPartialEval))
	if err != nil {
		return nil, err
	}
	return &NumberCondition{Text: text, names: names, uses: k.Uses(), prog: p}, nil
}

// condition reads a text that is true or false.
func (c *Checker) condition(text string, with ...cel.ProgramOption) (Checked, cel.Program, error) {
	k, err := c.Check(text, Bool)
	if err != nil {
		return k, nil, err
	}
	if k.Type != Bool {
		return k, nil, fmt.Errorf("%q is not a condition that is true or false", text)
	}
	p, err := c.env.Program(k.tree, append(with, cel.CostLimit(costLimit))...)
	return k, p, err
}

// Uses are the names that the condition uses.
func (n *NumberCondition) Uses() []string { return n.uses }

// Met tells whether the condition holds for the numbers that are known. known is false when that depends on others.
func (n *NumberCondition) Met(numbers map[string]float64) (met, known bool) {
	vars, missing := map[string]any{}, []*cel.AttributePatternType{}
	for _, name := range n.names {
		if v, ok := numbers[name]; ok {
			vars[name] = v
		} else {
			missing = append(missing, cel.AttributePattern(name))
		}
	}
	in, err := cel.PartialVars(vars, missing...)
	if err != nil {
		return false, false
	}
	out, _, err := n.prog.Eval(in)
	if err != nil || types.IsUnknown(out) {
		return false, false
	}
	return out == types.True, true
}
