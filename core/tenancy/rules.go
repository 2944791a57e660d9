// Package tenancy decides to which tenant a workload's usage is accounted: by ordered rules, first match wins.
//
// Rules are CEL expressions (the Common Expression Language) over a workload's attributes. The package is pure; it
// imports core/account and the CEL library only. Start with Compile.
package tenancy

import (
	"fmt"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"

	"vinescale/core/account"
)

// Attributes names what a rule may ask about a workload, with its CEL type.
const Attributes = `kind, name, owner, host, path: string; uid: int (-1 when not known); labels: map of string to string`

// Rule is one compiled rule.
type Rule struct {
	ID, TenantID int32
	Expression   string
	program      cel.Program
}

var environment, environmentErr = cel.NewEnv(
	cel.Variable("kind", cel.StringType), cel.Variable("name", cel.StringType), cel.Variable("owner", cel.StringType),
	cel.Variable("uid", cel.IntType), cel.Variable("host", cel.StringType), cel.Variable("path", cel.StringType),
	cel.Variable("labels", cel.MapType(cel.StringType, cel.StringType)),
)

// MaxExpression bounds a rule's length in bytes.
const MaxExpression = 4096

// maxCost bounds what one evaluation may cost, in CEL's own units, so that no rule holds up the intake.
const maxCost = 100_000

// Compile checks an expression. The error shows where it is wrong.
func Compile(id, tenantID int32, expression string) (Rule, error) {
	if environmentErr != nil {
		return Rule{}, environmentErr
	}
	if len(expression) > MaxExpression {
		return Rule{}, fmt.Errorf("the rule is %d bytes long; at most %d are taken", len(expression), MaxExpression)
	}
	ast, issues := environment.Compile(expression)
	if issues.Err() != nil {
		return Rule{}, fmt.Errorf("the rule does not compile:\n%s\na rule may ask about %s", where(expression, issues), Attributes)
	}
	if ast.OutputType() != cel.BoolType {
		return Rule{}, fmt.Errorf("the rule gives %s, not true or false: compare something, as in kind == 'container'", ast.OutputType())
	}
	program, err := environment.Program(ast, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(maxCost))
	if err != nil {
		return Rule{}, fmt.Errorf("the rule cannot be run: %w", err)
	}
	return Rule{id, tenantID, expression, program}, nil
}

// where shows each mistake under the place it is at.
func where(expression string, issues *cel.Issues) string {
	lines := strings.Split(expression, "\n")
	var b strings.Builder
	for _, e := range issues.Errors() {
		if n := e.Location.Line(); n >= 1 && n <= len(lines) {
			fmt.Fprintf(&b, "  %s\n  %s^ ", lines[n-1], strings.Repeat(" ", max(e.Location.Column(), 0)))
		}
		fmt.Fprintf(&b, "%s\n", e.Message)
	}
	return strings.TrimRight(b.String(), "\n")
}

// Matches tells whether a workload meets the rule. A rule that fails on a workload, as by asking for a label that it
// has not, does not match it.
func (r Rule) Matches(host string, w *account.Workload) bool {
	labels := w.Labels
	if labels == nil {
		labels = map[string]string{}
	}
	out, _, err := r.program.Eval(map[string]any{
		"kind": w.Kind.String(), "name": w.Name, "owner": w.Owner, "uid": w.UID, "host": host, "path": w.Path, "labels": labels,
	})
	return err == nil && out == types.True
}

// Book is an ordered list of rules.
type Book []Rule

// Assign returns the tenant and rule of the first match; zeros when nothing matches.
func (b Book) Assign(host string, w account.Workload) (tenantID, ruleID int32) {
	for i := range b {
		if b[i].Matches(host, &w) {
			return b[i].TenantID, b[i].ID
		}
	}
	return 0, 0
}

// With is the list with one more rule at a position from 1, or last for 0. The list itself is not changed.
func (b Book) With(position int, r Rule) Book {
	at := len(b)
	if position > 0 && position <= len(b) {
		at = position - 1
	}
	return slices.Insert(slices.Clone(b), at, r)
}
