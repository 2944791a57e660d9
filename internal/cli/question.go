package cli

import (
	"io"
	"net/url"

	"github.com/spf13/cobra"

	"vinescale/core/explain"
)

// report is an answer that people read as a page of its own, and programs as rows. The rows can be sorted, filtered and
// chosen from as those of any listing; a table of them is then a plain one.
type report[T, R any] struct {
	page    func(w io.Writer, answer *T) error
	rows    func(answer *T) []R
	columns []column[R]
	holds   func(answer *T) bool // whether the condition that was asked for is true; nil for none
}

// print shows an answer in the form that was asked for, and fails with errCondition where its condition is true.
func (r *report[T, R]) print(cmd *cobra.Command, l *listing, answer *T) error {
	var err error
	switch arranged := l.arranged(cmd); {
	case !arranged && l.as.value == "table":
		err = r.page(cmd.OutOrStdout(), answer)
	case !arranged && l.as.value == "json":
		err = writeIndented(cmd.OutOrStdout(), answer)
	default:
		err = list(cmd, l, r.columns, r.rows(answer))
		if x, ok := any(answer).(interface{ Lacks() *explain.Missed }); ok && err == nil {
			l.sayMissed(cmd, x.Lacks())
		}
	}
	if err == nil && r.holds != nil && r.holds(answer) {
		return errCondition
	}
	return err
}

// overSpan makes cmd ask a question over a span. To says what is asked, and may add to the query.
func overSpan[T, R any](cmd *cobra.Command, to func(args []string, q url.Values) string,
	r *report[T, R]) *cobra.Command {
	var span spanFlags
	span.add(cmd)
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q := url.Values{}
		if err := span.query(q); err != nil {
			return err
		}
		var answer T
		missed, err := getListing(cmd, to(args, q), q, &answer)
		if err != nil {
			return err
		}
		if err := r.print(cmd, as, &answer); err != nil {
			return err
		}
		as.sayMissed(cmd, &missed)
		return nil
	}
	return cmd
}

// aboutHost is a command that asks about the host it is given.
func aboutHost[T, R any](use, short, long, example, path string, r *report[T, R]) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Long: long, Example: example, Args: func(_ *cobra.Command,
		args []string) error {
		if len(args) != 1 {
			return usagef("of which host? Give one name; \"vinescale hosts\" lists them")
		}
		return nil
	}}
	return overSpan(cmd, func(args []string, _ url.Values) string {
		return "/hosts/" + url.PathEscape(args[0]) + path
	}, r)
}

// acrossHosts makes cmd, which takes no arguments, ask about all hosts, or one.
func acrossHosts[T, R any](cmd *cobra.Command, path string, r *report[T, R]) *cobra.Command {
	var host string
	cmd.Args = cobra.NoArgs
	cmd.Flags().StringVar(&host, "host", "", "one host (default: all)")
	return overSpan(cmd, func(_ []string, q url.Values) string {
		if host != "" {
			q.Set("host", host)
		}
		return path
	}, r)
}
