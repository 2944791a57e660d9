package carry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/internal/informants"
)

// Units of the init system are acted on over D-Bus (org.freedesktop.systemd1, "The D-Bus API of systemd").
const (
	initSystem  = "org.freedesktop.systemd1"
	initManager = initSystem + ".Manager"
	initUnit    = initSystem + ".Unit"
)

// unitWithin is how long a unit is given to come to the state that was asked for.
const unitWithin = 30 * time.Second

// unit is one unit, over a connection that close ends.
type unit struct {
	name    string
	conn    *dbus.Conn
	manager dbus.BusObject
	object  dbus.BusObject
}

func (u *unit) close() { u.conn.Close() }

// unit finds a unit of the host's init system, or of a user's where one is named.
func (h *Host) unit(ctx context.Context, name, user string) (*unit, error) {
	address, err := h.busOf(user)
	if err != nil {
		return nil, err
	}
	conn, err := informants.DialBus(ctx, address)
	if err != nil {
		return nil, refuse("the init system cannot be reached: %v", err)
	}
	u := &unit{name: name, conn: conn, manager: conn.Object(initSystem, "/org/freedesktop/systemd1")}
	var path dbus.ObjectPath
	if err := u.manager.CallWithContext(ctx, initManager+".LoadUnit", 0, name).Store(&path); err != nil {
		u.close()
		return nil, refuse("the init system does not know the unit %s: %v", name, err)
	}
	u.object = conn.Object(initSystem, path)
	if load, _ := u.property("LoadState").(string); load != "loaded" {
		u.close()
		return nil, refuse("there is no unit %s: it is %s", name, load)
	}
	return u, nil
}

func (h *Host) busOf(user string) (string, error) {
	if user == "" {
		if h.Systems.Bus == "" {
			return "", refuse("this collector was not told of an init system: begin it with --ask units")
		}
		return h.Systems.Bus, nil
	}
	uid, known := h.Users.UID(user)
	if !known {
		return "", refuse("this host has no user %q", user)
	}
	return fmt.Sprintf("unix:path=%s/user/%d/bus", h.Run, uid), nil
}

func (u *unit) property(name string) any {
	of := initUnit
	if strings.HasPrefix(name, "Service.") {
		of, name = initSystem+".Service", strings.TrimPrefix(name, "Service.")
	}
	v, err := u.object.GetProperty(of + "." + name)
	if err != nil {
		return nil
	}
	return v.Value()
}

// state is our word for how a unit is.
func (u *unit) state() string {
	active, _ := u.property("ActiveState").(string)
	word := map[string]string{"active": "running", "reloading": "running", "activating": "starting",
		"deactivating": "stopping", "inactive": "stopped", "failed": "failed"}[active]
	if word == "" {
		return active
	}
	return word
}

// settle waits until a unit is in one of some states.
func (u *unit) settle(ctx context.Context, within time.Duration, states ...string) (string, error) {
	end := time.Now().Add(within)
	for {
		now := u.state()
		if slices.Contains(states, now) {
			return now, nil
		}
		if time.Now().After(end) || ctx.Err() != nil {
			return now, fmt.Errorf("%s is still %s after %s", u.name, now, within)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// call has the init system do something to the unit. It returns before that is done.
func (u *unit) call(ctx context.Context, method string, more ...any) error {
	err := u.manager.CallWithContext(ctx, initManager+"."+method, 0, append([]any{u.name}, more...)...).Err
	if err != nil {
		return fmt.Errorf("the init system refuses: %w", err)
	}
	return nil
}

// unitKey is what the service says whose a unit is by.
func unitKey(name string) string { return "unit:" + name }

// planUnit plans an act on a unit, whether it runs or not.
func (h *Host) planUnit(ctx context.Context, p *plan, r *act.Request, whose map[string]string,
	policy *act.Policy) error {
	t := &r.Target
	tenant, is := whose[unitKey(t.Unit)]
	if !is {
		return refuse("the service does not say whose %s is", t.Unit)
	}
	touched := act.Touched{Key: unitKey(t.Unit), Name: strings.TrimSuffix(t.Unit, ".service"), Kind: "service",
		Tenant: tenant, Unit: t.Unit}
	if err := policy.Decide(r.Verb, &touched); err != nil {
		return &refusal{err.Error()}
	}
	p.touch([]act.Touched{touched})
	if name, _, _ := strings.Cut(t.Unit, "."); r.Verb != act.Read &&
		(slices.Contains([]string{"ssh", "sshd", "vinescale"}, name) ||
			strings.HasPrefix(name, "postgresql") || strings.HasPrefix(name, "vinescale")) {
		return refuse("%s is left alone: it lets administrators in, or is of the service or its collector", t.Unit)
	}
	u, err := h.unit(ctx, t.Unit, t.User)
	if err != nil {
		return err
	}
	defer u.close()
	p.Through = "the init system"
	p.Target = fmt.Sprintf("unit %s, %s", t.String(), u.state())
	if err := h.tellProcesses(ctx, p, r, policy); err != nil {
		return err
	}
	return h.planUnitAct(p, r, u)
}

// tellProcesses lists the processes of a unit's workload, and refuses to end it where one of them is never touched.
func (h *Host) tellProcesses(ctx context.Context, p *plan, r *act.Request, policy *act.Policy) error {
	known, err := h.Known(ctx)
	if err != nil {
		return err
	}
	list, err := h.all()
	if err != nil {
		return err
	}
	placeAll(list, known)
	isIts := func(key string) bool { return known.Workloads[key].Facts[account.FactUnit] == r.Target.Unit }
	if r.Verb == act.End || r.Verb == act.Restart {
		if why := h.newSparer(known, list, policy).within(isIts); why != "" {
			return refuse("%s is left alone: %s", r.Target.Unit, why)
		}
	}
	for i := range list {
		if !isIts(list[i].workload) {
			continue
		}
		if p.Total++; len(p.Processes) < act.MostListed {
			p.Processes = append(p.Processes, h.tell(&list[i]))
		}
	}
	return nil
}

func (h *Host) planUnitAct(p *plan, r *act.Request, u *unit) error {
	t := &r.Target
	state := change{Kind: aUnit, What: "state of the unit", File: t.Unit, Device: t.User, After: "running"}
	switch r.Verb {
	case act.Read:
		return h.planReadUnit(p, r, t.Unit, t.User)
	case act.Start:
		return p.set(h, state)
	case act.End:
		state.After = "stopped"
		p.Undo = "it is started again"
		return p.set(h, state)
	case act.AtBoot:
		state.Kind, state.What, state.After = aUnitAtBoot, "whether it begins at boot", "no"
		if r.Settings["begins"] == "true" {
			state.After = "yes"
		}
		return p.set(h, state)
	case act.Reload:
		p.more = func(ctx context.Context, out *act.Outcome) error {
			return h.onUnit(ctx, t, func(u *unit) error {
				if err := u.call(ctx, "ReloadUnit", "replace"); err != nil {
					return err
				}
				now, err := u.settle(ctx, unitWithin, "running")
				out.State, out.Detail = act.Done, t.Unit+" was told to read its configuration again, and is "+now
				return err
			})
		}
		return nil
	}
	isForced := r.Settings["force"] == "true"
	if now := u.state(); now != "running" && now != "stopped" && now != "failed" {
		p.Warnings = append(p.Warnings, fmt.Sprintf("it is stuck: it is %s", now))
		isForced = true
	}
	if isForced {
		p.Warnings = append(p.Warnings, "its processes are ended by force before it is started again")
	}
	p.more = func(ctx context.Context, out *act.Outcome) error {
		return h.onUnit(ctx, t, func(u *unit) error { return u.begin(ctx, isForced, p.Total, out) })
	}
	return nil
}

func (h *Host) onUnit(ctx context.Context, t *act.Target, do func(*unit) error) error {
	u, err := h.unit(ctx, t.Unit, t.User)
	if err != nil {
		return err
	}
	defer u.close()
	return do(u)
}

// begin restarts a unit; by force, it ends all of its processes first, whatever state it is stuck in.
func (u *unit) begin(ctx context.Context, isForced bool, processes int, out *act.Outcome) error {
	method := "RestartUnit"
	if isForced {
		if err := u.call(ctx, "KillUnit", "all", int32(9)); err != nil {
			return err
		}
		out.Hit = processes
		if _, err := u.settle(ctx, unitWithin, "stopped", "failed", "running"); err != nil {
			return err
		}
		_ = u.call(ctx, "ResetFailedUnit") // it need not have failed
	}
	before, _ := u.property("Service.MainPID").(uint32)
	if err := u.call(ctx, method, "replace"); err != nil {
		return err
	}
	time.Sleep(50 * time.Millisecond)
	now, err := u.settle(ctx, unitWithin, "running", "failed")
	if err != nil {
		return err
	}
	after, _ := u.property("Service.MainPID").(uint32)
	out.State, out.Detail = act.Done, fmt.Sprintf("%s is %s", u.name, now)
	if now == "failed" {
		out.State = act.Failed
	} else if after != 0 {
		out.Detail += fmt.Sprintf(" by process %d; before it was %d", after, before)
	}
	return nil
}

func (h *Host) readUnit(c *change) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), unitWithin)
	defer cancel()
	u, err := h.unit(ctx, c.File, c.Device)
	if err != nil {
		return "", err
	}
	defer u.close()
	if c.Kind == aUnit {
		return u.state(), nil
	}
	var state string
	err = u.manager.Call(initManager+".GetUnitFileState", 0, c.File).Store(&state)
	switch {
	case err != nil:
		return "", fmt.Errorf("whether it begins at boot: %w", err)
	case strings.HasPrefix(state, "enabled"):
		return "yes", nil
	case state == "disabled":
		return "no", nil
	}
	return state, nil
}

func (h *Host) writeUnit(c *change, value string) error {
	ctx, cancel := context.WithTimeout(context.Background(), unitWithin+5*time.Second)
	defer cancel()
	u, err := h.unit(ctx, c.File, c.Device)
	if err != nil {
		return err
	}
	defer u.close()
	if c.Kind == aUnitAtBoot {
		method, more := "DisableUnitFiles", []any{false}
		if value == "yes" {
			method, more = "EnableUnitFiles", []any{false, false}
		}
		err := u.manager.CallWithContext(
			ctx,
			initManager+"."+method,
			0,
			append([]any{[]string{c.File}}, more...)...).Err
		if err == nil {
			err = u.manager.CallWithContext(ctx, initManager+".Reload", 0).Err
		}
		return err
	}
	method, states := "StartUnit", []string{"running", "failed"}
	if value != "running" {
		method, states = "StopUnit", []string{"stopped", "failed"}
	}
	if err := u.call(ctx, method, "replace"); err != nil {
		return err
	}
	now, err := u.settle(ctx, unitWithin, states...)
	if err == nil && now == "failed" && value == "running" {
		err = errors.New("it failed")
	}
	return err
}
