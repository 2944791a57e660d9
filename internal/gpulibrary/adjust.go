package gpulibrary

import (
	"encoding/json"
	"io"
	"slices"
	"strconv"

	"vinescale/internal/devices"
)

// Adjust is the life of a helper process that reads a setting of a GPU, or sets it first: the arguments are the GPU's
// address on the bus, the setting's name, and its value if it is to be set. It answers with a line of JSON: a
// devices.Adjustment.
func Adjust(path string, args []string, out io.Writer) error {
	return json.NewEncoder(out).Encode(adjusted(path, args))
}

func adjusted(path string, args []string) devices.Adjustment {
	failed := func(why string) devices.Adjustment { return devices.Adjustment{Why: why} }
	if len(args) < 2 || len(args) > 3 {
		return failed("give an address, a setting, and its value if it is to be set")
	}
	l, err := Open(path)
	if err != nil {
		return failed(err.Error())
	}
	defer l.Close()
	h, why := l.at(args[0])
	if why != "" {
		return failed(why)
	}
	if h == nil {
		return devices.Adjustment{Gone: true}
	}
	var value *int64
	if len(args) == 3 {
		n, err := strconv.ParseInt(args[2], 10, 64)
		if err != nil {
			return failed("the value is no number")
		}
		value = &n
	}
	switch args[1] {
	case devices.PowerLimit:
		return l.powerLimit(*h, value)
	case devices.ComputeMode:
		return l.computeMode(*h, value)
	}
	return failed("the library is not known to set " + args[1])
}

// at finds the GPU at an address on the bus; nil where there is none.
func (l *Library) at(address string) (*handle, string) {
	var n uint32
	if r := l.calls.Count(&n); r != success {
		return nil, "the GPUs cannot be listed: " + l.why(r)
	}
	if l.calls.Bus == nil {
		return nil, notKnown
	}
	for i := range min(n, mostGPUs) {
		var h handle
		var bus busInfo
		if l.calls.ByIndex(i, &h) == success && l.calls.Bus(h, &bus) == success &&
			devices.BusAddress(clean(bus.Address[:])) == address {
			return &h, ""
		}
	}
	return nil, ""
}

// The library's power is in milliwatts.
const microsOfMilli = 1000

func (l *Library) powerLimit(h handle, value *int64) (a devices.Adjustment) {
	c := l.calls
	if value != nil {
		if c.SetCap == nil {
			return devices.Adjustment{Why: notSet}
		}
		if r := c.SetCap(h, uint32(*value/microsOfMilli)); r != success {
			return devices.Adjustment{Why: l.whyNotSet(r)}
		}
	}
	now, usual := figure(l, c.Cap, h), figure(l, c.CapUsual, h)
	if !now.OK() {
		return devices.Adjustment{Why: now.Why}
	}
	var least, most uint32
	if c.CapBounds == nil {
		return devices.Adjustment{Why: notKnown}
	}
	if r := c.CapBounds(h, &least, &most); r != success {
		return devices.Adjustment{Why: l.why(r)}
	}
	a = devices.Adjustment{Value: now.N * microsOfMilli, Least: int64(least) * microsOfMilli,
		Most: int64(most) * microsOfMilli}
	if usual.OK() {
		a.Usual = usual.N * microsOfMilli
	}
	return a
}

func (l *Library) computeMode(h handle, value *int64) devices.Adjustment {
	c := l.calls
	if value != nil {
		if *value < 0 || *value >= int64(len(devices.ComputeModes)) {
			return devices.Adjustment{Why: "there is no such compute mode"}
		}
		if c.SetComputeMode == nil {
			return devices.Adjustment{Why: notSet}
		}
		if r := c.SetComputeMode(h, int32(*value)); r != success {
			return devices.Adjustment{Why: l.whyNotSet(r)}
		}
	}
	now := figure(l, c.ComputeMode, h)
	return devices.Adjustment{Value: now.N, Why: now.Why}
}

// notSet is why something is not set by a library that lacks the call.
const notSet = "the library does not know how to set it"

// whyNotSet says in words why a call set nothing.
func (l *Library) whyNotSet(r result) string {
	if slices.Contains([]result{noPermission, notPrivileged}, r) {
		return "the library does not permit it: only root may"
	}
	return l.why(r)
}
