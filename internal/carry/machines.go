package carry

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket/dialers"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/cpuset"
	"vinescale/internal/identify"
)

// Virtual machines are acted on through their manager, by its RPC protocol on a local socket; the read-only one does
// not do.

// machineWithin is how long a machine is given to shut down.
const machineWithin = 60 * time.Second

// managerWithin is how long the manager is given to answer.
const managerWithin = 30 * time.Second

// machine calls the manager about one machine, by its number there.
func (h *Host) machine(number string, do func(*rpc.Libvirt, rpc.Domain) error) error {
	if h.Systems.Machines == "" {
		return refuse("this collector was not told of a machine manager: begin it with --ask libvirt=SOCKET")
	}
	conn, err := net.DialTimeout("unix", h.Systems.Machines, 5*time.Second)
	if err != nil {
		return refuse("the machine manager cannot be reached: %v", err)
	}
	defer conn.Close()
	// A manager that hangs must not hold up all other acts: the library ends with the connection.
	defer time.AfterFunc(managerWithin, func() { conn.Close() }).Stop()
	manager := rpc.NewWithDialer(dialers.NewAlreadyConnected(conn))
	if err := manager.ConnectToURI("qemu:///system"); err != nil {
		return fmt.Errorf("open qemu:///system: %w", err)
	}
	defer func() { _ = manager.Disconnect() }() // the connection is closed either way
	domains, _, err := manager.ConnectListAllDomains(1, rpc.ConnectListDomainsActive)
	if err != nil {
		return fmt.Errorf("list machines: %w", err)
	}
	for _, d := range domains {
		if strconv.Itoa(int(d.ID)) == number {
			return do(manager, d)
		}
	}
	return errGone
}

func (h *Host) readMachine(c *change) (value string, err error) {
	number, vcpu, _ := strings.Cut(c.Device, " ")
	err = h.machine(number, func(m *rpc.Libvirt, d rpc.Domain) error {
		if c.Kind == aVCPU {
			value, err = h.readVCPU(m, d, vcpu)
			return err
		}
		state, _, err := m.DomainGetState(d, 0)
		value = "running"
		if rpc.DomainState(state) == rpc.DomainPaused {
			value = "paused"
		}
		return err
	})
	return value, err
}

func (h *Host) readVCPU(m *rpc.Libvirt, d rpc.Domain, vcpu string) (string, error) {
	n, err := strconv.Atoi(vcpu)
	if err != nil {
		return "", err
	}
	online, err := h.online()
	if err != nil {
		return "", err
	}
	cpus := online.CPUs()
	bytes := cpus[len(cpus)-1]/8 + 1
	maps, _, err := m.DomainGetVcpuPinInfo(d, int32(n+1), int32(bytes), uint32(rpc.DomainAffectLive))
	if err != nil {
		return "", err
	}
	if len(maps) < (n+1)*bytes {
		return "", fmt.Errorf("the machine has no virtual CPU %d", n)
	}
	set := cpuset.Set{}
	for cpu := range bytes * 8 {
		if maps[n*bytes+cpu/8]&(1<<(cpu%8)) != 0 && online.Has(cpu) {
			set = set.With(cpu)
		}
	}
	return set.String(), nil
}

func (h *Host) writeMachine(c *change, value string) error {
	number, vcpu, _ := strings.Cut(c.Device, " ")
	return h.machine(number, func(m *rpc.Libvirt, d rpc.Domain) error {
		switch {
		case c.Kind == aVCPU:
			return pinVCPU(m, d, vcpu, value)
		case value == "paused":
			return m.DomainSuspend(d)
		}
		return m.DomainResume(d)
	})
}

func pinVCPU(m *rpc.Libvirt, d rpc.Domain, vcpu, list string) error {
	n, err := strconv.ParseUint(vcpu, 10, 32)
	if err != nil {
		return err
	}
	set, err := cpuset.Parse(list)
	if err != nil {
		return err
	}
	cpus := set.CPUs()
	mask := make([]byte, cpus[len(cpus)-1]/8+1)
	for _, cpu := range cpus {
		mask[cpu/8] |= 1 << (cpu % 8)
	}
	return m.DomainPinVcpuFlags(d, uint32(n), mask, uint32(rpc.DomainAffectLive))
}

// planMachine plans an act on a machine that a manager manages. It tells false for acts that are the kernel's.
func (h *Host) planMachine(p *plan, r *act.Request, w *account.Workload) (bool, error) {
	number := w.Facts[identify.FactMachine]
	if number == "" || h.Systems.Machines == "" {
		p.Warnings = append(p.Warnings, "no manager of this machine is known: it is acted on by its process alone")
		return false, nil
	}
	c := change{Kind: aMachine, What: "state of the machine", File: "machine " + w.Name, Device: number}
	through := func() { p.Through = "the machine manager" }
	switch r.Verb {
	case act.Pause:
		through()
		c.After = "paused"
		return true, p.set(h, c)
	case act.Continue:
		through()
		c.After = "running"
		return true, p.set(h, c)
	case act.Place:
		if r.Settings["vcpu"] == "" {
			return false, nil
		}
		through()
		c.Kind, c.What, c.Device = aVCPU, "CPUs of virtual CPU "+r.Settings["vcpu"], number+" "+r.Settings["vcpu"]
		c.After = r.Settings["cpus"]
		return true, p.set(h, c)
	case act.End:
		through()
		p.Warnings = append(p.Warnings, "what has ended cannot be brought back")
		isForced := r.Settings["force"] == "true"
		if !isForced {
			p.Warnings = append(p.Warnings, "it is asked to shut down: its own system may not listen")
		}
		p.more = func(ctx context.Context, out *act.Outcome) error {
			err := h.machine(number, func(m *rpc.Libvirt, d rpc.Domain) error {
				if isForced {
					return m.DomainDestroy(d)
				}
				return m.DomainShutdown(d)
			})
			if err != nil {
				return err
			}
			wait := machineWithin
			if text := r.Settings["wait"]; text != "" {
				wait, _ = time.ParseDuration(text) // it was checked
			}
			return h.sayEnded(ctx, p, wait, out)
		}
		return true, nil
	}
	return false, nil
}

// sayEnded waits until all that is touched has ended, and says what did.
func (h *Host) sayEnded(ctx context.Context, p *plan, wait time.Duration, out *act.Outcome) error {
	asked := map[ref]process{}
	for i := range p.aim.hit {
		asked[p.aim.hit[i].ref()] = p.aim.hit[i]
	}
	out.Hit = len(asked)
	left := h.waitFor(ctx, asked, wait)
	for i := range left {
		out.Left = append(out.Left, act.Refusal{What: named(&left[i]), Why: "it still runs after " + wait.String()})
	}
	return endState(out, len(asked)-len(left), len(left))
}
