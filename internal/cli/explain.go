package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/glossary"
	"vinescale/internal/api"
)

// mostExplained is how many words a table explains at once.
const mostExplained = 6

func newExplain() *cobra.Command {
	cmd := &cobra.Command{
		Use: "explain [WORDS]", Short: "What a word means: measures, columns, sources, verdicts, events, acts",
		Long: `Explain says what a word means that a figure, a column or an event comes with, how
it is obtained, and how it adds up. It finds words by their beginnings, and asks no
service. Without words it lists all that can be explained.`,
		Example: `  vinescale explain residual
  vinescale explain working set
  vinescale explain --where "sort == 'verdict'" --columns word,meaning`,
		ValidArgsFunction: func(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
			var words []string
			for _, e := range glossary.All() {
				words = append(words, e.Word)
			}
			return begunWith(typed, words), cobra.ShellCompDirectiveNoFileComp
		},
	}
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		found := glossary.All()
		if len(args) > 0 {
			text := strings.Join(args, " ")
			if found = glossary.Find(text); len(found) == 0 {
				return fmt.Errorf(
					"nothing is called %q, and no explanation has these words: try fewer, or \"vinescale "+
						"explain\" for all",
					text,
				)
			}
			if as.as.value == "table" && !as.arranged(cmd) {
				return printWords(cmd.OutOrStdout(), text, found)
			}
		}
		return list(cmd, as, []column[api.Word]{
			{name: "word", value: func(w api.Word) any { return w.Word }},
			{name: "sort", value: func(w api.Word) any { return w.Sort }},
			{name: "title", value: func(w api.Word) any { return w.Title }},
			{name: "meaning", value: func(w api.Word) any { return w.Meaning }, extra: true},
			{name: "of_command", value: func(w api.Word) any { return w.OfCommand }, extra: true},
		}, api.WordsOf(found))
	}
	return cmd
}

// printWords prints the words that are called so, or the nearest where none is.
func printWords(w io.Writer, text string, found []glossary.Entry) error {
	called := slices.IndexFunc(found, func(e glossary.Entry) bool { return !e.IsCalled(text) })
	if called > 0 {
		found, text = found[:called], ""
	}
	shown := found[:min(len(found), mostExplained)]
	var b strings.Builder
	for i := range shown {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(explained(&shown[i]))
	}
	if rest := found[len(shown):]; len(rest) > 0 && text != "" {
		names := make([]string, len(rest))
		for i := range rest {
			names[i] = rest[i].Word
		}
		b.WriteString(
			"\n" + folded(fmt.Sprintf("%d more have these words: %s", len(rest), strings.Join(names, ", "))) +
				"\n",
		)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// explained is an explanation in lines.
func explained(e *glossary.Entry) string {
	head := string(e.Sort)
	if e.Only != "" {
		head += " of vinescale " + e.Only
	}
	if name := e.Name(); name != e.Word {
		head = name + ", " + head
	}
	text := fmt.Sprintf("%s (%s)\n", e.Word, head)
	for line := range strings.Lines(folded(e.Meaning)) {
		text += "  " + line
	}
	text += "\n"
	widest := 0
	for _, f := range e.Facts {
		widest = max(widest, len(f.Name))
	}
	for _, f := range e.Facts {
		text += fmt.Sprintf("  %-*s  %s\n", widest, f.Name, f.Value)
	}
	return text
}
