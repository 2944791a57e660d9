package carry

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"
	cri "k8s.io/cri-api/pkg/apis/runtime/v1"

	"vinescale/internal/informants"
)

// podRuntime is a container runtime behind the Container Runtime Interface, version 1. That has a call to stop a
// container, and a file of what each wrote; it has none to pause one.
type podRuntime struct{ socket string }

func (c podRuntime) name() string { return "the container runtime" }

// ask calls the runtime, within a time.
func (c podRuntime) ask(ctx context.Context, within time.Duration,
	call func(context.Context, cri.RuntimeServiceClient) error) error {
	client, done, err := informants.DialCRI(c.socket)
	if err != nil {
		return err
	}
	defer done()
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	if err := call(ctx, client); status.Code(err) == codes.NotFound {
		return fmt.Errorf("%w: %w", errNotIts, informants.Short(err))
	} else if err != nil {
		return informants.Short(err)
	}
	return nil
}

// errNotIts says that the runtime knows nothing of that name.
var errNotIts = errors.New("the container runtime has none of that name")

// status is what the runtime tells of a container. The error says why it has none of that id.
func (c podRuntime) status(ctx context.Context, id string) (of *cri.ContainerStatus, err error) {
	err = c.ask(ctx, linesWithin, func(ctx context.Context, client cri.RuntimeServiceClient) error {
		answer, err := client.ContainerStatus(ctx, &cri.ContainerStatusRequest{ContainerId: id})
		of = answer.GetStatus()
		return err
	})
	if err == nil && of == nil {
		err = errNotIts
	}
	return of, err
}

// sandboxOf is the id of the sandbox of a pod, by the key of its workload.
func (c podRuntime) sandboxOf(ctx context.Context, key string) (id string, err error) {
	err = c.ask(ctx, linesWithin, func(ctx context.Context, client cri.RuntimeServiceClient) error {
		answer, err := client.ListPodSandbox(ctx, &cri.ListPodSandboxRequest{})
		for _, p := range answer.GetItems() {
			if "pod:"+p.GetMetadata().GetUid() == key && p.GetState() == cri.PodSandboxState_SANDBOX_READY {
				id = p.GetId()
			}
		}
		return err
	})
	if err == nil && id == "" {
		err = errNotIts
	}
	return id, err
}

// end stops a container, which has so long to end by itself.
func (c podRuntime) end(ctx context.Context, id string, isForced bool, wait time.Duration) error {
	if isForced {
		wait = 0
	}
	return c.ask(ctx, wait+20*time.Second, func(ctx context.Context, client cri.RuntimeServiceClient) error {
		_, err := client.StopContainer(ctx, &cri.StopContainerRequest{ContainerId: id, Timeout: int64(wait.Seconds())})
		return err
	})
}

// endPod stops the containers of a pod one after the other, and then what holds them together.
func (c podRuntime) endPod(ctx context.Context, sandbox string, isForced bool, wait time.Duration) error {
	var of []*cri.Container
	err := c.ask(ctx, linesWithin, func(ctx context.Context, client cri.RuntimeServiceClient) error {
		answer, err := client.ListContainers(ctx, &cri.ListContainersRequest{
			Filter: &cri.ContainerFilter{PodSandboxId: sandbox}})
		of = answer.GetContainers()
		return err
	})
	if err != nil {
		return err
	}
	for _, x := range of {
		if err := c.end(ctx, x.GetId(), isForced, wait); err != nil {
			return err
		}
	}
	return c.ask(ctx, wait+20*time.Second, func(ctx context.Context, client cri.RuntimeServiceClient) error {
		_, err := client.StopPodSandbox(ctx, &cri.StopPodSandboxRequest{PodSandboxId: sandbox})
		return err
	})
}

// lines reads the last lines of the file that the runtime keeps of a container. Each line there begins with when it was
// written, the stream, and whether the line is whole (F) or goes on in the next (P): the log format of the Container
// Runtime Interface.
func (c podRuntime) lines(ctx context.Context, id string, n int) ([]line, error) {
	of, err := c.status(ctx, id)
	if err != nil {
		return nil, err
	}
	if of.GetLogPath() == "" {
		return nil, errors.New("the container runtime keeps nothing of what it writes")
	}
	raw, err := tail(of.GetLogPath(), 0, "the container runtime", "", mostOfLines)
	if err != nil {
		return nil, err
	}
	lines, goesOn := []line{}, map[string]int{} // by stream, the line that is to be continued
	for _, x := range raw {
		part := strings.SplitN(x.text, " ", 4)
		if len(part) < 4 {
			continue // the first may be cut
		}
		if _, err := time.Parse(time.RFC3339Nano, part[0]); err != nil {
			continue
		}
		stream := map[string]string{"stdout": "output", "stderr": "errors"}[part[1]]
		tag, _, _ := strings.Cut(part[2], ":")
		if at, is := goesOn[stream]; is {
			lines[at].text += part[3]
		} else {
			goesOn[stream] = len(lines)
			lines = append(lines, line{part[0], stream, part[3]})
		}
		if tag != "P" {
			delete(goesOn, stream)
		}
	}
	return lines[max(0, len(lines)-n):], nil
}
