package cli

import (
	"net/url"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"vinescale/internal/api"
)

func newAudit() *cobra.Command {
	cmd := &cobra.Command{Use: "audit", Short: "Who changed rules, pools and history, newest first", Args: cobra.NoArgs}
	clientFlags(cmd)
	as := listFlags(cmd, 50)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		var acts []api.Act
		if err := get(cmd, "/audit", url.Values{"first": {strconv.Itoa(1000)}}, &acts); err != nil {
			return err
		}
		return list(cmd, as, []column[api.Act]{
			{name: "at", head: "when", value: func(a api.Act) any { return a.At.Format(time.RFC3339) },
				text: func(a api.Act) string { return shownAt(a.At, time.DateTime) }},
			{name: "who", head: "who", value: func(a api.Act) any { return a.Who }},
			{name: "act", head: "did", value: func(a api.Act) any { return a.Act }},
			{name: "subject", head: "to", value: func(a api.Act) any { return a.Subject }},
			{name: "detail", head: "detail", value: func(a api.Act) any { return string(a.Detail) }, extra: true},
		}, acts)
	}
	return cmd
}
