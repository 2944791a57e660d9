package e2e

import (
	"encoding/csv"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// amounts are the names of columns that hold numbers: their unit is in them.
var amounts = regexp.MustCompile(
	`(_bytes|_seconds|_cores|_per_second|_us|_ms|_mean|_peak|_inodes|_cpus|` +
		`^inodes|^busy|^mhz|^amount|^mean)($|_mean|_peak|_p99|_per_second)`)

func TestCSV_OfEveryListingHoldsNumbersWhereItsColumnsNameAUnit(t *testing.T) {
	for _, args := range [][]string{
		{"hosts"}, {"share", "--of", "memory"}, {"ledger", "--host", "cellar-1"}, {"balance"},
		{"workloads", "--first", "0"}, {"threads"}, {"programs"}, {"pins"},
		{"disks"}, {"cpus", "cellar-1"}, {"memory", "terrace-2"}, {"interfaces"}, {"find", "must"}, {"tenant", "list"},
		{"quota", "list"}, {"rule", "list"}, {"audit"},
	} {
		t.Run(strings.Join(args, " "), func(t *testing.T) {
			got := demo.run(append(args, "--as", "csv")...)
			require.Zero(t, got.code, got.stderr)
			rows, err := csv.NewReader(strings.NewReader(got.stdout)).ReadAll()
			require.NoError(t, err)
			require.Greater(t, len(rows), 1)
			for i, name := range rows[0] {
				for _, row := range rows[1:] {
					assert.NotContains(t, row[i], "nil", name)
					if _, err := strconv.ParseFloat(row[i], 64); amounts.MatchString(name) && row[i] != "" {
						require.NoError(t, err, "%s of %v", name, row)
						assert.NotContains(t, row[i], "x", "%s of %v", name, row)
					}
				}
			}
		})
	}
}

func TestUnrecorded_SpanIsNeverToldInZeros(t *testing.T) {
	day := time.Now().Add(-72 * time.Hour)
	for _, args := range [][]string{
		{"balance"}, {"share"}, {"ledger", "--host", "press-1"}, {"disks"}, {"cpus", "press-1"}, {"memory", "press-1"},
		{"interfaces"}, {"pins"}, {"about", "host/press-1"},
	} {
		got := demo.run(append(args, between(day, day.Add(time.Hour))...)...)
		require.Zero(t, got.code, got.stderr)
		assert.Regexp(t, "(?i)nothing was\\s+recorded|sent nothing", got.stdout, args)
		assert.NotRegexp(t, `\b0\.0`, got.stdout, args)
	}
	assert.Zero(t, demo.run(append([]string{"disks", "--fail-trouble"}, between(day, day.Add(time.Hour))...)...).code)
	for _, args := range [][]string{{"disks", "--users", "-1"}, {"cpus"}} {
		got := demo.run(args...)
		assert.Equal(t, 2, got.code, args)
		assert.NotContains(t, got.stderr, "goroutine", args)
	}
}
