// Package tenancy decides to which tenant a workload's usage is accounted: by ordered rules, first match wins; and
// suggests rules for what is accounted to none. It also tells which limit of a tenant's was in force when.
//
// Rules are CEL expressions (the Common Expression Language) over a workload's attributes; listings are filtered by the
// same language. The package is pure; it imports core/account and the CEL library only. Start with Compile.
package tenancy

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Attributes names what a rule may ask about a workload, with its CEL type.
const Attributes = `kind, name, owner, host, path, image, pod, pod_namespace, account, partition, unit, ` +
	`program: string; uid: int (-1 when not known); groups (of the owner), pools (of the host): list of string; ` +
	`labels: map of string to string`

// Attribute is one thing that a rule may ask about.
type Attribute struct {
	Name   string   `json:"name"`
	Type   string   `json:"type" enum:"text,number,list,map" doc:"A list and a map are of texts."`
	Values []string `json:"values,omitempty" doc:"All values there are; left out where anything may stand."`
}

// ListAttributes lists what Attributes names, one by one.
func ListAttributes() []Attribute {
	kinds := []string{}
	for _, k := range amount.Kinds() {
		kinds = append(kinds, k.String())
	}
	list := []Attribute{{"kind", "text", kinds}, {"name", "text", nil}, {"owner", "text", nil}, {"host", "text", nil},
		{"path", "text", nil}}
	for _, name := range slices.Sorted(maps.Keys(factAttributes)) {
		list = append(list, Attribute{name, "text", nil})
	}
	return append(list, Attribute{"uid", "number", nil}, Attribute{"groups", "list", nil},
		Attribute{"pools", "list", nil}, Attribute{"labels", "map", nil})
}

// Subject is a workload with the host it is on: what a rule judges.
type Subject struct {
	Host     string
	Pools    []string
	Workload account.Workload
}

// Rule is one compiled rule.
type Rule struct {
	ID, TenantID int32
	Expression   string
	program      cel.Program
	asks         map[string]bool // attributes it asks about
}

// factAttributes are the attributes that are facts. The bare word namespace is reserved in CEL.
var factAttributes = map[string]string{
	"image": account.FactImage, "pod": account.FactPod, "pod_namespace": account.FactNamespace,
	"account":   account.FactAccount,
	"partition": account.FactPartition, "unit": account.FactUnit, "program": account.FactProgram,
}

var environment, environmentErr = newEnvironment()

func newEnvironment() (*cel.Env, error) {
	options := []cel.EnvOption{
		cel.Variable("uid", cel.IntType), cel.Variable("labels", cel.MapType(cel.StringType, cel.StringType)),
		cel.Variable("groups", cel.ListType(cel.StringType)), cel.Variable("pools", cel.ListType(cel.StringType)),
	}
	for _, name := range []string{"kind", "name", "owner", "host", "path"} {
		options = append(options, cel.Variable(name, cel.StringType))
	}
	for name := range factAttributes {
		options = append(options, cel.Variable(name, cel.StringType))
	}
	return cel.NewEnv(options...)
}

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
	checked, issues := environment.Compile(expression)
	if issues.Err() != nil {
		return Rule{}, fmt.Errorf("the rule does not compile:\n%s\na rule may ask about %s", where(expression, issues),
			Attributes)
	}
	if checked.OutputType() != cel.BoolType {
		return Rule{}, fmt.Errorf("the rule gives %s, not true or false: compare something, as in kind == 'container'",
			checked.OutputType())
	}
	program, err := environment.Program(checked, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(maxCost))
	if err != nil {
		return Rule{}, fmt.Errorf("the rule cannot be run: %w", err)
	}
	asks := map[string]bool{}
	for _, e := range ast.MatchDescendants(ast.NavigateAST(checked.NativeRep()), ast.KindMatcher(ast.IdentKind)) {
		asks[e.AsIdent()] = true
	}
	return Rule{id, tenantID, expression, program, asks}, nil
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
func (r Rule) Matches(s Subject) bool {
	out, _, err := r.program.Eval(s.attributes())
	return err == nil && out == types.True
}

func (s *Subject) attributes() map[string]any {
	w := &s.Workload
	labels, groups, pools := w.Labels, []string{}, s.Pools
	if labels == nil {
		labels = map[string]string{}
	}
	if g := w.Facts[account.FactGroups]; g != "" {
		groups = strings.Split(g, ",")
	}
	if pools == nil {
		pools = []string{}
	}
	a := map[string]any{
		"kind": w.Kind.String(), "name": w.Name, "owner": w.Owner, "uid": w.UID, "host": s.Host, "path": w.Path,
		"labels": labels, "groups": groups, "pools": pools,
	}
	for name, fact := range factAttributes {
		a[name] = w.Facts[fact]
	}
	return a
}

// Book is an ordered list of rules.
type Book []Rule

// AsksFor tells whether some rule asks about an attribute.
func (b Book) AsksFor(attribute string) bool {
	return slices.ContainsFunc(b, func(r Rule) bool { return r.asks[attribute] })
}

// Assign returns the first rule that matches; its zero value, of no tenant, when none does.
func (b Book) Assign(s Subject) Rule {
	for i := range b {
		if b[i].Matches(s) {
			return b[i]
		}
	}
	return Rule{}
}

// With is the list with one more rule at a position from 1, or last for 0. The list itself is not changed.
func (b Book) With(position int, r Rule) Book {
	at := len(b)
	if position > 0 && position <= len(b) {
		at = position - 1
	}
	return slices.Insert(slices.Clone(b), at, r)
}
