package tenancy

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"

	"vinescale/core/amount"
)

// Condition is a compiled expression over a workload and what it used in one minute: what a rule may ask about, and the
// mean of each resource by the name that listings call it, such as cpu_cores_mean.
type Condition struct {
	Expression string
	program    cel.Program
	measures   []amount.Measure
}

// figureNames are the resources by the names of their means.
func figureNames() map[string]amount.Measure {
	names := map[string]amount.Measure{}
	for _, r := range amount.Resources() {
		names[r.MeanField()] = r
	}
	return names
}

var conditions, conditionsErr = newConditions()

func newConditions() (*cel.Env, error) {
	if environmentErr != nil {
		return nil, environmentErr
	}
	var options []cel.EnvOption
	for name := range figureNames() {
		options = append(options, cel.Variable(name, cel.DoubleType))
	}
	return environment.Extend(options...)
}

// CompileCondition checks a condition. The error shows where it is wrong, and what may be asked about.
func CompileCondition(expression string) (*Condition, error) {
	if conditionsErr != nil {
		return nil, conditionsErr
	}
	if len(expression) > MaxExpression {
		return nil, fmt.Errorf(
			"the condition is %d bytes long; at most %d are taken",
			len(expression),
			MaxExpression,
		)
	}
	checked, issues := conditions.Compile(expression)
	if issues.Err() != nil {
		return nil, fmt.Errorf(
			"the condition does not compile:\n%s\na condition may ask about %s; and about numbers such as "+
				"4.0: %s",
			where(expression, issues),
			Attributes,
			strings.Join(slices.Sorted(maps.Keys(figureNames())), ", "),
		)
	}
	if checked.OutputType() != cel.BoolType {
		return nil, fmt.Errorf(
			"the condition gives %s, not true or false: compare something, as in cpu_cores_mean > 4.0",
			checked.OutputType(),
		)
	}
	program, err := conditions.Program(checked, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(maxCost))
	if err != nil {
		return nil, fmt.Errorf("the condition cannot be run: %w", err)
	}
	c := &Condition{Expression: expression, program: program}
	names := figureNames()
	for _, e := range ast.MatchDescendants(ast.NavigateAST(checked.NativeRep()), ast.KindMatcher(ast.IdentKind)) {
		if m, is := names[e.AsIdent()]; is && !slices.Contains(c.measures, m) {
			c.measures = append(c.measures, m)
		}
	}
	slices.Sort(c.measures)
	return c, nil
}

// Measures are those that the condition asks about.
func (c *Condition) Measures() []amount.Measure { return c.measures }

// Holds tells whether a workload meets the condition by what it used in a minute. Means are in the resources' mean
// units; one that is not told is left out, and a condition that asks for it does not hold.
func (c *Condition) Holds(s Subject, means map[amount.Measure]float64) bool {
	a := s.attributes()
	for name, m := range figureNames() {
		if mean, told := means[m]; told {
			a[name] = mean
		}
	}
	out, _, err := c.program.Eval(a)
	return err == nil && out == types.True
}
