package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/hub"
)

type barrel struct {
	name   string
	litres *float64
	racks  int
}

var barrelColumns = []column[barrel]{
	{name: "name", head: "barrel", value: func(b barrel) any { return b.name }},
	{name: "litres", head: "litres", right: true, value: func(b barrel) any { return b.litres }},
	{name: "racks", head: "racks", value: func(b barrel) any { return b.racks }, extra: true},
}

func barrels(t *testing.T, args ...string) (string, error) {
	t.Helper()
	var out bytes.Buffer
	cmd := &cobra.Command{Use: "barrels", SilenceErrors: true, SilenceUsage: true}
	as := listFlags(cmd, 3)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		return list(cmd, as, barrelColumns, []barrel{{"b", number(225), 2}, {"a", nil, 1}, {"d", number(600), 3},
			{"c", number(30), 1}})
	}
	cmd.SetOut(&out)
	cmd.SetArgs(args)
	err := cmd.Execute()
	return out.String(), err
}

func TestList_SortsFiltersChoosesAndSaysWhatItLeftOut(t *testing.T) {
	names := func(args ...string) string {
		out, err := barrels(t, append(args, "--as", "csv", "--columns", "name")...)
		require.NoError(t, err)
		return strings.Join(strings.Fields(out)[1:], "")
	}
	assert.Equal(t, "badc", names(), "as they came, all of them: a program gets what it asks for")
	assert.Equal(t, "abcd", names("--sort", "name"))
	assert.Equal(t, "dbca", names("--sort", "litres"), "numbers largest first, what is not available last")
	assert.Equal(t, "cbda", names("--sort", "-litres"), "turned round, it is still last")
	assert.Equal(t, "bd", names("--where", "litres != null && litres > 100.0"))
	assert.Equal(t, "bd", names("--where", "litres > 100.0"), "what cannot be compared does not match")
	assert.Equal(t, "bd", names("--where", "racks >= 2"), "by a column that is not shown, too")
	assert.Equal(t, "d", names("--sort", "litres", "--first", "1"))

	table, err := barrels(t, "--where", "racks < 3")
	require.NoError(t, err)
	assert.Equal(t, "barrel  litres\nb          225\na            –\nc           30\n\n"+
		"1 left out by --where.\n", table)
	table, err = barrels(t)
	require.NoError(t, err)
	assert.Contains(t, table, "\n1 more not shown (--first 3).\n")
	lines, err := barrels(t, "--as", "jsonl", "--columns", "racks,name", "--first", "1")
	require.NoError(t, err)
	assert.Equal(t, "{\"racks\":2,\"name\":\"b\"}\n", lines)

	for want, args := range map[string][]string{
		`no column "weight"`: {"--columns", "weight"}, `cannot sort by "weight"`: {"--sort", "weight"},
		"does not compile":  {"--where", "weight > 1"},
		"not true or false": {"--where", "racks"}, "--first -1": {"--first", "-1"},
	} {
		_, err := barrels(t, args...)
		require.ErrorContains(t, err, want)
		assert.IsType(t, usageError{}, err)
	}
}

func TestTenancyFile_WhatIsExportedIsReadAgainAndMistakesAreNamed(t *testing.T) {
	x := &hub.Tenancy{Tenants: []string{"Frost Watch", "#1: 'odd'"},
		Rules: []hub.RuleText{{Tenant: "Frost Watch", When: "kind == 'job' &&\n  labels[\"a: b\"] == '#'"}}}
	text, err := tenancyYAML(x)
	require.NoError(t, err)
	again, err := parseTenancy(text)
	require.NoError(t, err)
	assert.Equal(t, x, again)
	empty, err := parseTenancy([]byte("tenants: []\n"))
	require.NoError(t, err)
	assert.Equal(t, []hub.RuleText{}, empty.Rules)
	for name, text := range map[string]string{"a field too many": "tenants: []\nrule: []\n", "not YAML": ":\n  - ]",
		"empty": "", "of another form": "- a\n", "nothing in it": "{}\n"} {
		_, err := parseTenancy([]byte(text))
		assert.ErrorContains(t, err, "rule export", name)
	}
}
