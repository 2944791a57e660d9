package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/explain"
	"vinescale/internal/api"
)

func pinsEffective() *cobra.Command {
	cmd := &cobra.Command{Use: "effective HOST", Args: cobra.ExactArgs(1),
		Short: "What keeps workloads on some of a host's CPUs now, declared or not",
		Long: `Effective lists the workloads of a host that affinity, a cpuset or a partition of CPUs
keeps on some of its CPUs, and those that a scheduler or a machine manager gave some: where
they may run, what keeps them there, what they were given, and what does not agree. Below
stand the CPUs that are left for everybody.`,
		Example: `  vinescale pins effective cellar-1`}
	clientFlags(cmd)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		e, err := effectivePins(cmd, args[0])
		if err != nil {
			return err
		}
		type pin = explain.EffectivePin
		err = list(cmd, as, []column[pin]{
			{name: "workload", value: func(p pin) any { return p.Workload }},
			{name: "kind", value: func(p pin) any { return p.Kind }},
			{name: "tenant", value: func(p pin) any { return p.Tenant }},
			{name: "cpus", head: "may run on", value: func(p pin) any { return p.CPUs }},
			{name: "kept_by", head: "kept by", value: func(p pin) any { return p.KeptBy }},
			{name: "given_cpus", head: "given", value: func(p pin) any { return p.Given }},
			{name: "declared", value: func(p pin) any { return p.Declared }},
			{name: "cpuset_cpus", value: func(p pin) any { return p.CPUSet }, extra: true},
			{name: "vcpus", value: func(p pin) any { return vcpusText(p.VCPUs) }, extra: true},
			{name: "masks", value: func(p pin) any { return p.Masks }, extra: true},
			{name: "notes", value: func(p pin) any { return strings.Join(p.Notes, "; ") }, extra: true},
		}, e.Workloads)
		if err != nil || as.as.value != "table" || len(as.columns) > 0 {
			return err
		}
		fmt.Fprintln(cmd.OutOrStdout())
		for _, p := range e.Workloads {
			if len(p.VCPUs) > 0 {
				cmd.Println(folded(fmt.Sprintf("*  %s: %s.", visible(p.Workload), vcpusText(p.VCPUs))))
			}
			for _, note := range p.Notes {
				cmd.Println(folded("*  " + visible(p.Workload) + ": " + visible(note) + "."))
			}
		}
		if e.CPUs != "" {
			cmd.Println(folded("Left for everybody: " + orNone(e.Left) + " of CPUs " + e.CPUs + "."))
		}
		return nil
	}
	return cmd
}

func orNone(cpus string) string {
	if cpus == "" {
		return "none"
	}
	return "CPUs " + cpus
}

// vcpusText is where virtual CPUs may run, and where they are to be if that is elsewhere.
func vcpusText(vcpus []explain.VCPU) string {
	parts := make([]string, len(vcpus))
	for i, v := range vcpus {
		parts[i] = "vCPU " + v.VCPU + " on "
		switch {
		case v.CPUs == "":
			parts[i] += v.Told + " as its manager was told"
		case v.Told == "" || v.Told == v.CPUs:
			parts[i] += v.CPUs
		default:
			parts[i] += v.CPUs + " (told " + v.Told + ")"
		}
	}
	return strings.Join(parts, ", ")
}

func effectivePins(cmd *cobra.Command, host string) (e api.EffectiveHost, err error) {
	return e, get(cmd, "/hosts/"+url.PathEscape(host)+"/pins", nil, &e)
}

func pinsAdopt() *cobra.Command {
	isPreview, isShared := false, false
	reason := ""
	cmd := acting(
		"adopt HOST [WORKLOAD]...",
		"Declare what is effective: the CPUs that workloads are kept on now",
		0,
		nil,
	)
	cmd.Args = cobra.MinimumNArgs(1)
	cmd.Long = `Adopt declares the CPUs that affinity or a cpuset keeps workloads on, for each of them:
those named, or all that "vinescale pins effective" lists and nothing is declared for. Where
nothing keeps a job there, it is those that its scheduler gave it.`
	cmd.Example = `  vinescale pins adopt cellar-1 --preview
  vinescale pins adopt cellar-1 bottling-plc --reason "as it stands"`
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		e, err := effectivePins(cmd, args[0])
		if err != nil {
			return err
		}
		var chosen []explain.EffectivePin
		named := map[string]bool{}
		for _, name := range args[1:] {
			named[name] = true
		}
		found := map[string]bool{}
		for _, p := range e.Workloads {
			if p.KeptBy == explain.KeptByNothing {
				if p.CPUs = p.Given; p.Given == "" {
					continue
				}
			}
			if named[p.Workload] || len(named) == 0 && p.Declared == "" {
				chosen = append(chosen, p)
				found[p.Workload] = true
			}
		}
		for _, name := range args[1:] {
			if !found[name] {
				return fmt.Errorf(
					"%s is not kept on some CPUs of %s: \"vinescale pins effective %s\" lists what is",
					name,
					args[0],
					args[0],
				)
			}
		}
		for _, p := range chosen {
			if isPreview {
				cmd.Printf("would declare CPUs %s of %s for %s\n", p.CPUs, visible(args[0]), visible(p.Workload))
				continue
			}
			order := api.PinToDeclare{Host: args[0], CPUs: p.CPUs, Kind: explain.HolderWorkload, Holder: p.Workload,
				IsShared: isShared, Reason: reason}
			var d api.DeclaredPin
			if err := send(cmd, "PUT", "/pins", order, &d); err != nil {
				return err
			}
			cmd.Println(pinSentence(&d))
		}
		if len(chosen) == 0 {
			cmd.Println("There is nothing to adopt: what is kept on some CPUs is declared already.")
		}
		return nil
	}
	cmd.Flags().BoolVar(&isPreview, "preview", false, "only show what would be declared")
	cmd.Flags().BoolVar(&isShared, "shared", false, "others may run there too")
	cmd.Flags().StringVar(&reason, "reason", "", "why, for those who read the history")
	return cmd
}
