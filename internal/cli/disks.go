package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vinescale/core/amount"
	"vinescale/core/explain"
	"vinescale/internal/hub"
)

func newDisks() *cobra.Command {
	var users int
	var failTrouble bool
	cmd := &cobra.Command{
		Use: "disks", Short: "Whether storage is the problem, on which device, and who causes it",
		Long: `Disks shows every block device, the busiest drive first with what is on it below:
bytes, operations, how long they took, how busy the device was, and which
workloads had how much of it. A workload's bytes are seen at every level: on its
partition or volume, and on the drive below. What the kernel wrote back later is
split by who dirtied it.`,
		Example: `  vinescale disks
  vinescale disks --host cellar-1 --span 1h --users 5
  vinescale disks --fail-trouble || echo "storage is the bottleneck"`,
	}
	cmd.Flags().IntVar(&users, "users", 3, "how many workloads to show below each device")
	cmd.Flags().BoolVar(&failTrouble, "fail-trouble", false, "exit with 3 when a device is at its end")
	cmd.PreRunE = func(*cobra.Command, []string) error {
		if users < 0 {
			return usagef("--users %d: give the number of workloads to show, or 0 for none", users)
		}
		return nil
	}
	return acrossHosts(cmd, "/disks", &report[explain.Disks, explain.DeviceLine]{
		page: func(w io.Writer, d *explain.Disks) error { return printDisks(w, users, d) },
		rows: func(d *explain.Disks) []explain.DeviceLine { return d.Devices }, columns: deviceColumns,
		holds: func(d *explain.Disks) bool { return failTrouble && d.Trouble },
	})
}

var deviceColumns = []column[explain.DeviceLine]{
	{name: "host", value: func(x explain.DeviceLine) any { return x.Host }},
	{name: "name", value: func(x explain.DeviceLine) any { return x.Name }},
	{name: "kind", value: func(x explain.DeviceLine) any { return x.Kind }},
	{name: "on", value: func(x explain.DeviceLine) any { return strings.Join(x.On, " ") }},
	{name: "controller", value: func(x explain.DeviceLine) any { return x.Controller }},
	{name: "mount", value: func(x explain.DeviceLine) any { return x.Mount }},
	{name: "mount_state", value: func(x explain.DeviceLine) any { return x.MountState }},
	{name: "size_bytes", value: func(x explain.DeviceLine) any { return x.SizeBytes }},
	{name: "space_bytes", value: func(x explain.DeviceLine) any { return x.SpaceBytes }},
	{name: "used_bytes", value: func(x explain.DeviceLine) any { return x.UsedBytes }},
	{name: "inodes", value: func(x explain.DeviceLine) any { return x.Inodes }},
	{name: "used_inodes", value: func(x explain.DeviceLine) any { return x.UsedInodes }},
	{name: "read_bytes_per_second", value: func(x explain.DeviceLine) any { return x.ReadRate }},
	{name: "written_bytes_per_second", value: func(x explain.DeviceLine) any { return x.WriteRate }},
	{name: "reads_per_second", value: func(x explain.DeviceLine) any { return x.Reads }},
	{name: "writes_per_second", value: func(x explain.DeviceLine) any { return x.Writes }},
	{name: "merged_per_second", value: func(x explain.DeviceLine) any { return x.Merged }},
	{name: "discarded_bytes_per_second", value: func(x explain.DeviceLine) any { return x.Discarded }},
	{name: "discards_per_second", value: func(x explain.DeviceLine) any { return x.Discards }},
	{name: "flushes_per_second", value: func(x explain.DeviceLine) any { return x.Flushes }},
	{name: "in_flight", value: func(x explain.DeviceLine) any { return x.InFlight }},
	{name: "busy", value: func(x explain.DeviceLine) any { return x.Busy }},
	{name: "queue_mean", value: func(x explain.DeviceLine) any { return x.Queue }},
	{name: "latency_ms_mean", value: func(x explain.DeviceLine) any { return x.LatencyMean }},
	{name: "latency_ms_p99", value: func(x explain.DeviceLine) any { return x.LatencyP99 }},
	{name: "other_bytes_per_second", value: func(x explain.DeviceLine) any { return x.OtherBytes }},
	{name: "first_user", value: func(x explain.DeviceLine) any {
		if len(x.Users) == 0 {
			return ""
		}
		return x.Users[0].Name
	}},
}

func printDisks(w io.Writer, users int, d *explain.Disks) error {
	fmt.Fprintf(w, "%s from %s until %s\n%s\n%s\n", visible(d.Host), shownAt(d.From, "2006-01-02 15:04"),
		shownAt(d.To, "15:04"), folded(d.Verdict), missedLines(&d.Missed))
	if len(d.Devices) == 0 {
		return nil
	}
	t := newTable(w)
	t.row(
		cell{"device, who used it", false},
		cell{"mounted", false},
		cell{"full", true},
		cell{"read " + columnUnit(amount.Disk).name, true},
		cell{"written " + columnUnit(amount.Disk).name, true},
		cell{"ops/s", true},
		cell{"ms", true},
		cell{"p99 ms", true},
		cell{"queue", true},
		cell{"busy", true},
		cell{"source", false},
		cell{"", false},
	)
	for i := range d.Devices {
		x := &d.Devices[i]
		if x.Kind == "memory" || x.Depth > 0 && x.ReadRate+x.WriteRate == 0 && x.Mount == "" {
			continue
		}
		name := strings.Repeat("  ", x.Depth) + x.Name
		if x.Depth == 0 {
			name += " on " + x.Host
		}
		mount := x.Mount
		if mount == "" {
			mount = x.MountState
		}
		full := ""
		if x.SpaceBytes != nil && *x.SpaceBytes > 0 {
			full = percentText(float64(*x.UsedBytes) / float64(*x.SpaceBytes))
		}
		t.row(cell{name, false}, cell{mount, false}, cell{full, true}, cell{meanText(amount.Disk, x.ReadRate), true},
			cell{meanText(amount.Disk, x.WriteRate), true},
			cell{fmt.Sprintf("%.1f", x.Reads+x.Writes), true}, cell{orDash(x.LatencyMean), true},
			cell{orDash(x.LatencyP99), true}, cell{fmt.Sprintf("%.2f", x.Queue), true},
			cell{percentText(x.Busy), true}, cell{"", false}, cell{barText(x.Busy), false})
		if x.Depth > 0 && x.IsAll {
			continue // its users are those just listed
		}
		if x.Discards > 0 {
			t.row(
				cell{strings.Repeat("  ", x.Depth+1) + "was told to forget", false},
				cell{"", false},
				cell{"", true},
				cell{
					"",
					true,
				},
				cell{meanText(amount.Disk, x.Discarded), true},
				cell{fmt.Sprintf("%.1f", x.Discards), true},
				cell{"", true},
				cell{"", true},
				cell{"", true},
				cell{"", true},
				cell{"", false},
				cell{"not among those written", false},
			)
		}
		indent := strings.Repeat("  ", x.Depth+1) + "· "
		for _, u := range x.Users[:min(users, len(x.Users))] {
			t.row(cell{indent + u.Name, false}, cell{u.Tenant, false}, cell{"", true},
				cell{meanText(amount.Disk, u.ReadRate), true}, cell{meanText(amount.Disk, u.WriteRate), true},
				cell{fmt.Sprintf("%.1f", u.Reads+u.Writes), true}, cell{orBlank(u.Latency), true}, cell{"", true},
				cell{"", true}, cell{"", true}, cell{u.Source, false},
				cell{percentText(u.Share) + " of its bytes", false})
		}
		if n := len(x.Users) - users; n > 0 && users > 0 {
			t.row(cell{fmt.Sprintf("%s%d more", indent, n), false})
		}
		if x.Depth == 0 && x.OtherBytes >= 5e3 && users > 0 {
			t.row(cell{indent + "no workload's", false}, cell{"", false}, cell{"", true}, cell{"", true},
				cell{meanText(amount.Disk, x.OtherBytes), true})
		}
	}
	if err := t.flush(); err != nil {
		return err
	}
	if err := printControllers(w, d); err != nil {
		return err
	}
	untold := map[string][]string{}
	for _, x := range d.Devices {
		if x.Depth == 0 && x.NoUsers != "" && x.Kind != "memory" {
			untold[x.NoUsers] = append(untold[x.NoUsers], x.Name+" on "+x.Host)
		}
	}
	for _, why := range slices.Sorted(maps.Keys(untold)) {
		fmt.Fprintf(w, "\n%s\n",
			folded(fmt.Sprintf("Who used %s: not available, because %s.", strings.Join(untold[why], ", "), why)))
	}
	fmt.Fprintln(w, "\nBusy is the part of the time with an operation in flight. –  no operations, or not counted.")
	return nil
}

// printControllers shows what the drives behind each controller did together: of one host each, of all hosts those with
// several drives.
func printControllers(w io.Writer, d *explain.Disks) error {
	t := newTable(w)
	rows := 0
	for _, c := range d.Controllers {
		if len(c.Drives) < 2 && d.Host == hub.Fleet {
			continue
		}
		if rows++; rows == 1 {
			fmt.Fprintln(w)
			t.row(
				cell{"controller", false},
				cell{"drives", false},
				cell{"read " + columnUnit(amount.Disk).name, true},
				cell{"written " + columnUnit(amount.Disk).name, true},
				cell{"ops/s", true},
				cell{"queue", true},
				cell{"most by", false},
			)
		}
		most := ""
		if len(c.Users) > 0 {
			most = fmt.Sprintf("%s, %s", c.Users[0].Whose(), percentText(c.Users[0].Share))
		}
		t.row(cell{c.Controller + " of " + c.Host, false}, cell{strings.Join(c.Drives, " "), false},
			cell{meanText(amount.Disk, c.ReadRate), true}, cell{meanText(amount.Disk, c.WriteRate), true},
			cell{fmt.Sprintf("%.1f", c.Reads+c.Writes), true}, cell{fmt.Sprintf("%.2f", c.Queue), true},
			cell{most, false})
	}
	if rows == 0 {
		return nil
	}
	return t.flush()
}

func orBlank(v *float64) string {
	if v == nil {
		return ""
	}
	return orDash(v)
}

func orDash(v *float64) string {
	if v == nil {
		return "–"
	}
	return fmt.Sprintf("%.3g", *v)
}
