package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/carry"
	"vinescale/internal/devices"
	"vinescale/internal/gpulibrary"
	"vinescale/internal/identify"
	"vinescale/internal/informants"
	"vinescale/internal/kernel"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/sheet"
)

func newWeigh() *cobra.Command {
	var over time.Duration
	var first int
	var roots hostRoots
	by := &oneOf{"workload", sheet.Dimensions}
	of := &oneOf{"cpu", append(amount.ResourceNames(), "all")}
	cmd := &cobra.Command{
		Use:   "weigh",
		Short: "Who uses this host, right now, measured from its kernel",
		Long: `Weigh takes two readings of this host's counters and prints the ledger between
them: each share, the kernel's, what stood idle, and the residual that nobody can
be charged with. It needs no service and stores nothing. As root it sees every
process's storage counters; as another user it says what it could not have. With
--live it goes on weighing: each ledger is of the time since the one before.`,
		Example: `  vinescale weigh
  vinescale weigh --over 10s --by user --of memory
  vinescale weigh --live=2s --by user
  vinescale weigh --of all --as json`,
		Args: cobra.NoArgs,
	}
	flags := cmd.Flags()
	flags.DurationVar(&over, "over", 5*time.Second, "how long to weigh")
	flags.Var(by, "by", "what to group the shares by")
	flags.Var(of, "of", "which resource")
	flags.IntVar(&first, "first", 15, "how many shares a table shows; 0 for all")
	roots.flags(cmd)
	as := asFlag(cmd)
	showFlag(cmd)
	completeWith(cmd, "of", of.allowed)
	on := scale{roots: &roots}
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if live := cmd.Flag("live"); live.Changed {
			if flags.Changed("over") {
				return usagef("--live weighs over its own pace: leave out --over")
			}
			over, _ = sheet.ParseSpan(live.Value.String()) // it was checked
		}
		if over < 50*time.Millisecond || over > time.Hour {
			return usagef("--over %s: weigh for 50ms to 1h; counters of processes move in steps of 10 ms", over)
		}
		if first < 0 {
			return usagef("--first %d: give the number of shares to show, or 0 for all", first)
		}
		w, err := on.weigh(cmd.Context(), over)
		if err != nil {
			return err
		}
		for file, err := range w.trouble {
			fmt.Fprintf(cmd.ErrOrStderr(), "vinescale: left out %s: %v\n", file, err)
		}
		var ledgers []sheet.Ledger
		for _, r := range amount.Resources() {
			if of.value == "all" || of.value == r.String() {
				l := sheet.FromInterval(roots.name, w.interval, r, by.value, w.names)
				l.Explain(r, sheet.StretchOf(w.interval, r), float64(w.interval.Ledgers[r].Shares),
					[]*account.Inventory{&w.means})
				ledgers = append(ledgers, l)
			}
		}
		return printLedgers(cmd.OutOrStdout(), as.value, by.value, first, ledgers)
	}
	followHere(cmd, on.close)
	return cmd
}

// hostRoots are the flags that say which host is read: this one, or a staged one.
type hostRoots struct {
	kernel    kernel.Roots
	root      string
	name      string
	diskRates []string
	idleWatts float64
	asked     []string
	sites     []string
	counts    bool
	gpus      string // the library that tells of GPUs: auto, none, or a path
}

func (h *hostRoots) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&h.name, "host", hostname(), "the name this host goes by")
	f.StringVar(&h.root, "root", "/",
		"root of the host's files, where another host's, or this one's, are mounted elsewhere")
	f.StringVar(&h.kernel.Proc, "proc-root", "", "root of the process tree (default: proc below --root)")
	f.StringVar(&h.kernel.Sys, "sys-root", "", "root of the device tree (default: sys below --root)")
	f.StringVar(&h.kernel.Cgroup, "cgroup-root", "", "root of the cgroup trees (default: sys/fs/cgroup below --root)")
	f.StringArrayVar(&h.asked, "ask", nil,
		"another system to ask for names, labels and limits, read-only: "+informants.Help)
	f.StringArrayVar(&h.sites, "jobs-by", nil,
		"how this site's batch jobs are known: NAME:env:job=VARIABLE[,user=VARIABLE][,account=VARIABLE] or "+
			"NAME:path:PATTERN")
	f.BoolVar(&h.counts, "ebpf", true,
		"count inside the kernel what its files do not tell (with eBPF), where this host and its rights allow")
	f.StringVar(&h.gpus, "gpu-library", "auto",
		"the vendor's library that tells of GPUs: its path; auto where its driver is loaded; or none")
	f.Float64Var(&h.idleWatts, "idle-watts", 0,
		"what the host draws at rest by its own meters, in watts, without GPUs that have meters: it is set apart from "+
			"what workloads cause")
	f.StringArrayVar(&h.diskRates, "disk-rate", nil,
		"what a disk can carry, as NAME=BYTES_PER_SECOND (the kernel does not say)")
}

// open opens the host for reading; slowPace as in kernel.Options.
func (h *hostRoots) open(slowPace time.Duration) (*kernel.Reader, error) {
	if h.idleWatts < 0 || h.idleWatts > 1e6 {
		return nil, usagef("--idle-watts %g: give watts, 0 to 1000000", h.idleWatts)
	}
	rates, err := parseRates(h.diskRates)
	if err != nil {
		return nil, err
	}
	at := func(chosen *string, below string) {
		if *chosen == "" {
			*chosen = filepath.Join(h.root, below)
		}
	}
	at(&h.kernel.Proc, "proc")
	at(&h.kernel.Sys, "sys")
	at(&h.kernel.Cgroup, "sys/fs/cgroup")
	at(&h.kernel.Etc, "etc")
	o := identify.Options{Roots: identify.Roots{Etc: filepath.Join(h.root, "etc"), Run: filepath.Join(h.root, "run"),
		Proc: h.kernel.Proc}}
	for _, s := range h.asked {
		x, err := informants.Parse(s)
		if err != nil {
			return nil, usagef("--ask %w", err)
		}
		o.Informants = append(o.Informants, x)
	}
	for _, s := range h.sites {
		x, err := identify.ParseSite(s)
		if err != nil {
			return nil, usagef("--jobs-by %w", err)
		}
		o.Sites = append(o.Sites, x)
	}
	boot, _ := os.ReadFile(filepath.Join(h.kernel.Proc, "sys/kernel/random/boot_id")) // Open says if it cannot be read
	o.Boot = string(boot)
	var counters *bpf.Counters
	if h.own() {
		o.Self = int32(os.Getpid())
		if h.counts {
			counters = bpf.Open(bpf.Options{CgroupV2: kernel.CgroupV2(h.kernel.Cgroup)})
		}
	}
	reader, err := kernel.Open(identify.NewRegistry(o),
		kernel.Options{Roots: h.kernel, DiskRates: rates, IdleMicroWatts: int64(h.idleWatts * 1e6),
			Counters: counters, Ask: h.own(), Units: h.units, SlowPace: slowPace, GPULibrary: h.gpuLibrary()})
	if err != nil {
		counters.Close()
	}
	return reader, err
}

// gpuLibrary is what asks the vendor's library of GPUs: this program again, in a process of its own. Another host's
// library cannot be asked, but one that was named is.
func (h *hostRoots) gpuLibrary() devices.Library {
	const self = "/proc/self/exe" // where it is, even once another version has taken its place
	switch {
	case h.gpus == "none" || h.gpus == "":
		return nil
	case h.gpus != "auto":
		return devices.NewHelper("", 0, self, gpuHelper, h.gpus)
	case !h.own():
		return nil
	}
	return devices.NewHelper(devices.VendorDriver, 0, self, gpuHelper)
}

// gpuAdjuster is what sets what the same library lets be set; nil where there is none.
func (h *hostRoots) gpuAdjuster() carry.GPULibrary {
	const self = "/proc/self/exe"
	switch {
	case h.gpus == "none" || h.gpus == "" || h.gpus == "auto" && !h.own():
		return nil
	case h.gpus == "auto":
		return devices.NewAdjuster(devices.VendorDriver, self, gpuAdjust, "")
	}
	return devices.NewAdjuster("", self, gpuAdjust, h.gpus)
}

// gpuHelper and gpuAdjust are the commands that helpers run.
const (
	gpuHelper = "gpu-helper"
	gpuAdjust = "gpu-adjust"
)

// newGPUAdjust is the command by which this program sets something of a GPU in a process of its own.
func newGPUAdjust() *cobra.Command {
	return &cobra.Command{
		Use:    gpuAdjust + " LIBRARY ADDRESS SETTING [VALUE]",
		Hidden: true,
		Args:   cobra.RangeArgs(3, 4),
		Short:  "Read or set what a vendor's library lets be set of a GPU (for this program itself)",
		RunE: func(cmd *cobra.Command, args []string) error {
			return gpulibrary.Adjust(args[0], args[1:], cmd.OutOrStdout())
		},
	}
}

// newGPUHelper is the command by which this program asks a library of GPUs in a process of its own.
func newGPUHelper() *cobra.Command {
	return &cobra.Command{Use: gpuHelper + " [LIBRARY]", Hidden: true, Args: cobra.MaximumNArgs(1),
		Short: "Answer each line with what a vendor's library tells of GPUs (for this program itself)",
		RunE: func(cmd *cobra.Command, args []string) error {
			path := ""
			if len(args) > 0 {
				path = args[0]
			}
			return gpulibrary.Serve(path, cmd.InOrStdin(), cmd.OutOrStdout())
		}}
}

// units asks this host's init system which of its units failed, and which are stuck.
func (h *hostRoots) units() (failed []string, stuck []account.Unit, err error) {
	if !h.own() {
		return nil, nil, errors.New("the init system of another host is not asked")
	}
	if _, err := os.Stat("/run/systemd/system"); err != nil {
		return nil, nil, errors.New("no init system that tells runs on this host")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	return informants.UnitsInTrouble(ctx, "unix:path=/run/dbus/system_bus_socket", time.Now().Add(-explain.StuckAfter))
}

// own tells whether the host that is read is the one this runs on: the kernel that counts is then the one the files are
// of.
func (h *hostRoots) own() bool {
	return h.kernel.Proc == "/proc" && h.kernel.Sys == "/sys" && h.kernel.Cgroup == "/sys/fs/cgroup"
}

func parseRates(rates []string) (map[string]int64, error) {
	m := map[string]int64{}
	for _, s := range rates {
		name, value, ok := strings.Cut(s, "=")
		var n float64
		if _, err := fmt.Sscanf(value, "%g", &n); !ok || name == "" || err != nil || n <= 0 {
			return nil, usagef("--disk-rate %q: write it as NAME=BYTES_PER_SECOND, such as nvme0n1=3.2e9", s)
		}
		m[name] = int64(n)
	}
	return m, nil
}

// weighing is the outcome of two readings.
type weighing struct {
	interval *account.Interval
	names    sheet.Namer
	trouble  map[string]error
	means    account.Inventory // what it says of how this host is counted
}

// scale weighs one host, between a reading and the next.
type scale struct {
	roots   *hostRoots
	reader  *kernel.Reader
	tracker account.Tracker
	reading [2]account.Reading // what is read now, and what it is compared with
	turn    int
}

// weigh compares a reading with the one before; at first there is none, and it takes one and lets so much time pass.
func (s *scale) weigh(ctx context.Context, over time.Duration) (*weighing, error) {
	if s.reader == nil {
		if err := s.begin(ctx, over); err != nil {
			return nil, err
		}
	}
	iv, err := s.read()
	if err != nil {
		return nil, err
	}
	return &weighing{iv, namer(s.reader.Registry()), s.reader.Trouble(),
		account.Inventory{Counting: s.reader.Abilities()}}, nil
}

func (s *scale) begin(ctx context.Context, over time.Duration) (err error) {
	if s.reader, err = s.roots.open(-1); err != nil { // few readings are compared
		return err
	}
	// Twice: the first one takes long, since it looks at everything for the first time, and so is of no one moment.
	if err := s.reader.Read(&s.reading[0]); err != nil {
		return err
	}
	if _, err := s.read(); err != account.ErrFirstReading {
		return err
	}
	asked := make(chan struct{})
	go func() {
		defer close(asked)
		s.reader.Registry().Ask(ctx)
	}()
	defer func() { <-asked }()
	select {
	case <-time.After(over):
		return nil
	case <-ctx.Done():
		return fmt.Errorf("stopped before the second reading: %w", ctx.Err())
	}
}

func (s *scale) read() (*account.Interval, error) {
	r := &s.reading[s.turn]
	s.turn = 1 - s.turn
	if err := s.reader.Read(r); err != nil {
		return nil, err
	}
	return s.tracker.Step(r)
}

func (s *scale) close() {
	if s.reader != nil {
		s.reader.Close()
	}
}

func namer(r *identify.Registry) sheet.Namer {
	return sheet.Namer{Workload: r.Workload, Program: r.ProgramName}
}

// printLedgers prints one page a resource; for programs, one object a resource: a lone one as itself, several as a
// list.
func printLedgers(w io.Writer, as, by string, first int, ledgers []sheet.Ledger) error {
	switch as {
	case "csv":
		return ledgersCSV(w, ledgers)
	case "json":
		if len(ledgers) == 1 {
			return writeIndented(w, ledgers[0])
		}
		return writeJSON(w, as, ledgers)
	case "jsonl":
		return writeJSON(w, as, ledgers)
	}
	for i := range ledgers {
		if i > 0 {
			fmt.Fprintln(w)
		}
		if err := writeBook(w, &ledgers[i], by, first); err != nil {
			return err
		}
	}
	return nil
}

// ledgersCSV prints every share and every line of the ledger as a row; a line that is no share has its name as kind.
func ledgersCSV(w io.Writer, ledgers []sheet.Ledger) error {
	out := csv.NewWriter(w)
	if err := out.Write([]string{"host", "from", "to", "resource", "unit", "mean_unit", "name", "kind", "owner",
		"tenant", "amount", "mean", "source", "reason"}); err != nil {
		return err
	}
	for i := range ledgers {
		l := &ledgers[i]
		row := func(name, kind, owner, tenant string, amount *float64, source, reason string) error {
			var mean *float64
			if amount != nil {
				m := l.Mean(*amount)
				mean = &m
			}
			return out.Write([]string{l.Host, l.From.Format(time.RFC3339Nano), l.To.Format(time.RFC3339Nano),
				l.Resource, l.Unit, l.MeanUnit,
				name, kind, owner, tenant, plain(amount), plain(mean), source, reason})
		}
		for _, s := range l.Shares {
			if err := row(s.Name, s.Kind, s.Owner, s.Tenant, s.Amount, s.Source, s.Reason); err != nil {
				return err
			}
		}
		for _, line := range []struct {
			name   string
			amount *float64
		}{{"kernel", l.Kernel}, {"steal", l.Steal}, {"idle", l.Idle}, {"residual", l.Residual},
			{"capacity", l.Capacity}} {
			source := ""
			if line.amount == nil {
				source = amount.Unavailable.String()
			}
			if err := row(line.name, "line", "", "", line.amount, source, l.Notes[line.name]); err != nil {
				return err
			}
		}
	}
	out.Flush()
	return out.Error()
}
