package informants

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// units asks the init system over D-Bus how its units are (org.freedesktop.systemd1, "The D-Bus API of systemd").
type units struct{ address string }

func (u *units) Name() string { return "the init system at " + u.address }

func (u *units) Knows(w account.Workload) bool {
	return w.Kind == amount.Service && w.Facts[account.FactUnit] != ""
}

// unitStatus is an element of the answer of ListUnitsByNames.
type unitStatus struct {
	Name, Description, Load, Active, Sub, Following string
	Path                                            dbus.ObjectPath
	Job                                             uint32
	JobType                                         string
	JobPath                                         dbus.ObjectPath
}

const (
	initSystem = "org.freedesktop.systemd1"
	ofUnit     = initSystem + ".Unit"
	ofService  = initSystem + ".Service"
)

func (u *units) Ask(ctx context.Context, about []account.Workload) (map[string]account.Workload, error) {
	conn, err := DialBus(ctx, u.address)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	names := make([]string, len(about))
	for i, w := range about {
		names[i] = w.Facts[account.FactUnit]
	}
	var list []unitStatus
	manager := conn.Object(initSystem, "/org/freedesktop/systemd1")
	if err := manager.CallWithContext(ctx, initSystem+".Manager.ListUnitsByNames", 0, names).Store(&list); err != nil {
		return nil, fmt.Errorf("list units: %w", err)
	}
	found := map[string]account.Workload{}
	for _, w := range about {
		for _, st := range list {
			if st.Name == w.Facts[account.FactUnit] && st.Load == "loaded" {
				found[w.Key] = account.Workload{UID: -1, Facts: unitFacts(conn.Object(initSystem, st.Path), st)}
			}
		}
	}
	return found, nil
}

// DialBus signs in at a bus of D-Bus.
func DialBus(ctx context.Context, address string) (*dbus.Conn, error) {
	conn, err := dbus.Dial(address, dbus.WithContext(ctx))
	if err != nil {
		return nil, err
	}
	if err = conn.Auth(nil); err == nil {
		if err = conn.Hello(); err == nil {
			return conn, nil
		}
	}
	conn.Close()
	return nil, fmt.Errorf("sign in: %w", err)
}

func unitFacts(unit dbus.BusObject, st unitStatus) map[string]string {
	facts := map[string]string{"description": st.Description, account.FactState: stateWord(st)}
	if st.Active == "activating" {
		// identify asks again about what is starting, until it is not.
		if micros, ok := property[uint64](unit, ofUnit+".StateChangeTimestamp"); ok && micros > 0 {
			facts[account.FactState] = "starting since " + time.UnixMicro(int64(micros)).UTC().Format(time.RFC3339)
		}
	}
	if restarts, ok := property[uint32](unit, ofService+".NRestarts"); ok && restarts > 0 {
		facts[account.FactRestarts] = fmt.Sprint(restarts)
	}
	if st.Active == "failed" || st.Active == "inactive" {
		result, _ := property[string](unit, ofService+".Result")
		if code, ok := property[int32](unit, ofService+".ExecMainStatus"); ok {
			facts[account.FactExit] = ending(int(code), result)
		}
	}
	return facts
}

// stateWord is our word for a unit's active state and, where it says more, the finer state of its kind.
func stateWord(st unitStatus) string {
	word := map[string]string{"active": "running", "activating": "starting", "deactivating": "stopping",
		"inactive": "stopped"}[st.Active]
	if word == "" {
		word = st.Active
	}
	if st.Sub != "" && st.Sub != word && st.Sub != "dead" {
		word += " (" + st.Sub + ")"
	}
	return word
}

func property[T any](o dbus.BusObject, name string) (T, bool) {
	v, err := o.GetProperty(name)
	if err != nil {
		var none T
		return none, false
	}
	t, ok := v.Value().(T)
	return t, ok
}

// between are the states of a unit that it should not stay in, in our words.
var between = map[string]string{"activating": "starting", "deactivating": "stopping", "reloading": "reloading"}

// UnitsInTrouble asks the init system over D-Bus which of its units failed, and which have been between two states
// since before a time.
func UnitsInTrouble(ctx context.Context, address string, before time.Time) (failed []string, stuck []account.Unit,
	err error) {
	conn, err := DialBus(ctx, address)
	if err != nil {
		return nil, nil, err
	}
	defer conn.Close()
	var list []unitStatus
	manager := conn.Object(initSystem, "/org/freedesktop/systemd1")
	if err := manager.CallWithContext(ctx, initSystem+".Manager.ListUnitsFiltered", 0,
		[]string{"failed", "activating", "deactivating", "reloading"}).Store(&list); err != nil {
		return nil, nil, fmt.Errorf("list units: %w", err)
	}
	failed = []string{}
	for _, st := range list {
		if st.Active == "failed" {
			failed = append(failed, st.Name)
			continue
		}
		// What runs once is starting for as long as it runs; what waits to be begun anew is starting too.
		kind, _ := property[string](conn.Object(initSystem, st.Path), ofService+".Type")
		if st.Active == "activating" && (kind == "oneshot" || st.Sub == "auto-restart") {
			continue
		}
		micros, told := property[uint64](conn.Object(initSystem, st.Path), ofUnit+".StateChangeTimestamp")
		if since := time.UnixMicro(int64(micros)).UTC(); told && micros > 0 && since.Before(before) {
			stuck = append(stuck, account.Unit{Name: st.Name, State: between[st.Active], Since: since})
		}
	}
	slices.Sort(failed)
	slices.SortFunc(stuck, func(a, b account.Unit) int { return strings.Compare(a.Name, b.Name) })
	return failed, stuck, nil
}
