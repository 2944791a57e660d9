package identify

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"vinescale/core/account"
)

// gpuNode is a file by which a GPU is opened. Files by which all of them are managed are none.
var gpuNode = regexp.MustCompile(`^/dev/(nvidia[0-9]+|dri/(renderD|card)[0-9]+)$`)

// cdiGPU is how an annotation names a GPU of the Container Device Interface: by its maker and a class, and then a name.
var cdiGPU = regexp.MustCompile(`^[A-Za-z0-9._-]+/(?:gpu|mig)=(.+)$`)

// visibleGPUs are the variables by which a container's own environment names GPUs.
var visibleGPUs = []string{"NVIDIA_VISIBLE_DEVICES=", "CUDA_VISIBLE_DEVICES=", "ROCR_VISIBLE_DEVICES=",
	"HIP_VISIBLE_DEVICES=", "ZE_AFFINITY_MASK="}

// namedGPUs lists the GPUs that annotations of the Container Device Interface name, by commas.
func namedGPUs(annotations map[string]string) string {
	var names []string
	for key, value := range annotations {
		if !strings.HasPrefix(key, "cdi.k8s.io/") {
			continue
		}
		for name := range strings.SplitSeq(value, ",") {
			if m := cdiGPU.FindStringSubmatch(strings.TrimSpace(name)); m != nil {
				names = append(names, m[1])
			}
		}
	}
	slices.Sort(names)
	return strings.Join(slices.Compact(names), ",")
}

// putGPUs tells which GPUs a container was given by the nodes that its runtime makes, and which its environment claims.
func (b *bundleConfig) putGPUs(facts map[string]string) {
	var nodes []string
	for _, d := range b.Linux.Devices {
		if n := fmt.Sprintf("%d:%d", d.Major, d.Minor); gpuNode.MatchString(d.Path) && !slices.Contains(nodes, n) {
			nodes = append(nodes, n)
		}
	}
	if len(nodes) > 0 {
		facts[account.FactGPUNodes] = strings.Join(nodes, ",")
	}
	for _, v := range b.Process.Env {
		for _, variable := range visibleGPUs {
			if list, is := strings.CutPrefix(v, variable); is && list != "" && list != "none" && list != "void" &&
				facts[account.FactGPUClaim] == "" {
				facts[account.FactGPUClaim] = list
			}
		}
	}
}
