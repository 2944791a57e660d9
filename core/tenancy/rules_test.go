package tenancy_test

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/tenancy"
)

func TestBook_KnowsWhatItsRulesAskFor(t *testing.T) {
	var book tenancy.Book
	for _, x := range []struct {
		expression string
		asks       bool
	}{{`name == 'program'`, false}, {`labels['program'] == 'x'`, false},
		{`kind == 'job' && (owner == 'a' || program.startsWith('pre'))`, true}} {
		r, err := tenancy.Compile(1, 1, x.expression)
		require.NoError(t, err)
		book = append(book, r)
		assert.Equal(t, x.asks, book.AsksFor("program"), x.expression)
	}
	assert.True(t, book.AsksFor("labels"))
	assert.False(t, book.AsksFor("image"))
}

func TestBook_TheFirstMatchWinsAndNothingIsUnassigned(t *testing.T) {
	var book tenancy.Book
	for i, expression := range []string{
		`labels['project'] == 'cellar'`, // fails on work without that label: no match, not an error
		`kind == 'job' && owner in ['m.abt', 't.fink']`,
		`kind == 'job'`,
		`host.startsWith('press') && uid >= 2000 && path.contains('/user.slice/')`,
	} {
		rule, err := tenancy.Compile(int32(10+i), int32(1+i), expression)
		require.NoError(t, err)
		book = append(book, rule)
	}
	for _, c := range []struct {
		host       string
		w          account.Workload
		tenant, by int32
	}{
		{"cellar-1", account.Workload{Kind: amount.Container, Labels: map[string]string{"project": "cellar"}}, 1, 10},
		{"cellar-1", account.Workload{Kind: amount.Job, Owner: "t.fink"}, 2, 11},
		{"cellar-1", account.Workload{Kind: amount.Job, Owner: "l.roth"}, 3, 12},
		{"press-1", account.Workload{Kind: amount.Session, UID: 2003,
			Path: "/user.slice/user-2003.slice/session-1.scope"}, 4, 13},
		{"cellar-1", account.Workload{Kind: amount.Service}, 0, 0},
	} {
		rule := book.Assign(tenancy.Subject{Host: c.host, Workload: c.w})
		assert.Equal(t, []int32{c.tenant, c.by}, []int32{rule.TenantID, rule.ID}, "%+v", c.w)
	}
}

func TestCompile_SaysWhereAndWhatIsWrong(t *testing.T) {
	_, err := tenancy.Compile(0, 0, "kind == 'job' && ownr == 'x'")
	require.Error(t, err)
	lines := strings.Split(err.Error(), "\n")
	assert.Equal(t, strings.Index(lines[1], "ownr"), strings.Index(lines[2], "^"),
		"the mark stands under the mistake:\n%v", err)
	for expression, want := range map[string]string{
		"kind":                          "not true or false",
		"":                              "does not compile",
		"kind == ":                      "does not compile",
		"uid == 'x'":                    "does not compile",
		strings.Repeat("kind + ", 1000): "at most",
	} {
		_, err := tenancy.Compile(0, 0, expression)
		assert.ErrorContains(t, err, want, "%.20q", expression)
	}
}

func TestRule_MayAskAboutEverythingThatIsKnown(t *testing.T) {
	s := tenancy.Subject{Host: "press-1", Pools: []string{"presses", "north"}, Workload: account.Workload{
		Kind: amount.Container, Name: "must", Owner: "svc-cellar", UID: 801, Path: "/pods/x",
		Labels: map[string]string{"site": "north"},
		Facts: map[string]string{
			account.FactImage: "coop/intake:2026.4", account.FactNamespace: "cellar", account.FactPod: "must",
			account.FactAccount:   "a",
			account.FactPartition: "day", account.FactUnit: "u.service", account.FactProgram: "intake",
			account.FactGroups: "cellar,staff",
		},
	}}
	for _, expression := range []string{
		`image.startsWith('coop/intake')`, `pod_namespace == 'cellar' && pod == 'must'`,
		`account == 'a' && partition == 'day'`, `unit == 'u.service'`,
		`program == 'intake'`, `'staff' in groups`, `'presses' in pools`, `pools.exists(p, p.startsWith('n'))`,
		`'site' in labels && labels.site == 'north'`,
		`uid in [801]`, `host == 'press-1'`, `path.matches('^/pods/')`,
	} {
		rule, err := tenancy.Compile(1, 1, expression)
		require.NoError(t, err)
		assert.True(t, rule.Matches(s), expression)
		assert.False(t, rule.Matches(tenancy.Subject{}), "%s: of a workload of which nothing is known", expression)
	}
}

func TestSuggest_PutsAlikeTogetherAndItsRuleMatchesAllOfThem(t *testing.T) {
	of := func(used float64, w account.Workload) tenancy.Weighed {
		return tenancy.Weighed{Subject: tenancy.Subject{Host: "h", Workload: w}, Used: used}
	}
	unassigned := []tenancy.Weighed{
		of(5, account.Workload{Kind: amount.Job, Name: "job 1", Owner: "m.abt",
			Facts: map[string]string{account.FactAccount: "frost"}}),
		of(9, account.Workload{Kind: amount.Job, Name: "job 2", Owner: "t.fink",
			Facts: map[string]string{account.FactAccount: "frost"}}),
		of(7, account.Workload{Kind: amount.Container, Name: "a",
			Labels: map[string]string{"coop.project": "it's \\ \u202e"}}),
		of(1, account.Workload{Kind: amount.Service, Name: "getty@tty1", Owner: "root",
			Facts: map[string]string{account.FactTemplate: "getty@.service", account.FactUnit: "getty@tty1.service"}}),
		of(1, account.Workload{Kind: amount.Service, Name: "getty@tty2", Owner: "root",
			Facts: map[string]string{account.FactTemplate: "getty@.service", account.FactUnit: "getty@tty2.service"}}),
		of(3, account.Workload{Kind: amount.Service, Name: "journal", Owner: "root",
			Facts: map[string]string{account.FactUnit: "journal.service"}}),
		of(2, account.Workload{Kind: amount.Loose, Name: "x of p.kern", Owner: "p.kern"}),
		of(20, account.Workload{Kind: amount.Container, Name: "must", Owner: "root",
			Facts: map[string]string{account.FactNamespace: "cellar ~"}}),
		of(0.5, account.Workload{Kind: amount.Service, Name: "odd", Owner: "root",
			Facts: map[string]string{account.FactNamespace: "cellar ~", account.FactUnit: "odd.service"}}),
		of(0, account.Workload{Kind: amount.VM, Name: "plc"}),
	}
	clusters := tenancy.Suggest(unassigned)
	var used []float64
	members := 0
	for _, c := range clusters {
		used = append(used, c.Used)
		members += len(c.Members)
		rule, err := tenancy.Compile(0, 0, c.Expression)
		require.NoError(t, err, c.Expression)
		mine := map[string]bool{}
		for _, m := range c.Members {
			mine[m.Workload.Name] = true
		}
		for _, w := range unassigned {
			assert.Equal(t, mine[w.Workload.Name], rule.Matches(w.Subject), "%s and %s", c.Expression, w.Workload.Name)
		}
	}
	assert.Equal(t, []float64{20, 14, 7, 3, 2, 2, 0.5, 0}, used, "most used first")
	assert.Equal(t, len(unassigned), members, "each in one cluster")
	assert.Equal(t, "kind == 'container' && pod_namespace == 'cellar ~'", clusters[0].Expression)
	assert.Equal(t, "job 2", clusters[1].Members[0].Workload.Name)
}

func TestBook_WithPutsARuleWhereItIsAsked(t *testing.T) {
	rule := func(id int32) tenancy.Rule { return tenancy.Rule{ID: id} }
	book := tenancy.Book{rule(1), rule(2), rule(3)}
	for position, want := range map[int][]int32{0: {1, 2, 3, 9}, 1: {9, 1, 2, 3}, 3: {1, 2, 9, 3}, 4: {1, 2, 3, 9},
		-1: {1, 2, 3, 9}} {
		var ids []int32
		for _, r := range book.With(position, rule(9)) {
			ids = append(ids, r.ID)
		}
		assert.Equal(t, want, ids, "at %d", position)
	}
	assert.Len(t, book, 3)
}

func TestCompile_TakesWhatIsJustLongEnough(t *testing.T) {
	long := "kind == 'job'" + strings.Repeat(" ", tenancy.MaxExpression-len("kind == 'job'"))
	_, err := tenancy.Compile(0, 0, long)
	require.NoError(t, err)
	_, err = tenancy.Compile(0, 0, long+" ")
	require.ErrorContains(t, err, "the rule is 4097 bytes long; at most 4096 are taken")
}

func TestCompile_ShowsTheLineThatIsWrong(t *testing.T) {
	for expression, line := range map[string]string{
		"ownr == 'x'":                     "ownr == 'x'",
		"kind == 'job' &&\nownr == 'x'":   "ownr == 'x'",
		"kind == 'job' &&\n ownr == 'x' ": " ownr == 'x' ",
	} {
		_, err := tenancy.Compile(0, 0, expression)
		require.ErrorContains(t, err, "\n  "+line+"\n  "+strings.Repeat(" ", strings.Index(line, "ownr"))+"^ ")
	}
}

// TestRule_ThatCostsTooMuchMatchesNothing: no rule holds up the intake.
func TestRule_ThatCostsTooMuchMatchesNothing(t *testing.T) {
	pools := make([]string, 200)
	rule, err := tenancy.Compile(1, 1, "pools.all(a, pools.all(b, pools.all(c, a == b && b == c)))")
	require.NoError(t, err)
	assert.True(t, rule.Matches(tenancy.Subject{Pools: pools[:3]}))
	assert.False(t, rule.Matches(tenancy.Subject{Pools: pools}))
}

func TestSuggest_OrdersByUseThenByName(t *testing.T) {
	of := func(host, name, owner string, used float64, labels map[string]string) tenancy.Weighed {
		return tenancy.Weighed{Used: used, Subject: tenancy.Subject{Host: host, Workload: account.Workload{
			Kind: amount.Loose, Name: name, Owner: owner, Labels: labels}}}
	}
	clusters := tenancy.Suggest([]tenancy.Weighed{
		of("b", "same", "m.abt", 1, nil), of("a", "same", "m.abt", 1, nil), of("a", "apart", "m.abt", 1, nil),
		of("a", "most", "m.abt", 2, nil), of("a", "x", "l.roth", 5, nil),
		of("a", "labelled", "l.roth", 6, map[string]string{"coop/team": "press", "a.tenant": "cellar", "z": "y",
			"b.project": "must"}),
	})
	var got []string
	for _, c := range clusters {
		got = append(got, c.Expression)
		for _, m := range c.Members {
			got = append(got, "  "+m.Host+" "+m.Workload.Name)
		}
	}
	kind := amount.Loose.String()
	assert.Equal(t, []string{
		"'a.tenant' in labels && labels['a.tenant'] == 'cellar'", "  a labelled",
		"kind == '" + kind + "' && owner == 'l.roth'", "  a x",
		"kind == '" + kind + "' && owner == 'm.abt'", "  a most", "  a apart", "  a same", "  b same",
	}, got)
	assert.Equal(t, kind+" work of m.abt", clusters[2].About)
}

// TestListAttributes_IsWhatARuleMayAskAbout compiles a rule of each, and finds each in the words of an error.
func TestListAttributes_IsWhatARuleMayAskAbout(t *testing.T) {
	ask := map[string]string{"text": "%s == 'a'", "number": "%s > 4", "list": "'a' in %s", "map": "%s['a'] == 'b'"}
	for _, a := range tenancy.ListAttributes() {
		_, err := tenancy.Compile(1, 1, fmt.Sprintf(ask[a.Type], a.Name))
		assert.NoError(t, err, a.Name)
		assert.Contains(t, tenancy.Attributes, a.Name)
		assert.Equal(t, a.Name == "kind", len(a.Values) > 0)
	}
	words := regexp.MustCompile(`[a-z_]+`).FindAllString(regexp.MustCompile(`\([^)]*\)|: [a-z ]+`).ReplaceAllString(
		tenancy.Attributes, " "), -1)
	assert.Len(t, tenancy.ListAttributes(), len(words), "%v", words)
}
