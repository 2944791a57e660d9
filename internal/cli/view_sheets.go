package cli

import (
	"fmt"
	"strconv"
	"strings"

	"vinescale/core/explain"
	"vinescale/internal/hub"
	"vinescale/internal/screen"
)

// The sheets that a service and a host's own kernel fill alike.

func cpuSheet(c *explain.CPUs) *screen.Sheet {
	s := sheetOf("cpus", cpuParts, nil, c.CPUs, func(explain.CPULine, *screen.Row) {})
	if line := loadLine(c.Load, len(c.CPUs)); line != "" {
		s.Head = append(s.Head, line)
	}
	if text := waited(c.Pressure); text != "" {
		s.Head = append(s.Head, text)
	}
	s.Note = c.Reason
	return s
}

func diskSheet(d *explain.Disks) *screen.Sheet {
	s := sheetOf("disks", deviceColumns, []string{"name", "host", "busy", "read_bytes_per_second",
		"written_bytes_per_second", "reads_per_second", "writes_per_second", "latency_ms_mean", "queue_mean",
		"first_user", "mount_state", "mount"}, d.Devices, func(x explain.DeviceLine, r *screen.Row) {
		r.Key = x.Host + "/" + x.Name
		r.Cells[0].Text = strings.Repeat("  ", x.Depth) + visible(x.Name)
	})
	s.Head = []string{d.Verdict}
	return s
}

func linkSheet(l *explain.Links) *screen.Sheet {
	return sheetOf("interfaces", linkColumns, []string{"interface", "host", "kind", "received_bytes_per_second",
		"sent_bytes_per_second", "received_packets_per_second", "sent_packets_per_second", "dropped_packets", "errors",
		"other_end"}, l.Interfaces, func(x explain.LinkLine, r *screen.Row) { r.Key = x.Host + "/" + x.Name })
}

func gpuSheet(g *explain.GPUs) *screen.Sheet {
	s := sheetOf("gpus", gpuColumns, []string{"number", "host", "title", "state", "busy", "memory_used_bytes_mean",
		"memory_bytes", "given_to", "used_by", "notices"}, g.GPUs, func(x explain.GPULine, r *screen.Row) {
		r.Key = x.Host + "/" + x.Name
	})
	return s
}

func sensorSheet(lines []hub.SensorLine) *screen.Sheet {
	return sheetOf("sensors", sensorColumns, nil, lines, func(x hub.SensorLine, r *screen.Row) {
		r.Key = x.Host + "/" + x.Chip + "/" + x.Device + "/" + x.Name
	})
}

// signInColumns are the columns of those who are signed in.
var signInColumns = []column[hub.WorkloadLine]{
	{name: "owner", value: func(w hub.WorkloadLine) any { return w.Owner }},
	{name: "host", value: func(w hub.WorkloadLine) any { return w.Host }},
	{name: "origin", head: "from", value: func(w hub.WorkloadLine) any { return w.Facts["origin"] }},
	{name: "terminal", value: func(w hub.WorkloadLine) any { return w.Facts["terminal"] }},
	{name: "since", value: func(w hub.WorkloadLine) any { return w.Since }},
	{name: "processes", right: true, value: func(w hub.WorkloadLine) any { return w.Processes }},
	cpuMean,
	{name: "state", value: func(w hub.WorkloadLine) any { return w.State }},
	{name: "tenant", value: func(w hub.WorkloadLine) any { return w.Tenant }},
}

func signInSheet(lines []hub.WorkloadLine) *screen.Sheet {
	s := sheetOf("workloads", signInColumns, nil, lines, workloadRow)
	for i := range s.Rows {
		id := s.Rows[i].Key
		s.Rows[i].Acts = append(s.Rows[i].Acts, screen.Act{Name: "message",
			Args: []string{"act", "message", "workload/" + id, "--text", "please sign out"}})
	}
	return s
}

// familySheet lists the families of a workload.
func familySheet(families []explain.Family, workload, host string) *screen.Sheet {
	return sheetOf("about", familyColumns, nil, families, func(f explain.Family, r *screen.Row) {
		pid := strconv.Itoa(int(f.Head.PID))
		r.Key = pid
		r.Open = &screen.Place{Page: withinFamily, Of: workload + "/" + pid,
			Name: fmt.Sprintf("%s (%s)", visible(f.Head.Program), pid)}
		for _, m := range f.Members {
			r.Find += fmt.Sprintf(" %s %d", m.Program, m.PID)
		}
		r.Acts = processActs("--family", pid, host)
	})
}

// processSheet lists the processes of a family. Threads is the page that opening one leads to; empty for none.
func processSheet(families []explain.Family, pid string, look func(explain.Process) running, threads,
	host string) *screen.Sheet {
	var members []running
	for i := range families {
		if strconv.Itoa(int(families[i].Head.PID)) == pid {
			for _, p := range families[i].Members {
				members = append(members, look(p))
			}
		}
	}
	return sheetOf("about", processColumns, nil, members, func(p running, r *screen.Row) {
		own := strconv.Itoa(int(p.PID))
		r.Key = own
		if threads != "" {
			r.Open = &screen.Place{Page: threads, Of: own, Name: fmt.Sprintf("%s (%s)", visible(p.Program), own)}
		}
		r.Acts = append(processActs("--process", own, host), screen.Act{Name: "look closer",
			Args: []string{"act", "look", "--process", own, "--host", host, "--yes"}})
	})
}

func processActs(flag, pid, host string) []screen.Act {
	if host == "" {
		return nil
	}
	var acts []screen.Act
	for _, x := range []struct {
		name string
		args []string
	}{{"end", nil}, {"pause", nil}, {"continue", nil}, {"weigh", []string{"--nice", "10"}},
		{"place", []string{"--cpus", "0"}}} {
		acts = append(acts, screen.Act{Name: x.name,
			Args: append([]string{"act", x.name, flag, pid, "--host", host}, x.args...)})
	}
	return acts
}
