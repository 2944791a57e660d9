package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vinescale/core/glossary"
	"vinescale/internal/hub"
	"vinescale/internal/screen"
	"vinescale/internal/sheet"
)

func newLive() *cobra.Command {
	var roots hostRoots
	var isHere bool
	var pace, page, order string
	var columns []string
	cmd := &cobra.Command{
		Use:   "live [HOST|TENANT|WORKLOAD]",
		Short: "The book moving in place: workloads, CPUs, disks, interfaces, GPUs, sensors, who is signed in",
		Long: `Live shows what happens now in a terminal, as a service tells it from live frames, or
with --here straight from the kernel of this host, without any service. Each key and
what it does stands below the figures; the mouse works too. A line can be opened: a
workload, its families of processes, their processes, and here their threads. Acts
are done by "vinescale act", which asks before it does anything.`,
		Example: `  vinescale live
  vinescale live cellar-1 --pace 2s --page Disks
  vinescale live "Frost Watch" --order -memory_bytes_mean
  vinescale live --here`,
		Args: cobra.ArbitraryArgs,
	}
	f := cmd.Flags()
	f.BoolVar(&isHere, "here", false, "read the kernel of this host itself, without a service")
	f.StringVar(&pace, "pace", "5s", "how often figures are read, 1s to 1m")
	f.StringVar(&page, "page", "", "the page to begin with, such as Disks")
	f.StringVar(&order, "order", "",
		"the column that lines of the first page are ordered by; with a dash before it the most or last first")
	f.StringSliceVar(&columns, "columns", nil, "the columns of the first page, separated by commas")
	clientFlags(cmd)
	roots.flags(cmd)
	completeWith(cmd, "page", []string{pageWorkloads, pageHosts, pageCPUs, pageMemory, pageDisks, pageNetwork, pageGPUs,
		pageSensors, pageSignedIn, pageEvents})
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		out, is := cmd.OutOrStdout().(*os.File)
		if !is || !term.IsTerminal(int(out.Fd())) {
			return usagef("live needs a terminal; for programs, follow a listing with --live and --as jsonl")
		}
		every, err := sheet.ParseSpan(pace)
		if err != nil || every < hub.FastestPace || every > hub.SlowestPace {
			return usagef("--pace %s: give a pace from 1s to 1m", pace)
		}
		o := screen.Options{Page: page, Pace: every, Explain: explainColumn}
		if isHere {
			if len(args) > 0 {
				return usagef("--here looks at this host: leave out %q, or leave out --here", strings.Join(args, " "))
			}
			here, err := newHere(&roots)
			if err != nil {
				return err
			}
			defer here.close()
			o.Source = here
		} else if err := fromService(cmd, strings.Join(args, " "), &o); err != nil {
			return err
		}
		if err := firstPage(&o, order, columns); err != nil {
			return err
		}
		return screen.Run(cmd.Context(), o)
	}
	return cmd
}

// fromService finds whose figures are asked for, and has a service tell them.
func fromService(cmd *cobra.Command, words string, o *screen.Options) error {
	to, err := dial(cmd)
	if err != nil {
		return err
	}
	b := &bookSource{to: to}
	if words != "" {
		what, name, err := resolve(cmd, words, "")
		if err != nil {
			return err
		}
		switch what {
		case "host":
			b.host = name
		case "tenant":
			b.tenant = name
		case "workload":
			o.Begin = &screen.Place{Page: withinWorkload, Of: name, Name: visible(words)}
		default:
			return usagef("%s is a %s: live shows a host, a tenant or a workload", visible(words), what)
		}
	}
	o.Source, o.Lag = b, frameLag
	// Acts are done by this very program, with the service and the token that are used here.
	if self, err := os.Executable(); err == nil {
		o.Self = self
	}
	c, err := loadConfig(cmd)
	if err != nil {
		return err
	}
	o.Env = []string{"VINESCALE_SERVICE=" + c.String("service"), "VINESCALE_TOKEN=" + c.String("token")}
	if file := cmd.Flag("config").Value.String(); file != "" {
		if file, err = filepath.Abs(file); err == nil {
			o.Env = append(o.Env, "VINESCALE_CONFIG="+file)
		}
	}
	return nil
}

// firstPage says how the first page is seen at first.
func firstPage(o *screen.Options, order string, columns []string) error {
	pages := o.Source.Pages()
	names := make([]string, len(pages))
	for i, p := range pages {
		names[i] = p.Name
	}
	if o.Page == "" {
		o.Page = names[0]
	}
	i := slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(n, o.Page) })
	if i < 0 {
		return usagef("there is no page %q: choose one of %s", o.Page, strings.Join(names, ", "))
	}
	o.Page = names[i]
	if order != "" {
		o.Order = map[string]string{o.Page: order}
	}
	if len(columns) > 0 {
		o.Columns = map[string][]string{o.Page: columns}
	}
	return nil
}

// explainColumn says what a column means.
func explainColumn(name, listing string) (title, meaning string) {
	e, is := glossary.Column(name, listing)
	if !is {
		return "", ""
	}
	return e.Name(), e.Meaning
}
