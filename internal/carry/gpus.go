package carry

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vinescale/core/act"
	"vinescale/internal/devices"
)

// The power of a GPU is limited by the file that its driver has for that (the kernel's "Naming and data format
// standards for sysfs files", power[1-*]_cap, in microwatts), or else by its vendor's library, which alone says who may
// compute on it.

// GPULibrary reads and sets what a vendor's library lets be set of GPUs: devices.Adjuster, or nil.
type GPULibrary interface {
	Ask(ctx context.Context, address, setting string, value *int64) (*devices.Adjustment, error)
}

var busAddress = regexp.MustCompile(`^[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-7]$`)

// gpuKey is what the service says whose a GPU is by.
func gpuKey(address string) string { return "gpu:" + address }

// planGPU plans what is done to a GPU.
func (h *Host) planGPU(ctx context.Context, p *plan, r *act.Request, whose map[string]string,
	policy *act.Policy) error {
	address := r.Target.GPU
	tenant, is := whose[gpuKey(address)]
	if !is || !busAddress.MatchString(address) {
		return refuse("the service does not say whose GPU %s is", address)
	}
	touched := act.Touched{Key: gpuKey(address), Name: "GPU " + address, Kind: "gpu", Tenant: tenant}
	if err := policy.Decide(r.Verb, &touched); err != nil {
		return &refusal{err.Error()}
	}
	p.touch([]act.Touched{touched})
	p.Target = "GPU " + address
	if r.Verb == act.Admit {
		return h.planCompute(ctx, p, address, r.Settings["compute"])
	}
	return h.planPower(ctx, p, address, r.Settings["watts"])
}

// byLibrary is the vendor's library's words for itself in previews.
const byLibrary = "its vendor's library"

// adjust asks the vendor's library, where there is one.
func (h *Host) adjust(ctx context.Context, address, setting string, value *int64) (*devices.Adjustment, error) {
	if h.GPUs == nil {
		return nil, devices.ErrNoGPU
	}
	return h.GPUs.Ask(ctx, address, setting, value)
}

// planPower plans to limit the power of a GPU, within the bounds that its driver or its library tells.
func (h *Host) planPower(ctx context.Context, p *plan, address, watts string) error {
	c := change{Kind: aPower, What: "power limit, microwatts"}
	var is *devices.Adjustment
	files, _ := filepath.Glob(filepath.Join(h.Sys, "bus/pci/devices", address, "hwmon/hwmon*/power1_cap"))
	if len(files) > 0 {
		p.Through, c.File = "its driver", files[0]
		var err error
		if is, err = driversBounds(address, filepath.Dir(files[0])); err != nil {
			return err
		}
	} else {
		var err error
		switch is, err = h.adjust(ctx, address, devices.PowerLimit, nil); {
		case errors.Is(err, devices.ErrNoGPU):
			return refuse("neither the driver of GPU %s nor a vendor's library has a limit of its power to set",
				address)
		case err != nil:
			return refuse("the power of GPU %s cannot be limited: %v", address, err)
		}
		p.Through, c.Kind, c.Device = byLibrary, aGPU, devices.PowerLimit
		c.File = address
	}
	micros := is.Usual
	if watts != act.Usual {
		n, err := strconv.ParseInt(watts, 10, 64)
		if err != nil {
			return err
		}
		micros = n * 1e6
	}
	switch {
	case micros == 0:
		return refuse("the driver of GPU %s does not tell what its usual limit is: give watts", address)
	case micros < is.Least || micros > is.Most:
		return refuse("%d W: this GPU takes %d to %d W", micros/1e6, is.Least/1e6, is.Most/1e6)
	}
	c.After = fmt.Sprint(micros)
	return p.set(h, c)
}

// driversBounds reads what a driver's files say of the limit of a GPU's power.
func driversBounds(address, dir string) (*devices.Adjustment, error) {
	bound := func(name string) (int64, error) {
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			return 0, err
		}
		return strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	}
	a := &devices.Adjustment{}
	var err1, err2 error
	a.Least, err1 = bound("power1_cap_min")
	a.Most, err2 = bound("power1_cap_max")
	if err1 != nil || err2 != nil {
		return nil, refuse("the driver of GPU %s does not tell between what its power may be limited", address)
	}
	if usual, err := bound("power1_cap_default"); err == nil {
		a.Usual = usual
	}
	return a, nil
}

// planCompute plans to say who may compute on a GPU. What computes on it already is not ended by that.
func (h *Host) planCompute(ctx context.Context, p *plan, address, mode string) error {
	switch _, err := h.adjust(ctx, address, devices.ComputeMode, nil); {
	case errors.Is(err, devices.ErrNoGPU):
		return refuse("no vendor's library on this host says who may compute on GPU %s", address)
	case err != nil:
		return refuse("who may compute on GPU %s cannot be said: %v", address, err)
	}
	p.Through = byLibrary
	p.Warnings = append(p.Warnings, "what computes on it already goes on")
	return p.set(h, change{Kind: aGPU, What: "who may compute", File: address, Device: devices.ComputeMode,
		After: strings.ReplaceAll(mode, "-", " ")})
}

// readGPU reads a setting that a vendor's library has.
func (h *Host) readGPU(c *change) (string, error) {
	a, err := h.adjust(context.Background(), c.File, c.Device, nil)
	switch {
	case errors.Is(err, devices.ErrNoGPU):
		return "", errGone
	case err != nil:
		return "", err
	case c.Device != devices.ComputeMode:
		return strconv.FormatInt(a.Value, 10), nil
	case a.Value >= int64(len(devices.ComputeModes)):
		return "", fmt.Errorf("the library tells a compute mode that is not known: %d", a.Value)
	}
	return devices.ComputeModes[a.Value], nil
}

func (h *Host) writeGPU(c *change, value string) error {
	n := int64(slices.Index(devices.ComputeModes, value))
	if c.Device != devices.ComputeMode {
		var err error
		if n, err = strconv.ParseInt(value, 10, 64); err != nil {
			return err
		}
	}
	_, err := h.adjust(context.Background(), c.File, c.Device, &n)
	if errors.Is(err, devices.ErrNoGPU) {
		return errGone
	}
	return err
}
