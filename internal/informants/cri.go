package informants

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"google.golang.org/grpc"
	"google.golang.org/grpc/credentials/insecure"
	runtime "k8s.io/cri-api/pkg/apis/runtime/v1"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// cri asks a container runtime by the Container Runtime Interface, version 1, on its local socket.
type cri struct{ socket string }

func (c *cri) Name() string { return "the container runtime at " + c.socket }

func (c *cri) Knows(w account.Workload) bool { return w.Kind == amount.Container }

func (c *cri) Ask(ctx context.Context, about []account.Workload) (map[string]account.Workload, error) {
	client, done, err := DialCRI(c.socket)
	if err != nil {
		return nil, err
	}
	defer done()
	sandboxes, err := client.ListPodSandbox(ctx, &runtime.ListPodSandboxRequest{})
	if err != nil {
		return nil, fmt.Errorf("list pods: %w", Short(err))
	}
	containers, err := client.ListContainers(ctx, &runtime.ListContainersRequest{})
	if err != nil {
		return nil, fmt.Errorf("list containers: %w", Short(err))
	}
	pods := map[string]*runtime.PodSandbox{}
	for _, p := range sandboxes.GetItems() {
		pods[p.GetId()] = p
	}
	found := map[string]account.Workload{}
	for _, w := range about {
		id := ContainerID(w.Key)
		for _, p := range sandboxes.GetItems() {
			if "pod:"+p.GetMetadata().GetUid() == w.Key || p.GetId() == id {
				found[w.Key] = ofSandbox(w, p)
			}
		}
		for _, x := range containers.GetContainers() {
			if x.GetId() == id {
				known := ofContainer(x, pods[x.GetPodSandboxId()])
				c.addStatus(ctx, client, x, known.Facts)
				found[w.Key] = known
			}
		}
	}
	return found, nil
}

// DialCRI begins to talk to the container runtime at a socket, without asking it anything yet.
func DialCRI(socket string) (client runtime.RuntimeServiceClient, done func(), err error) {
	conn, err := grpc.NewClient("unix://"+socket, grpc.WithTransportCredentials(insecure.NewCredentials()))
	if err != nil {
		return nil, nil, err
	}
	return runtime.NewRuntimeServiceClient(conn), func() { _ = conn.Close() }, nil
}

// ContainerID is the runtime's id of a container, by the key of its workload, container:ID or container:ID@BEGUN; ""
// where it is none.
func ContainerID(key string) string {
	id, ok := strings.CutPrefix(key, "container:")
	if !ok {
		return ""
	}
	id, _, _ = strings.Cut(id, "@")
	return id
}

func ofSandbox(w account.Workload, p *runtime.PodSandbox) account.Workload {
	m := p.GetMetadata()
	name := "pod " + m.GetName()
	if !strings.HasPrefix(w.Key, "pod:") {
		name = "sandbox of " + m.GetName()
	}
	return account.Workload{Name: name, UID: -1, Labels: p.GetLabels(), Facts: map[string]string{
		account.FactPod: m.GetName(), account.FactNamespace: m.GetNamespace(), account.FactUUID: m.GetUid(),
	}}
}

// ofContainer gives a container its pod's labels too, where it has none of the same name.
func ofContainer(x *runtime.Container, pod *runtime.PodSandbox) account.Workload {
	labels := map[string]string{}
	for _, from := range []map[string]string{pod.GetLabels(), x.GetLabels(), x.GetAnnotations()} {
		for k, v := range from {
			labels[k] = v
		}
	}
	w := account.Workload{Name: x.GetMetadata().GetName(), UID: -1, Labels: labels, Facts: map[string]string{
		account.FactImage:    x.GetImage().GetImage(),
		account.FactRestarts: strconv.Itoa(int(x.GetMetadata().GetAttempt())),
		account.FactState:    strings.ToLower(strings.TrimPrefix(x.GetState().String(), "CONTAINER_")),
	}}
	if pod != nil {
		m := pod.GetMetadata()
		w.Outer = "pod:" + m.GetUid()
		w.Facts[account.FactPod], w.Facts[account.FactNamespace] = m.GetName(), m.GetNamespace()
	}
	w.Owner = labels["org.vinescale.owner"]
	return w
}

// addStatus adds what only a container's own status tells: limits, and how it ended.
func (c *cri) addStatus(ctx context.Context, client runtime.RuntimeServiceClient, x *runtime.Container,
	facts map[string]string) {
	answer, err := client.ContainerStatus(ctx, &runtime.ContainerStatusRequest{ContainerId: x.GetId()})
	if err != nil {
		return // it may be gone since it was listed
	}
	st := answer.GetStatus()
	if image := st.GetImage().GetImage(); image != "" {
		facts[account.FactImage] = image
	}
	if limits := st.GetResources().GetLinux(); limits.GetMemoryLimitInBytes() > 0 {
		facts[account.FactMemoryLimit] = strconv.FormatInt(limits.GetMemoryLimitInBytes(), 10)
	}
	if st.GetState() == runtime.ContainerState_CONTAINER_EXITED {
		facts[account.FactExit] = ending(int(st.GetExitCode()), st.GetReason())
	}
}

// ending says how something ended, by its exit code and a word of the system that ran it.
func ending(code int, reason string) string {
	s := "exit code " + strconv.Itoa(code)
	if reason != "" {
		s += " (" + reason + ")"
	}
	return s
}

// Short takes an error's own text out of the wrapping of calls.
func Short(err error) error {
	text := err.Error()
	if i := strings.LastIndex(text, "desc = "); i >= 0 {
		text = strings.Trim(text[i+len("desc = "):], `"`)
	}
	return fmt.Errorf("%s", text)
}
