package carry

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"vinescale/core/act"
)

// The power of a GPU is limited by the file that its driver has for that (the kernel's "Naming and data format
// standards for sysfs files", power[1-*]_cap, in microwatts).

var busAddress = regexp.MustCompile(`^[0-9a-f]{4}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-7]$`)

// gpuKey is what the service says whose a GPU is by.
func gpuKey(address string) string { return "gpu:" + address }

// planPower plans to limit the power of a GPU, within the bounds that its driver tells.
func (h *Host) planPower(p *plan, r *act.Request, whose map[string]string, policy *act.Policy) error {
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
	p.Through, p.Target = "its driver", "GPU "+address
	files, _ := filepath.Glob(filepath.Join(h.Sys, "bus/pci/devices", address, "hwmon/hwmon*/power1_cap"))
	if len(files) == 0 {
		return refuse(
			"the driver of GPU %s has no limit of its power that the kernel could set; its vendor's tools may",
			address,
		)
	}
	dir := filepath.Dir(files[0])
	bound := func(name string) (int64, error) {
		b, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			return 0, err
		}
		return strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64)
	}
	least, err1 := bound("power1_cap_min")
	most, err2 := bound("power1_cap_max")
	if err1 != nil || err2 != nil {
		return refuse("the driver of GPU %s does not tell between what its power may be limited", address)
	}
	micros := int64(0)
	if text := r.Settings["watts"]; text == act.Usual {
		usual, err := bound("power1_cap_default")
		if err != nil {
			return refuse("the driver of GPU %s does not tell what its usual limit is: give watts", address)
		}
		micros = usual
	} else {
		watts, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return err
		}
		micros = watts * 1e6
	}
	if micros < least || micros > most {
		return refuse("%d W: this GPU takes %d to %d W", micros/1e6, least/1e6, most/1e6)
	}
	return p.set(
		h,
		change{Kind: aPower, What: "power limit, microwatts", File: files[0], After: fmt.Sprint(micros)},
	)
}
