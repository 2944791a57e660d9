package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"

	"github.com/spf13/cobra"
)

// Exit codes.
const (
	ExitFine      = 0
	ExitError     = 1
	ExitUsage     = 2
	ExitCondition = 3 // the condition that was asked for is true
)

// Version is set at build time.
var Version = "dev"

// usageError is a mistake in how a command was called.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func usagef(format string, a ...any) error { return usageError{fmt.Errorf(format, a...)} }

// errCondition ends a command with ExitCondition; its output has said what is true.
var errCondition = errors.New("condition is true")

// Run runs one command line and returns its exit code.
func Run(ctx context.Context, args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	root := newRoot()
	root.SetArgs(args)
	root.SetIn(stdin)
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	var usage usageError
	var other exitError
	switch {
	case err == nil:
		return ExitFine
	case errors.As(err, &other):
		return other.code
	case errors.Is(err, errCondition):
		return ExitCondition
	case errors.As(err, &usage), isCobraUsage(err):
		fmt.Fprintf(stderr, "vinescale: %v\n", err)
		return ExitUsage
	default:
		fmt.Fprintf(stderr, "vinescale: %v\n", err)
		return ExitError
	}
}

// isCobraUsage recognises the errors the command library makes itself, which have no type.
func isCobraUsage(err error) bool {
	for _, prefix := range []string{"unknown command", "accepts ", "requires ", "required flag"} {
		if strings.HasPrefix(err.Error(), prefix) {
			return true
		}
	}
	return false
}

func newRoot() *cobra.Command {
	cobra.EnableCommandSorting = false // they stand by the question that they answer
	root := &cobra.Command{
		Use:   "vinescale",
		Short: "The account book of shared hosts",
		Long: `Vine Scale attributes the CPU, memory, disk, network, GPU and energy use of
shared hosts to containers, virtual machines, batch jobs, services, sign-ins and
users, and shows a ledger that balances: capacity = shares + kernel + idle + residual.

Begin with "vinescale weigh": who uses this host, right now.`,
		Version:       Version,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.PersistentPreRunE = choose
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		if negative.MatchString(err.Error()) {
			return usagef("a number below zero is not taken here: see %q", c.CommandPath()+" --help")
		}
		return usagef("%w: see %q", err, c.CommandPath()+" --help")
	})
	root.PersistentFlags().String("config", "", "configuration file (default: "+defaultConfigFile+" if it exists)")
	for _, g := range []struct {
		question string
		commands []*cobra.Command
	}{
		{"Who uses it?", []*cobra.Command{newWeigh(), newLive(), newShare(), newWorkloads(), newPrograms(),
			newThreads(),
			newAbout(), newFind(), newHosts(), newLedger(), newCPUs(), newMemory(), newDisks(), newInterfaces(),
			newGPUs(), newSensors()}},
		{"Whose is it?", []*cobra.Command{newTenant(), newRule()}},
		{"Is it theirs to use?", []*cobra.Command{newBalance(), newQuota(), newPins(), newUnused()}},
		{"How did it go?", []*cobra.Command{newSeries(), newEvents(), newFolio()}},
		{"What if, and what does it come to?", []*cobra.Command{newWhatIf(), newStatement(), newTariff()}},
		{"What do I do?", []*cobra.Command{newAct(), newActs(), newStart(), newStanding()}},
		{"What does it mean?", []*cobra.Command{newExplain(), newMeasures(), newDocs()}},
		{"Run the service", []*cobra.Command{newDemo(), newServe(), newCollect(), newConfig(), newToken(), newAudit(),
			newVerify(), newOpenAPI()}},
	} {
		root.AddGroup(&cobra.Group{ID: g.question, Title: g.question})
		for _, c := range g.commands {
			c.GroupID = g.question
			root.AddCommand(c)
		}
		root.SetHelpCommandGroupID(g.question) // the last of them
		root.SetCompletionCommandGroupID(g.question)
	}
	root.AddCommand(newGPUHelper(), newGPUAdjust())
	completes(root)
	follows(root)
	return root
}

// negative recognises how the flag library complains of an argument such as -5.
var negative = regexp.MustCompile(`unknown shorthand flag: '[0-9.]'`)

const defaultConfigFile = "/etc/vinescale/vinescale.yaml"

// hostname is this host's name, or "this host" where it has none.
func hostname() string {
	if name, err := os.Hostname(); err == nil && name != "" {
		return name
	}
	return "this host"
}
