package cli

import (
	"cmp"
	"context"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/choice"
	"vinescale/internal/api"
	"vinescale/internal/hub"
)

// chosen is how whoever calls wants figures shown to people; what programs read keeps base units. A process runs one
// command, and what was chosen holds for all of it.
var chosen choice.Choices

// cpuPercent is the unit of CPU time as a percentage of one CPU.
const cpuPercent = "% of a CPU"

// choicesWait is how long a command waits for what is kept with its caller.
const choicesWait = 2 * time.Second

// showFlag adds the flag that says how figures are shown to a command that asks no service.
func showFlag(cmd *cobra.Command) { configFlags(cmd, "show") }

// choose finds how figures are to be shown: as a command's line, the environment or the configuration says, and beyond
// that as its caller keeps it with the service.
func choose(cmd *cobra.Command, _ []string) error {
	chosen = choice.Choices{}
	if cmd.Flags().Lookup("show") == nil {
		return nil
	}
	c, err := loadConfig(cmd)
	if err != nil {
		return err
	}
	said, err := choice.Parse(c.String("show"))
	if err != nil {
		return usagef("--show: %w", err)
	}
	chosen = said.Over(keptChoices(cmd))
	if chosen.Zone != "" {
		zone, err := time.LoadLocation(chosen.Zone)
		if err != nil {
			return err
		}
		time.Local = zone
	}
	return nil
}

// keptChoices are those that a command's caller keeps with the service; none where nothing is shown to people, or no
// service tells them.
func keptChoices(cmd *cobra.Command) choice.Choices {
	var kept api.Chosen
	as := cmd.Flags().Lookup("as")
	if cmd.Flags().Lookup("service") == nil || as != nil && as.Value.String() != "table" {
		return choice.Choices{}
	}
	if here := cmd.Flags().Lookup("here"); here != nil && here.Value.String() == "true" {
		return choice.Choices{}
	}
	to, err := dial(cmd)
	if err != nil {
		return choice.Choices{} // the command itself will say it
	}
	ctx, cancel := context.WithTimeout(cmd.Context(), choicesWait)
	defer cancel()
	if err := to.Get(ctx, api.Prefix+"/me/choices", nil, &kept); err != nil {
		return choice.Choices{}
	}
	kept.Zone = cmp.Or(kept.Zone, kept.SiteZone)
	return kept.Choices
}

// shownAt writes a moment for people, in the zone and on the clock that were chosen. The layout is one of a clock of 24
// hours.
func shownAt(t time.Time, layout string) string {
	if chosen.Clock == "12" {
		layout = strings.NewReplacer("15:04:05", "03:04:05 pm", "15:04", "03:04 pm").Replace(layout)
	}
	return t.Local().Format(layout)
}

// decimals are those that were chosen, or else the usual ones.
func decimals(usual int) int {
	if chosen.Decimals != nil {
		return *chosen.Decimals
	}
	return usual
}

// cpuUnit is the unit of CPU time: cores, or a percentage of a CPU where one was chosen. Of what more it can be told is
// known in few places.
func cpuUnit() unit {
	if chosen.CPU == "" || chosen.CPU == "cores" {
		return unit{"cores", 1, 2}
	}
	return unit{cpuPercent, 0.01, 0}
}

// cpuUnitOf is the unit of the CPU time of a host, or of all, that have so many CPUs.
func cpuUnitOf(host string, cpus int) unit {
	if chosen.CPU != "host" && chosen.CPU != "limit" || cpus == 0 {
		return cpuUnit()
	}
	if host != "all hosts" {
		host = "the host"
	}
	return unit{"% of " + host, float64(cpus) / 100, 1}
}

// cpuUnitOfWorkload is the unit of a workload's CPU time.
func cpuUnitOfWorkload(w *hub.WorkloadLine) unit {
	if chosen.CPU == "limit" && w.MayUseBy != "host" && w.MayUseCPUs > 0 {
		name := "% of its limit"
		if w.MayUseBy == "cpuset" {
			name = "% of its CPUs"
		}
		return unit{name, w.MayUseCPUs / 100, 1}
	}
	return cpuUnitOf(w.Host, w.HostCPUs)
}

// isCPU tells the resource whose time may be shown as a part of something.
func isCPU(e *amount.Entry) bool { return e.Name == amount.CPU.Entry().Name }

// significant writes a figure with four digits that matter, or with the decimals that were chosen.
func significant(v float64) string {
	if chosen.Decimals != nil {
		return strconv.FormatFloat(v, 'f', *chosen.Decimals, 64)
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
}
