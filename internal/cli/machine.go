package cli

import (
	"fmt"
	"io"
	"strings"

	"vinescale/core/account"
	"vinescale/internal/hub"
)

// startsShown is how many things that begin by themselves are shown for people.
const startsShown = 12

// writeMachine tells what a host is made of.
func writeMachine(w io.Writer, m *hub.Machine) error {
	if m.Reason != "" {
		_, err := fmt.Fprintf(w, "\nWhat it is made of: not available, because %s.\n", m.Reason)
		return err
	}
	fmt.Fprintln(w)
	var rows [][2]string
	for _, f := range m.Facts {
		text := f.Text
		if text == "" {
			text = "– " + f.Why
		}
		rows = append(rows, [2]string{f.What, text})
	}
	rows = append(
		rows,
		[2]string{"memory modules", modulesText(m)},
		[2]string{"swap", swapsText(m.Swaps)},
		[2]string{
			"GPUs",
			strings.Join(m.GPUs, ", "),
		},
		[2]string{"failed", failedText(m)},
		[2]string{"stuck", stuckText(m)},
		[2]string{"sensors", fmt.Sprint(m.Sensors)},
	)
	if err := pairs(w, rows); err != nil {
		return err
	}
	if err := writeDrives(w, m.Devices); err != nil {
		return err
	}
	if len(m.Links) > 0 {
		fmt.Fprintln(w)
		t := newTable(w)
		t.row(cell{"link", false}, cell{"state", false}, cell{"line rate", true}, cell{"addresses", false},
			cell{"hardware", false})
		for _, l := range m.Links {
			rate := "–"
			if l.Mbit > 0 {
				rate = fmt.Sprintf("%g Gbit/s", float64(l.Mbit)/1000)
			}
			t.row(cell{l.Name, false}, cell{l.State, false}, cell{rate, true},
				cell{strings.Join(l.Addresses, ", "), false}, cell{l.Hardware, false})
		}
		if err := t.flush(); err != nil {
			return err
		}
	}
	if len(m.Starts) == 0 {
		return nil
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{"begins by itself", false}, cell{"kind", false}, cell{"when", false})
	for i, s := range m.Starts {
		if i == startsShown {
			break
		}
		t.row(cell{s.Name, false}, cell{s.Kind, false}, cell{s.When, false})
	}
	if err := t.flush(); err != nil {
		return err
	}
	if n := len(m.Starts) - startsShown; n > 0 {
		fmt.Fprintf(w, "%d more; --as json lists them\n", n)
	}
	return nil
}

// modulesText tells slots of one kind together: how many are filled, with what.
func modulesText(m *hub.Machine) string {
	if m.NoModules != "" {
		return "– " + m.NoModules
	}
	kinds, order, empty := map[string][]string{}, []string{}, 0
	for i := range m.Modules {
		x := &m.Modules[i]
		if x.SizeBytes == 0 {
			empty++
			continue
		}
		kind := moduleText(x)
		if kinds[kind] == nil {
			order = append(order, kind)
		}
		kinds[kind] = append(kinds[kind], x.Slot)
	}
	var parts []string
	for _, kind := range order {
		parts = append(parts, fmt.Sprintf("%d of %s (%s)", len(kinds[kind]), kind, strings.Join(kinds[kind], ", ")))
	}
	if empty > 0 {
		parts = append(parts, counted(int64(empty), "slot", "slots")+" empty")
	}
	return strings.Join(parts, "; ")
}

func moduleText(x *account.MemoryModule) string {
	text := human("memory", float64(x.SizeBytes))
	for _, more := range []string{x.Type, x.Form, x.Maker, x.Part} {
		if more != "" {
			text += " " + more
		}
	}
	if x.MegaTransfers > 0 {
		text += fmt.Sprintf(" at %d MT/s", x.MegaTransfers)
		if x.MostTransfers > x.MegaTransfers {
			text += fmt.Sprintf(" of %d", x.MostTransfers)
		}
	}
	return text
}

func swapsText(swaps []account.Swap) string {
	if len(swaps) == 0 {
		return "none"
	}
	parts := make([]string, len(swaps))
	for i, s := range swaps {
		parts[i] = fmt.Sprintf("%s of %s, %s used", s.Name, human("memory", float64(s.SizeBytes)),
			human("memory", float64(s.UsedBytes)))
	}
	return strings.Join(parts, "; ")
}

func failedText(m *hub.Machine) string {
	switch {
	case m.NoFailed != "":
		return "– " + m.NoFailed
	case len(m.Failed) == 0:
		return "nothing"
	}
	return strings.Join(m.Failed, ", ")
}

// stuckText lists the units that are between two states.
func stuckText(m *hub.Machine) string {
	switch {
	case m.NoFailed != "":
		return "– " + m.NoFailed
	case len(m.Stuck) == 0:
		return "nothing"
	}
	list := make([]string, len(m.Stuck))
	for i, u := range m.Stuck {
		list[i] = fmt.Sprintf("%s %s since %s", u.Name, u.State, momentText(&u.Since))
	}
	return strings.Join(list, ", ")
}

// writeDrives lists drives, each with what is on it below.
func writeDrives(w io.Writer, devices []account.Device) error {
	if len(devices) == 0 {
		return nil
	}
	fmt.Fprintln(w)
	t := newTable(w)
	t.row(cell{"drive", false}, cell{"size", true}, cell{"model", false}, cell{"at", false}, cell{"", false})
	on := map[string][]string{}
	for _, d := range devices {
		for _, p := range d.Parents {
			on[p] = append(on[p], d.Name)
		}
	}
	for _, d := range devices {
		if d.Kind != "drive" {
			continue
		}
		what := "does not rotate"
		if d.Rotates {
			what = "rotates"
		}
		if len(on[d.Name]) > 0 {
			what += "; holds " + strings.Join(on[d.Name], ", ")
		}
		t.row(cell{d.Name, false}, cell{amountText("disk", float64(d.SizeBytes)), true}, cell{d.Model, false},
			cell{d.Controller, false}, cell{what, false})
	}
	return t.flush()
}
