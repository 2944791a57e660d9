package cli

import (
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"vinescale/internal/hub"
	"vinescale/internal/sheet"
)

// newVerify has the service recompute every sum of the book, a day at a time.
func newVerify() *cobra.Command {
	var length string
	cmd := &cobra.Command{
		Use: "verify", Short: "Recompute what is summed, and say where the book differs from itself",
		Args: cobra.NoArgs,
		Long: `Verify has the service sum again what it keeps sums of, a day at a time, and
compare: every interval is there once, hours are the sums of their intervals and
days of their hours, and what tenants used follows from the intervals.

It exits with 3 when something differs.`,
		Example: `  vinescale verify
  vinescale verify --span 1d && echo the book is sound`,
	}
	cmd.Flags().StringVar(&length, "span", "31d", "how far back, such as 1d or 31d")
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		back, err := sheet.ParseSpan(length)
		if err != nil {
			return usageError{err}
		}
		var sum hub.Verification
		now := time.Now().UTC()
		for day := now.Add(-back).Truncate(24 * time.Hour); !day.After(now); day = day.AddDate(0, 0, 1) {
			var v hub.Verification
			q := url.Values{"day": {day.Format(time.RFC3339)}, "first": {"20"}}
			for more := true; more; more = q.Get("after") != "" {
				var page hub.Verification
				if err := get(cmd, "/verify", q, &page); err != nil {
					return err
				}
				v.Intervals, v.Hours, v.Days = v.Intervals+page.Intervals, v.Hours+page.Hours, v.Days+page.Days
				v.Differences = append(v.Differences, page.Differences...)
				q.Set("after", page.Next)
			}
			if v.Intervals+v.Hours+v.Days > 0 {
				cmd.PrintErrf("%s: %d intervals, %d hours, %d days: %d differences\n", day.Format(time.DateOnly),
					v.Intervals, v.Hours, v.Days, len(v.Differences))
			}
			sum.Intervals, sum.Hours, sum.Days = sum.Intervals+v.Intervals, sum.Hours+v.Hours, sum.Days+v.Days
			sum.Differences = append(sum.Differences, v.Differences...)
		}
		if len(sum.Differences) == 0 && as.as.value == "table" {
			cmd.Printf("The book is sound: %d intervals are there once, and the sums of %d hours and %d days hold.\n",
				sum.Intervals, sum.Hours, sum.Days)
			return nil
		}
		err = list(cmd, as, []column[hub.Difference]{
			{name: "host", head: "host", value: func(d hub.Difference) any { return d.Host }},
			{name: "start", head: "from", value: func(d hub.Difference) any { return d.Start.Format(time.RFC3339) }},
			{name: "what", head: "what differs", value: func(d hub.Difference) any { return d.What }},
		}, sum.Differences)
		if err == nil && len(sum.Differences) > 0 {
			return errCondition
		}
		return err
	}
	return cmd
}
