package cli

import (
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/act"
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

// scopeWords says where a token may act.
func scopeWords(t *api.Token) string {
	switch {
	case t.Role == hub.Administrator:
		return "everywhere"
	case t.Role != hub.Operator:
		return ""
	}
	var words []string
	if len(t.Scope.Tenants) > 0 {
		words = append(words, "for "+strings.Join(t.Scope.Tenants, ", "))
	}
	if len(t.Scope.Pools) > 0 {
		words = append(words, "in "+strings.Join(t.Scope.Pools, ", "))
	}
	return strings.Join(words, " ")
}

func newToken() *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Who may call the service: list, add, remove"}
	listing := &cobra.Command{Use: "list", Short: "List tokens by name and role", Args: cobra.NoArgs}
	clientFlags(listing)
	as := listFlags(listing, 0)
	listing.RunE = func(cmd *cobra.Command, _ []string) error {
		var tokens []api.Token
		if err := get(cmd, "/tokens", nil, &tokens); err != nil {
			return err
		}
		return list(cmd, as, []column[api.Token]{
			{name: "name", head: "token", value: func(t api.Token) any { return t.Name }},
			{name: "role", head: "role", value: func(t api.Token) any { return t.Role }},
			{name: "scope", head: "acts", value: func(t api.Token) any { return scopeWords(&t) }},
			{
				name:  "created_at",
				head:  "made",
				value: func(t api.Token) any { return t.CreatedAt.Format(time.RFC3339) },
				text:  func(t api.Token) string { return shownAt(t.CreatedAt, time.DateTime) },
			},
		}, tokens)
	}
	role := &oneOf{hub.Reader, []string{hub.Reader, hub.Operator, hub.Administrator}}
	var scope act.Scope
	add := acting("add NAME", "Make a token for a person or a program and print it, once", 1,
		func(cmd *cobra.Command, args []string) error {
			var t api.NewToken
			body := map[string]any{"name": args[0], "role": role.value}
			if !scope.IsEverywhere() {
				body["scope"] = map[string]any{"tenants": append([]string{}, scope.Tenants...),
					"pools": append([]string{}, scope.Pools...)}
			}
			if err := send(cmd, "POST", "/tokens", body, &t); err != nil {
				return err
			}
			cmd.Println(t.Token)
			return nil
		})
	add.Flags().
		Var(role, "role", "what it may do: a reader reads, an operator also acts within a scope, an administrator "+
			"changes all")
	add.Flags().
		StringArrayVar(&scope.Tenants, "tenant", nil, "an operator acts for this tenant only; may be repeated")
	add.Flags().StringArrayVar(&scope.Pools, "pool", nil,
		"an operator acts on the hosts of this pool only; may be repeated")
	remove := acting("remove NAME", "Make a token void", 1, func(cmd *cobra.Command, args []string) error {
		if err := send(cmd, "DELETE", "/tokens/"+url.PathEscape(args[0]), nil, nil); err != nil {
			return err
		}
		cmd.Printf("the token %s is void\n", visible(args[0]))
		return nil
	})
	cmd.AddCommand(listing, add, remove)
	return cmd
}
