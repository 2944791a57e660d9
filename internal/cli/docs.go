package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"vinescale/core/glossary"
	"vinescale/internal/api"
)

func newDocs() *cobra.Command {
	cmd := &cobra.Command{
		Use: "docs", Short: "Write manual pages, and the explanation of every word, from this program itself",
	}
	man := &cobra.Command{
		Use: "man DIRECTORY", Short: "Write a manual page for each command into a directory",
		Example: `  vinescale docs man /tmp/man1
  man -l /tmp/man1/vinescale-share.1`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return fmt.Errorf("make a directory for manual pages: %w", err)
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true // the same program writes the same pages
			head := &doc.GenManHeader{Section: "1", Source: "Vine Scale " + Version, Manual: "Vine Scale"}
			if err := doc.GenManTree(root, head, args[0]); err != nil {
				return fmt.Errorf("write manual pages: %w", err)
			}
			entries, err := os.ReadDir(args[0])
			if err != nil {
				return fmt.Errorf("list the manual pages: %w", err)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s has %d files; begin with vinescale.1.\n", args[0], len(entries))
			return nil
		},
	}
	words := &cobra.Command{
		Use: "words", Short: "Print the explanation of every measure, column, source, verdict and event as Markdown",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return writeWords(cmd.OutOrStdout()) },
	}
	schema := &cobra.Command{
		Use: "folio-schema", Short: "Print the JSON schema of folios as they are taken away and brought in",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := cmd.OutOrStdout().Write(api.FolioSchema())
			return err
		},
	}
	cmd.AddCommand(man, words, schema)
	return cmd
}

// sections are the heads under which words of each sort stand in the document.
var sections = map[glossary.Sort]string{
	glossary.OfTrade: "Words", glossary.OfLedger: "Lines of a ledger", glossary.OfSource: "Sources",
	glossary.OfMeasure: "Measures", glossary.OfKind: "Kinds of workload", glossary.OfVerdict: "Verdicts and states",
	glossary.OfEvent: "Events", glossary.OfAct: "Acts", glossary.OfCaveat: "What may have been missed",
	glossary.OfColumn: "Columns",
}

// writeWords prints every explanation as Markdown.
func writeWords(w io.Writer) error {
	var b strings.Builder
	b.WriteString(
		"# What the words mean\n\nThis is made from the program (`make generate`). `vinescale explain WORDS` " +
			"tells the same.\n",
	)
	all := glossary.All()
	for _, sort := range glossary.Sorts() {
		fmt.Fprintf(&b, "\n## %s\n", sections[sort])
		for i := range all {
			if e := &all[i]; e.Sort == sort {
				b.WriteString(wordItem(e))
			}
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// wordItem is an explanation as an item of a list, in lines of up to 100 characters.
func wordItem(e *glossary.Entry) string {
	head := "`" + e.Word + "`"
	if name := e.Name(); !strings.EqualFold(name, e.Word) {
		head += ", " + name
	}
	if e.Only != "" {
		head += " (of `vinescale " + e.Only + "`)"
	}
	text := fmt.Sprintf("\n**%s.** %s\n", head, e.Meaning)
	for _, f := range e.Facts {
		text += fmt.Sprintf("- %s: %s\n", f.Name, f.Value)
	}
	var lines strings.Builder
	for line := range strings.Lines(text) {
		if line = strings.TrimSuffix(line, "\n"); line != "" {
			line = folded(line)
			if strings.HasPrefix(line, "- ") {
				line = strings.ReplaceAll(line, "\n", "\n  ")
			}
		}
		lines.WriteString(line + "\n")
	}
	return strings.Replace(lines.String(), "\n- ", "\n\n- ", 1)
}
