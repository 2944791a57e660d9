package cli

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/internal/api"
	"vinescale/internal/hub"
)

// completionWait is how long the shell waits for names that a service knows.
const completionWait = 2 * time.Second

// namesOf are what completion can be asked for, by the names of flags and by the words that commands write for their
// arguments.
var namesOf = map[string]func(cmd *cobra.Command, typed string) []string{
	"host": hostNames, "HOST": hostNames,
	"tenant": tenantNames, "part-of": tenantNames, "TENANT": tenantNames, "OF": tenantNames,
	"pool": poolNames, "POOL": poolNames, "FOLIO": folioNames,
	"workload": foundNames("workload"), "WORKLOAD": foundNames("workload"), "user": foundNames("user"),
	"WORDS": foundNames(""), "HOST|TENANT|WORKLOAD": foundNames(""),
}

// completes has the shell complete the names of hosts, tenants, pools, users and workloads wherever a command takes
// one. A service that does not answer at once completes nothing.
func completes(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		completes(c)
	}
	if cmd.Flags().Lookup("service") == nil {
		return
	}
	for flag, names := range namesOf {
		if cmd.Flags().Lookup(flag) == nil {
			continue
		}
		if _, is := cmd.GetFlagCompletionFunc(flag); is {
			continue
		}
		complete := func(cmd *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
			return begunWith(typed, names(cmd, typed)), cobra.ShellCompDirectiveNoFileComp
		}
		if err := cmd.RegisterFlagCompletionFunc(flag, complete); err != nil { // the flag is there, and has none yet
			panic(err)
		}
	}
	arguments := strings.Fields(strings.NewReplacer("[", " ", "]", " ", "...", " ...").Replace(cmd.Use))[1:]
	if cmd.ValidArgsFunction != nil || len(arguments) == 0 {
		return
	}
	cmd.ValidArgsFunction = func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		at := min(len(args), len(arguments)-1)
		for arguments[at] == "..." && at > 0 {
			at--
		}
		if names, is := namesOf[arguments[at]]; is && (len(args) < len(arguments) || strings.Contains(cmd.Use, "...")) {
			return begunWith(typed, names(cmd, typed)), cobra.ShellCompDirectiveNoFileComp
		}
		return nil, cobra.ShellCompDirectiveDefault
	}
}

// begunWith are the names that begin with what is typed.
func begunWith(typed string, names []string) []string {
	return slices.DeleteFunc(names, func(n string) bool { return !strings.HasPrefix(n, typed) })
}

// ask asks the service for what completes.
func ask(cmd *cobra.Command, path string, q url.Values, out any) {
	parent := cmd.Context()
	if parent == nil {
		parent = context.Background()
	}
	ctx, cancel := context.WithTimeout(parent, completionWait)
	defer cancel()
	if to, err := dial(cmd); err == nil {
		_ = to.Get(ctx, api.Prefix+path, q, out) // what is not answered completes nothing
	}
}

func hostNames(cmd *cobra.Command, _ string) (names []string) {
	var hosts []api.Host
	ask(cmd, "/hosts", nil, &hosts)
	for i := range hosts {
		names = append(names, hosts[i].Name)
	}
	return names
}

func poolNames(cmd *cobra.Command, _ string) (names []string) {
	var hosts []api.Host
	ask(cmd, "/hosts", nil, &hosts)
	seen := map[string]bool{}
	for i := range hosts {
		for _, pool := range hosts[i].Pools {
			if !seen[pool] {
				seen[pool] = true
				names = append(names, pool)
			}
		}
	}
	return names
}

func tenantNames(cmd *cobra.Command, _ string) (names []string) {
	var tenants []api.Tenant
	ask(cmd, "/tenants", nil, &tenants)
	for i := range tenants {
		names = append(names, tenants[i].Name)
	}
	return names
}

// foundNames completes names of workloads, users or anything, once something of one is typed.
func foundNames(what string) func(*cobra.Command, string) []string {
	return func(cmd *cobra.Command, typed string) (names []string) {
		if typed == "" {
			return nil
		}
		var found []hub.Found
		ask(cmd, "/find", url.Values{"words": {typed}}, &found)
		seen := map[string]bool{}
		for _, f := range found {
			if (what == "" || f.What == what) && !seen[f.Name] {
				seen[f.Name] = true
				names = append(names, f.Name)
			}
		}
		return names
	}
}
