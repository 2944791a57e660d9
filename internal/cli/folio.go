package cli

import (
	"encoding/json"
	"net/url"

	"github.com/spf13/cobra"

	"vinescale/core/folio"
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

func newFolio() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "folio",
		Short: "Pages of one's own in the console: list them, take them away, bring them in",
		Long: `A folio is a page of plates that somebody composed in the console. It is kept with the
person who made it, or shared with the site; some come with the program. They are taken
away and brought in as JSON, by the schema that "vinescale docs folio-schema" prints.`,
	}
	cmd.AddCommand(folioList(), folioExport(), folioImport(), folioRemove())
	return cmd
}

func folioList() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List the folios: those that come with the program, yours, and the site's",
		Args:  cobra.NoArgs,
	}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		var lines []hub.FolioLine
		if err := get(cmd, "/folios", nil, &lines); err != nil {
			return err
		}
		return list(cmd, as, []column[hub.FolioLine]{
			{name: "name", value: func(f hub.FolioLine) any { return f.Name }},
			{name: "title", value: func(f hub.FolioLine) any { return f.Title }},
			{name: "whose", value: func(f hub.FolioLine) any { return f.Whose }},
			{name: "owner", value: func(f hub.FolioLine) any { return orNil(f.Owner) }},
			{name: "plates", right: true, value: func(f hub.FolioLine) any { return f.Plates }},
			{name: "changed_at", head: "changed", value: func(f hub.FolioLine) any { return f.ChangedAt },
				text: func(f hub.FolioLine) string {
					if f.ChangedAt == nil {
						return "–"
					}
					return shownAt(*f.ChangedAt, "2006-01-02 15:04")
				}},
			{name: "about", value: func(f hub.FolioLine) any { return orNil(f.About) }, extra: true},
		}, lines)
	}
	return cmd
}

func orNil(s string) any {
	if s == "" {
		return nil
	}
	return s
}

func folioExport() *cobra.Command {
	cmd := acting("export FOLIO", "Print a folio as JSON, to be kept or brought in elsewhere", 1,
		func(cmd *cobra.Command, args []string) error {
			var kept hub.KeptFolio
			if err := get(cmd, "/folios/"+url.PathEscape(args[0]), nil, &kept); err != nil {
				return err
			}
			out := json.NewEncoder(cmd.OutOrStdout())
			out.SetIndent("", "  ")
			out.SetEscapeHTML(false)
			return out.Encode(kept.Folio)
		})
	cmd.Example = `  vinescale folio export fleet`
	return cmd
}

func folioImport() *cobra.Command {
	var isShared bool
	cmd := acting("import FILE", "Keep a folio from a file (- for standard input) as a new one of yours", 1,
		func(cmd *cobra.Command, args []string) error {
			raw, err := readFile(cmd, args[0])
			if err != nil {
				return err
			}
			var f folio.Folio
			if err := json.Unmarshal(raw, &f); err != nil {
				return usagef("%s is no folio as \"vinescale folio export\" prints it: %w", args[0], err)
			}
			if f.Rows == nil {
				f.Rows = []folio.Row{}
			}
			if err := f.Check(); err != nil {
				return usagef("%s: %w", args[0], err)
			}
			var kept hub.KeptFolio
			if err := send(cmd, "POST", "/folios", api.FolioToKeep{Folio: f, IsShared: isShared}, &kept); err != nil {
				return err
			}
			cmd.Printf("kept as %s: its page is /folios/%s of the console\n", kept.Name, url.PathEscape(kept.Name))
			return nil
		})
	cmd.Flags().BoolVar(&isShared, "share", false, "share it with everybody of the site")
	return cmd
}

func folioRemove() *cobra.Command {
	return acting("remove FOLIO", "Forget a folio", 1, func(cmd *cobra.Command, args []string) error {
		if err := send(cmd, "DELETE", "/folios/"+url.PathEscape(args[0]), nil, nil); err != nil {
			return err
		}
		cmd.Printf("removed %s\n", args[0])
		return nil
	})
}

// folioNames are the folios that whoever asks may see.
func folioNames(cmd *cobra.Command, _ string) (names []string) {
	var lines []hub.FolioLine
	ask(cmd, "/folios", nil, &lines)
	for _, l := range lines {
		names = append(names, l.Name)
	}
	return names
}
