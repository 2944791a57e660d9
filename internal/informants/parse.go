package informants

import (
	"fmt"
	"strings"

	"vinescale/internal/identify"
)

// Help says how an informant is named in a configuration.
const Help = "cri=SOCKET, engine=SOCKET, libvirt=SOCKET, slurm[=COMMAND], units[=ADDRESS]"

// Where systems are asked that are named without saying where.
const (
	JobsCommand = "squeue"
	SystemBus   = "unix:path=/run/dbus/system_bus_socket"
)

// Parse makes an informant of a setting such as cri=/run/containerd/containerd.sock. Nothing is asked yet.
func Parse(setting string) (identify.Informant, error) {
	kind, where, given := strings.Cut(setting, "=")
	where = strings.TrimPrefix(where, "unix://")
	if given && where == "" {
		return nil, fmt.Errorf("%q names no address", setting)
	}
	switch kind {
	case "cri", "engine", "libvirt":
		if !given || !strings.HasPrefix(where, "/") {
			return nil, fmt.Errorf("%q: give the path of its socket, as in %s=/run/…", setting, kind)
		}
		switch kind {
		case "cri":
			return &cri{socket: where}, nil
		case "engine":
			return newEngine(where), nil
		}
		return &libvirt{socket: where}, nil
	case "slurm":
		if !given {
			where = JobsCommand
		}
		return &slurm{command: where}, nil
	case "units":
		if !given {
			where = SystemBus
		}
		return &units{address: where}, nil
	}
	return nil, fmt.Errorf("%q is none of %s", setting, Help)
}
