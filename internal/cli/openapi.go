package cli

import (
	"bytes"
	"encoding/json"

	"github.com/spf13/cobra"

	"vinescale/internal/api"
)

func newOpenAPI() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the description of the network interface (OpenAPI 3.1)", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			raw, err := api.OpenAPI("1")
			if err != nil {
				return err
			}
			var b bytes.Buffer
			if err := json.Indent(&b, raw, "", "  "); err != nil {
				return err
			}
			b.WriteByte('\n')
			_, err = b.WriteTo(cmd.OutOrStdout())
			return err
		},
	}
}
