package tenancy

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// Weighed is an unassigned workload with what it used, in any one unit.
type Weighed struct {
	Subject
	Used float64
}

// Cluster is a group of similar unassigned workloads with a rule that would match all of them.
type Cluster struct {
	Expression string
	About      string // what they have in common, for people
	Members    []Weighed
	Used       float64
}

// Suggest puts unassigned workloads that are alike together, and says for each group the rule that names what they
// have in common: most used first.
//
// What is alike is decided by the attribute that a site is most likely to account by: a job's account, a pod's
// namespace, a container's project label or owner, a unit's name; else the owner.
func Suggest(unassigned []Weighed) []Cluster {
	clusters := map[string]*Cluster{}
	for _, w := range unassigned {
		expression, about := likeness(&w.Workload)
		c := clusters[expression]
		if c == nil {
			c = &Cluster{Expression: expression, About: about}
			clusters[expression] = c
		}
		c.Members = append(c.Members, w)
		c.Used += w.Used
	}
	out := make([]Cluster, 0, len(clusters))
	for _, c := range clusters {
		slices.SortStableFunc(c.Members, func(a, b Weighed) int {
			return cmp.Or(cmp.Compare(b.Used, a.Used), cmp.Compare(a.Workload.Name, b.Workload.Name),
				cmp.Compare(a.Host, b.Host))
		})
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Cluster) int {
		return cmp.Or(cmp.Compare(b.Used, a.Used), cmp.Compare(a.Expression, b.Expression))
	})
	return out
}

// likeness is the rule for what is like w, and that in words.
func likeness(w *account.Workload) (expression, about string) {
	kind := w.Kind.String()
	with := func(attribute, value, words string) (string, string) {
		return "kind == " + quote(kind) + " && " + attribute + " == " + quote(value), words + " " + value
	}
	if v := w.Facts[account.FactAccount]; v != "" && w.Kind == amount.Job {
		return with("account", v, "jobs of the account")
	}
	if v := w.Facts[account.FactNamespace]; v != "" && w.Kind == amount.Container {
		return with("pod_namespace", v, "containers of the namespace")
	}
	if key := projectLabel(w.Labels); key != "" {
		// A workload without the label makes the bare comparison fail, which is no match: but say so plainly.
		return quote(key) + " in labels && labels[" + quote(key) + "] == " + quote(w.Labels[key]),
			key + " " + w.Labels[key]
	}
	if v := w.Facts[account.FactTemplate]; v != "" {
		return "unit.startsWith(" + quote(strings.TrimSuffix(v, ".service")) + ")", "instances of " + v
	}
	if v := w.Facts[account.FactUnit]; v != "" {
		return with("unit", v, "the unit")
	}
	if w.Owner != "" {
		return with("owner", w.Owner, kind+" work of")
	}
	return with("name", w.Name, kind)
}

// projectLabel is the label by which a site most likely tells projects apart; "" for none.
func projectLabel(labels map[string]string) string {
	var found string
	for key := range labels {
		last := key[strings.LastIndexAny(key, "./")+1:]
		switch last {
		case "project", "tenant", "team":
			if found == "" || key < found {
				found = key
			}
		}
	}
	return found
}

// quote writes a CEL string literal.
func quote(s string) string {
	if strings.ContainsAny(s, `'\`) || strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > '~' }) {
		return strconv.QuoteToASCII(s)
	}
	return "'" + s + "'"
}
