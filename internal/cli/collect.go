package cli

import (
	"cmp"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/explain"
	"vinescale/internal/carry"
	"vinescale/internal/client"
	"vinescale/internal/collect"
	"vinescale/internal/informants"
	"vinescale/internal/kernel"
)

func newCollect() *cobra.Command {
	var roots hostRoots
	cmd := &cobra.Command{
		Use:   "collect",
		Short: "Read this host's counters and send them to the service",
		Long: `Collect reads this host every few seconds, closes an interval a minute, and
keeps each in the spool until the service has committed it: a crash of either, a
lost answer or a cut line loses nothing and counts nothing twice. It needs this
host's credential, which "vinescale hosts enrol NAME" prints.`,
		Example: `  vinescale collect --explain
  VINESCALE_CREDENTIAL=... vinescale collect --service https://books.example --host cellar-1`,
		Args: cobra.NoArgs,
	}
	configFlags(cmd, "service", "credential", "spool", "tick", "acts", "log_level", "log_format")
	roots.flags(cmd)
	explain := cmd.Flags().Bool("explain", false,
		"say what this host can count, what must be added up or split, and what cannot be had; then stop")
	as := asFlag(cmd)
	cmd.Flags().Lookup("as").Usage += " of --explain"
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if *explain {
			return explainHost(cmd, &roots, as.value)
		}
		c, log, err := prepare(cmd)
		if err != nil {
			return err
		}
		tick, err := time.ParseDuration(c.String("tick"))
		if err != nil || tick < 100*time.Millisecond || tick > time.Minute {
			return usagef("tick %q: give a time from 100ms to 1m", c.String("tick"))
		}
		if c.String("credential") == "" {
			return usagef(
				"no credential: \"vinescale hosts enrol %s\" prints one for this host; give it as VINESCALE_CREDENTIAL",
				roots.name,
			)
		}
		token, key, err := act.ParseCredential(c.String("credential"))
		if err != nil {
			return usageError{err}
		}
		to, err := client.New(c.String("service"), token)
		if err != nil {
			return usageError{err}
		}
		// A collector allocates little at a time and lives beside what it measures: memory matters more than the 20 ms
		// in half a minute that collecting garbage sooner takes it with 5,000 processes.
		debug.SetGCPercent(20)
		if err := kernel.KeepSmall(); err != nil {
			log.Debug("pages of the program may be large", "error", err)
		}
		own, err := kernel.OpenOwnFile()
		if err = errors.Join(err, own.Release()); err != nil { // what was needed to begin with
			log.Debug("kept pages of the program that are not needed", "error", err)
		}
		reader, err := roots.open(0)
		if err != nil {
			return err
		}
		defer reader.Close()
		spool, err := collect.OpenSpool(c.String("spool"))
		if err != nil {
			return err
		}
		defer spool.Close()
		log.Info("collecting", "host", roots.name, "cgroups", reader.Mode(), "tick", tick, "service",
			c.String("service"))
		return collect.New(collect.Options{
			Host: roots.name, Source: reader, Names: reader.Registry(), Client: to, Spool: spool, Tick: tick, Log: log,
			BeforeTick: releasing(own, log), Acts: roots.acts(c, reader, key != nil, log), OrderKey: key,
		}).Run(cmd.Context())
	}
	return cmd
}

// acts says how acts are carried out on this host; nil where they are not: another host's files can only be read, and a
// credential from before there were orders has no key to know them by.
func (h *hostRoots) acts(c *config, reader *kernel.Reader, hasKey bool, log *slog.Logger) *carry.Options {
	if !h.own() {
		return nil
	}
	if !hasKey {
		log.Warn(
			"this host takes no orders: its credential is from before there were any; enrol it again for a new one",
			"host",
			h.name,
		)
		return nil
	}
	file := c.String("acts")
	if _, err := carry.ReadPolicy(file); err != nil {
		log.Info("no act is carried out on this host", "host", h.name, "why", err)
	}
	o := &carry.Options{Users: reader.Registry().Users(), Journal: filepath.Join(c.String("spool"), "acts"),
		Self: int32(os.Getpid()), Proc: h.kernel.Proc, Cgroup: h.kernel.Cgroup, Sys: h.kernel.Sys,
		Run: filepath.Join(h.root, "run"), Policy: func() (*act.Policy, error) { return carry.ReadPolicy(file) },
		GPUs: h.gpuAdjuster(), Counts: h.counts}
	for _, asked := range h.asked {
		kind, where, _ := strings.Cut(asked, "=")
		where = strings.TrimPrefix(where, "unix://")
		switch kind {
		case "units":
			o.Systems.Bus = cmp.Or(where, informants.SystemBus)
		case "engine":
			o.Systems.Engine = where
		case "cri":
			o.Systems.Pods = where
		case "libvirt":
			o.Systems.Machines = where
		case "slurm":
			o.Systems.Jobs = cmp.Or(where, informants.JobsCommand)
		}
	}
	return o
}

// releasing returns what a collector does before its readings: it gives back what the last one left behind, 10 ms' work
// with 5,000 processes; and at the first few, and then once in a dozen, the pages of its own program that were needed
// for a while only.
func releasing(own *kernel.OwnFile, log *slog.Logger) func(time.Time) error {
	tick := 0
	return func(time.Time) error {
		debug.FreeOSMemory()
		if tick++; tick <= 3 || tick%12 == 0 {
			if err := own.Release(); err != nil {
				log.Debug("kept pages of the program that are not needed", "error", err)
			}
		}
		return nil
	}
}

// explainHost prints what this host can count.
func explainHost(cmd *cobra.Command, roots *hostRoots, as string) error {
	reader, err := roots.open(0)
	if err != nil {
		return err
	}
	defer reader.Close()
	if err := reader.Read(&account.Reading{}); err != nil { // what GPUs there are is known once they are read
		return err
	}
	abilities := reader.Abilities()
	if as != "table" {
		return write(cmd.OutOrStdout(), as, abilityColumns, abilities)
	}
	w := cmd.OutOrStdout()
	fmt.Fprintf(w, "%s: cgroups %s\n", visible(roots.name), reader.Mode())
	of := "(none yet)"
	for _, a := range abilities {
		if a.Of != of {
			of = a.Of
			head := "Beside these"
			if of != "" {
				head = entryOf(of).Title
			}
			fmt.Fprintf(w, "\n%s\n", head)
		}
		fmt.Fprintf(w, "  %s: %s\n", visible(a.What), visible(a.Source))
		if text := explain.HowGood(&a); text != "" {
			fmt.Fprintf(w, "      %s.\n", strings.ReplaceAll(folded(text), "\n", "\n      "))
		}
	}
	return nil
}

var abilityColumns = []column[account.Ability]{
	{name: "what", value: func(a account.Ability) any { return a.What }},
	{name: "source", value: func(a account.Ability) any { return a.Source }},
	{name: "how", value: func(a account.Ability) any { return a.How }},
	{name: "resolution", value: func(a account.Ability) any { return a.Resolution }},
	{name: "misses", value: func(a account.Ability) any { return a.Misses }},
	{name: "why_not_better", value: func(a account.Ability) any { return a.Why }},
	{name: "resource", value: func(a account.Ability) any { return a.Of }},
}
