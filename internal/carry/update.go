package carry

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	cri "k8s.io/cri-api/pkg/apis/runtime/v1"

	"vinescale/internal/informants"
)

// Limits of containers are told to what manages them, which sets them in the kernel and knows of them afterwards: set
// behind its back they would be gone with its next change.

// allowance is what a container is to have, as its manager takes it. What is 0, or empty, stays as it is; -1 is no
// limit.
type allowance struct {
	CPUQuota, CPUPeriod int64  // microseconds
	CPUShares           int64  // 1024 is the usual
	Memory              int64  // bytes
	Processes           int64  // and threads
	CPUs                string // a list
}

// updater is what manages a container and can be told what that is to have.
type updater interface {
	name() string
	takes(a *allowance) bool
	update(ctx context.Context, id string, a *allowance) error
}

// allowanceOf is what a value of a cgroup's file is called by what manages containers; false for what those cannot be
// told.
func allowanceOf(file, value string) (a allowance, is bool) {
	number := func(text string) int64 {
		n, err := strconv.ParseInt(text, 10, 64)
		if text == "max" || err == nil && n > 1<<62 { // what version 1 has for no limit, in whole pages
			n = -1
		} else if err != nil {
			n = 0
		}
		return n
	}
	switch filepath.Base(file) {
	case "cpu.max":
		quota, period, _ := strings.Cut(value, " ")
		a.CPUQuota, a.CPUPeriod = number(quota), number(period)
		return a, a.CPUQuota != 0 && a.CPUPeriod > 0
	case "cpu.cfs_quota_us":
		a.CPUQuota, a.CPUPeriod = number(value), usualPeriod
		if b, err := os.ReadFile(filepath.Join(filepath.Dir(file), "cpu.cfs_period_us")); err == nil {
			a.CPUPeriod = number(strings.TrimSpace(string(b)))
		}
		return a, a.CPUQuota != 0 && a.CPUPeriod > 0
	case "cpu.shares":
		a.CPUShares = number(value)
		return a, a.CPUShares > 0
	case "cpu.weight":
		// The least shares that are this weight, by how runtimes convert them (OCI runtimes for version 2 of cgroups:
		// 2 to 262144 are 1 to 10000).
		if w := number(value); w > 0 {
			a.CPUShares = 2 + int64(math.Ceil(float64(w-1)*262142/9999))
		}
		return a, a.CPUShares > 0
	case "memory.max", "memory.limit_in_bytes":
		a.Memory = number(value)
		return a, a.Memory != 0
	case "pids.max":
		a.Processes = number(value)
		return a, a.Processes != 0
	case "cpuset.cpus":
		a.CPUs = value
		if value == "" { // of version 2: those of the group around it
			b, _ := os.ReadFile(filepath.Join(filepath.Dir(filepath.Dir(file)), "cpuset.cpus.effective"))
			a.CPUs = strings.TrimSpace(string(b))
		}
		return a, a.CPUs != ""
	}
	return a, false
}

// Warnings of what comes of other values when a container is begun anew.
const (
	otherValues = "what began it has other values written down, and gives it those again when it begins it anew"
	podsValues  = "what manages the pod has values of its own written down, and may set those again"
	engineKeeps = "whether its engine gives it the same when it begins it anew is the engine's own: most do"
)

// throughItsManager has what is planned for a container set by what manages it, as far as that can be told, and warns
// of what becomes of it later.
func (h *Host) throughItsManager(p *plan) {
	if len(p.values) == 0 {
		return
	}
	key := p.aim.workload.Key
	id, through, warning := informants.ContainerID(key), updater(nil), podsValues
	if !strings.HasPrefix(key, "pod:") {
		through, warning = h.updaterOf(id)
	}
	p.Warnings = append(p.Warnings, warning)
	for i := range p.values {
		v := &p.values[i]
		if through == nil || v.PID != 0 {
			continue
		}
		if a, is := allowanceOf(v.File, v.After); is && through.takes(&a) {
			v.Container, p.Through = id, through.name()
		} else {
			p.Warnings = append(p.Warnings, fmt.Sprintf("%s cannot be told of this, which is gone when the container "+
				"is begun anew: %s", through.name(), v.what()))
		}
	}
}

// updaterOf finds what manages a container and can be told what that is to have, and what is to be warned of; nil where
// nothing is known.
func (h *Host) updaterOf(id string) (updater, string) {
	unasked := ""
	if h.Systems.Pods != "" {
		c := podRuntime{h.Systems.Pods}
		_, err := c.status(context.Background(), id)
		if err == nil {
			return c, podsValues
		}
		if !errors.Is(err, errNotIts) {
			unasked = fmt.Sprintf("the container runtime that pods are run by cannot be asked: %v; ", err)
		}
	}
	switch through, _ := h.runtimeOf(id); through := through.(type) {
	case *engineAPI:
		return through, unasked + engineKeeps
	case updater:
		return through, unasked + otherValues
	}
	return nil, unasked + "no engine or runtime is known for it: " + otherValues
}

// writeAllowance has a container's manager set a value. What the kernel has afterwards counts: where the manager cannot
// say it exactly, such as a weight between two of its own, the rest is set in the kernel.
func (h *Host) writeAllowance(c *change, value string) error {
	through, _ := h.updaterOf(c.Container)
	if through == nil {
		return errGone
	}
	a, is := allowanceOf(c.File, value)
	if !is {
		return fmt.Errorf("%s cannot be told %q", through.name(), value)
	}
	if err := through.update(context.Background(), c.Container, &a); err != nil {
		return err
	}
	if now, err := c.read(h); err != nil || c.isAs(now, value) {
		return err
	}
	return writeFile(c.File, value)
}

// takes tells that the Container Runtime Interface knows no limit of processes.
func (c podRuntime) takes(a *allowance) bool { return a.Processes == 0 }

func (c podRuntime) update(ctx context.Context, id string, a *allowance) error {
	return c.ask(ctx, updateWithin, func(ctx context.Context, client cri.RuntimeServiceClient) error {
		_, err := client.UpdateContainerResources(ctx, &cri.UpdateContainerResourcesRequest{ContainerId: id,
			Linux: &cri.LinuxContainerResources{CpuQuota: a.CPUQuota, CpuPeriod: a.CPUPeriod, CpuShares: a.CPUShares,
				MemoryLimitInBytes: a.Memory, CpusetCpus: a.CPUs}})
		return err
	})
}

const updateWithin = 20 * time.Second

func (r *runtime) takes(*allowance) bool { return true }

func (r *runtime) update(ctx context.Context, id string, a *allowance) error {
	args := []string{"update"}
	for _, x := range []struct {
		option string
		value  int64
	}{{"cpu-quota", a.CPUQuota}, {"cpu-period", a.CPUPeriod}, {"cpu-share", a.CPUShares}, {"memory", a.Memory},
		{"pids-limit", a.Processes}} {
		if x.value != 0 {
			args = append(args, fmt.Sprintf("--%s=%d", x.option, x.value))
		}
	}
	if a.CPUs != "" {
		args = append(args, "--cpuset-cpus="+a.CPUs)
	}
	_, err := r.call(ctx, append(args, id)...)
	return err
}

func (s staged) takes(*allowance) bool { return true }

// update does nothing: the files of a host that is made up of them are set all the same.
func (s staged) update(context.Context, string, *allowance) error { return nil }

func (e *engineAPI) takes(*allowance) bool { return true }

// allowanceOfEngine is what engines that serve the same interface take for an update of a container.
type allowanceOfEngine struct {
	CPUQuota   int64  `json:"CpuQuota,omitempty"`
	CPUPeriod  int64  `json:"CpuPeriod,omitempty"`
	NanoCPUs   int64  `json:"NanoCpus,omitempty"`
	CPUShares  int64  `json:"CpuShares,omitempty"`
	CPUs       string `json:"CpusetCpus,omitempty"`
	Memory     int64  `json:"Memory,omitempty"`
	MemorySwap int64  `json:"MemorySwap,omitempty"`
	PIDsLimit  int64  `json:"PidsLimit,omitempty"`
}

// forEngine is an allowance as an engine takes it that has a container so. Of CPU time it takes billionths of a CPU
// where the container was made with them, and a limit of memory with swap goes with the one of memory.
func (a *allowance) forEngine(has *allowanceOfEngine) allowanceOfEngine {
	x := allowanceOfEngine{CPUQuota: a.CPUQuota, CPUPeriod: a.CPUPeriod, CPUShares: a.CPUShares, CPUs: a.CPUs,
		Memory: a.Memory, PIDsLimit: a.Processes}
	if has.NanoCPUs > 0 && a.CPUQuota > 0 {
		x.NanoCPUs, x.CPUQuota, x.CPUPeriod = int64(math.Round(float64(a.CPUQuota)/float64(a.CPUPeriod)*1e9)), 0, 0
	}
	switch {
	case a.Memory < 0, a.Memory > 0 && has.MemorySwap < 0:
		x.MemorySwap = -1
	case a.Memory > 0 && has.MemorySwap > 0:
		x.MemorySwap = a.Memory + max(0, has.MemorySwap-has.Memory)
	}
	return x
}

func (e *engineAPI) update(ctx context.Context, id string, a *allowance) error {
	now, err := e.inspect(ctx, id)
	if err != nil {
		return err
	}
	err = e.send(ctx, http.MethodPost, "/containers/"+id+"/update", a.forEngine(&now.HostConfig.allowanceOfEngine), nil)
	if !errors.Is(err, errNoSuchCall) {
		return err
	}
	// One engine has it only below a path of its own, and takes there what an OCI runtime takes (OCI Runtime
	// Specification, "Linux Container Configuration", "Control groups").
	var version struct{ Version string }
	if err := e.call(ctx, http.MethodGet, "/version", &version); err != nil {
		return err
	}
	return e.send(ctx, http.MethodPost, "/v"+version.Version+"/libpod/containers/"+id+"/update", a.forRuntime(), nil)
}

// forRuntime is an allowance as the OCI Runtime Specification writes it.
func (a *allowance) forRuntime() map[string]any {
	of := map[string]map[string]any{}
	put := func(part, name string, value any, is bool) {
		if !is {
			return
		}
		if of[part] == nil {
			of[part] = map[string]any{}
		}
		of[part][name] = value
	}
	put("cpu", "quota", a.CPUQuota, a.CPUQuota != 0)
	put("cpu", "period", a.CPUPeriod, a.CPUPeriod != 0)
	put("cpu", "shares", a.CPUShares, a.CPUShares != 0)
	put("cpu", "cpus", a.CPUs, a.CPUs != "")
	put("memory", "limit", a.Memory, a.Memory != 0)
	put("pids", "limit", a.Processes, a.Processes != 0)
	resources := map[string]any{}
	for part, x := range of {
		resources[part] = x
	}
	return resources
}
