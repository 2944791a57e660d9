package cli

import (
	"io"
	"net/url"

	"github.com/spf13/cobra"
)

// overSpan makes cmd ask a question over a span. To says what is asked, and may add to the query; show prints the
// answer in the form that was asked for, and fails with errCondition where a condition that was asked for is true.
func overSpan[T any](cmd *cobra.Command, to func(args []string, q url.Values) string,
	show func(w io.Writer, as string, answer *T) error) *cobra.Command {
	var span spanFlags
	span.add(cmd)
	clientFlags(cmd)
	as := asFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		q := url.Values{}
		if err := span.query(q); err != nil {
			return err
		}
		var answer T
		if err := get(cmd, to(args, q), q, &answer); err != nil {
			return err
		}
		return show(cmd.OutOrStdout(), as.value, &answer)
	}
	return cmd
}

// aboutHost is a command that asks about the host it is given.
func aboutHost[T any](use, short, long, example, path string,
	show func(w io.Writer, as string, answer *T) error) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Long: long, Example: example,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usagef("of which host? Give one name; \"vinescale hosts\" lists them")
			}
			return nil
		}}
	return overSpan(cmd, func(args []string, _ url.Values) string { return "/hosts/" + url.PathEscape(args[0]) + path },
		show)
}

// acrossHosts makes cmd, which takes no arguments, ask about all hosts, or one.
func acrossHosts[T any](cmd *cobra.Command, path string,
	show func(w io.Writer, as string, answer *T) error) *cobra.Command {
	var host string
	cmd.Args = cobra.NoArgs
	cmd.Flags().StringVar(&host, "host", "", "one host (default: all)")
	return overSpan(cmd, func(_ []string, q url.Values) string {
		if host != "" {
			q.Set("host", host)
		}
		return path
	}, show)
}
