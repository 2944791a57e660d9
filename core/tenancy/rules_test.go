package tenancy_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/tenancy"
)

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
		{"press-1", account.Workload{Kind: amount.Session, UID: 2003, Path: "/user.slice/user-2003.slice/session-1.scope"}, 4, 13},
		{"cellar-1", account.Workload{Kind: amount.Service}, 0, 0},
	} {
		tenant, by := book.Assign(c.host, c.w)
		assert.Equal(t, []int32{c.tenant, c.by}, []int32{tenant, by}, "%+v", c.w)
	}
}

func TestCompile_SaysWhereAndWhatIsWrong(t *testing.T) {
	_, err := tenancy.Compile(0, 0, "kind == 'job' && ownr == 'x'")
	require.Error(t, err)
	lines := strings.Split(err.Error(), "\n")
	assert.Equal(t, strings.Index(lines[1], "ownr"), strings.Index(lines[2], "^"), "the mark stands under the mistake:\n%v", err)
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
