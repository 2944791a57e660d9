package carry_test

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"
	cri "k8s.io/cri-api/pkg/apis/runtime/v1"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/internal/carry"
)

// podStandIn is a container runtime of some containers in one pod, each a process of the test.
type podStandIn struct {
	cri.UnimplementedRuntimeServiceServer
	mu    sync.Mutex
	pids  map[string]int    // by container
	logs  map[string]string // the file of each
	calls []string
}

func (s *podStandIn) serve(t *testing.T) (socket string) {
	socket = filepath.Join(shortDir(t), "pods.sock")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	server := grpc.NewServer()
	cri.RegisterRuntimeServiceServer(server, s)
	go server.Serve(l)
	t.Cleanup(server.Stop)
	return socket
}

func (s *podStandIn) called() (calls []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	calls, s.calls = s.calls, nil
	return calls
}

func (s *podStandIn) ContainerStatus(_ context.Context, r *cri.ContainerStatusRequest) (*cri.ContainerStatusResponse,
	error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.pids[r.ContainerId] == 0 {
		return nil, status.Errorf(codes.NotFound, "an error occurred when try to find container %q", r.ContainerId)
	}
	return &cri.ContainerStatusResponse{Status: &cri.ContainerStatus{Id: r.ContainerId,
		LogPath: s.logs[r.ContainerId]}}, nil
}

func (s *podStandIn) ListPodSandbox(context.Context, *cri.ListPodSandboxRequest) (*cri.ListPodSandboxResponse, error) {
	of := func(id, uid string, state cri.PodSandboxState) *cri.PodSandbox {
		return &cri.PodSandbox{Id: id, State: state, Metadata: &cri.PodSandboxMetadata{Uid: uid}}
	}
	return &cri.ListPodSandboxResponse{Items: []*cri.PodSandbox{of("other", "u-2", cri.PodSandboxState_SANDBOX_READY),
		of("sandbox", "u-1", cri.PodSandboxState_SANDBOX_READY),
		of("before", "u-1", cri.PodSandboxState_SANDBOX_NOTREADY)}}, nil
}

func (s *podStandIn) ListContainers(_ context.Context, r *cri.ListContainersRequest) (*cri.ListContainersResponse,
	error) {
	if r.Filter.GetPodSandboxId() != "sandbox" {
		return &cri.ListContainersResponse{}, nil
	}
	return &cri.ListContainersResponse{Containers: []*cri.Container{{Id: "aaaa"}, {Id: "bbbb"}}}, nil
}

func (s *podStandIn) StopContainer(_ context.Context, r *cri.StopContainerRequest) (*cri.StopContainerResponse, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls = append(s.calls, fmt.Sprintf("stop %s %d", r.ContainerId, r.Timeout))
	if r.ContainerId == "stuck" {
		return nil, status.Error(codes.DeadlineExceeded, "it does not answer")
	}
	return &cri.StopContainerResponse{}, syscall.Kill(s.pids[r.ContainerId], syscall.SIGKILL)
}

func (s *podStandIn) StopPodSandbox(_ context.Context, r *cri.StopPodSandboxRequest) (*cri.StopPodSandboxResponse,
	error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.calls = append(s.calls, "stop pod "+r.PodSandboxId)
	return &cri.StopPodSandboxResponse{}, nil
}

// podScene runs a process for each of some containers, which are the pod u-1 together.
func podScene(t *testing.T, ids ...string) (*scene, *podStandIn) {
	s, stand := newScene(t), &podStandIn{pids: map[string]int{}, logs: map[string]string{}}
	s.options.Systems.Pods = stand.serve(t)
	s.open()
	for _, id := range ids {
		key := "container:" + id
		s.known.Workloads[key] = account.Workload{Key: key, Kind: amount.Container, Name: id, Outer: "pod:u-1"}
		stand.pids[id] = s.runOf(key, "READY; exec sleep 85").Process.Pid
	}
	return s, stand
}

func (s *scene) ofWorkload(v act.Verb, key string, settings map[string]string) *act.Order {
	o := s.order(v, act.Target{Form: act.OfWorkload, Key: key}, settings)
	o.Whose[key] = "Leaf Vision"
	return o
}

func TestEnd_AContainerOfAPodIsStoppedByItsRuntime(t *testing.T) {
	s, stand := podScene(t, "aaaa", "bbbb", "stuck")
	end := func(id string, settings map[string]string) act.Outcome {
		o := s.ofWorkload(act.End, "container:"+id, settings)
		p := s.preview(o)
		assert.Equal(t, "the container runtime", p.Through)
		assert.Contains(t, strings.Join(p.Warnings, "; "), "what manages that begins it anew")
		assert.Empty(t, stand.called(), "a preview changes nothing")
		return s.carry(o)
	}
	out := end("aaaa", map[string]string{"wait": "7s"})
	assert.Equal(t, act.Done, out.State, "%+v", out)
	assert.Equal(t, []string{"stop aaaa 7"}, stand.called())
	out = end("bbbb", map[string]string{"force": "true", "wait": "7s"})
	assert.Equal(t, act.Done, out.State, "%+v", out)
	assert.Equal(t, []string{"stop bbbb 0"}, stand.called())
	out = end("stuck", nil)
	assert.Equal(t, act.Failed, out.State)
	assert.Contains(t, out.Detail, "it does not answer")
	assert.Len(t, s.alive(), 1)
}

func TestEnd_APodIsStoppedByItsRuntime(t *testing.T) {
	s, stand := podScene(t, "aaaa", "bbbb")
	const pod = "pod:u-1"
	s.known.Workloads[pod] = account.Workload{Key: pod, Kind: amount.Container, Name: "pod leafscan"}
	for _, id := range []string{"aaaa", "bbbb"} { // what is within it is of it
		s.known.Of[carry.Process{PID: int32(stand.pids[id]), Start: startOf(t, stand.pids[id])}] = pod
	}
	o := s.ofWorkload(act.End, pod, map[string]string{"wait": "3s"})
	p := s.preview(o)
	assert.Equal(t, "the container runtime", p.Through)
	out := s.carry(o)
	assert.Equal(t, act.Done, out.State, "%+v", out)
	assert.Equal(t, []string{"stop aaaa 3", "stop bbbb 3", "stop pod sandbox"}, stand.called())
	assert.Empty(t, s.alive())
}

// TestEnd_WhatTheRuntimeDoesNotKnowIsNotItsOwn asks for a container that another engine may have, and a pod that is
// over.
func TestEnd_WhatTheRuntimeDoesNotKnowIsNotItsOwn(t *testing.T) {
	s, stand := podScene(t, "aaaa")
	for _, key := range []string{"container:cccc", "pod:u-9"} {
		s.known.Workloads[key] = account.Workload{Key: key, Kind: amount.Container, Name: key}
		s.runOf(key, "READY; exec sleep 86")
		p, err := s.host.Preview(context.Background(), s.ofWorkload(act.End, key, nil))
		require.NoError(t, err)
		assert.Equal(t, "the kernel", p.Through, key)
		assert.Contains(t, strings.Join(p.Warnings, "; "), "may begin", key)
		assert.NotContains(t, strings.Join(p.Warnings, "; "), "cannot be asked", key)
	}
	assert.Empty(t, stand.called())
	s.options.Systems.Pods = filepath.Join(shortDir(t), "gone.sock")
	s.open()
	p, err := s.host.Preview(context.Background(), s.ofWorkload(act.End, "container:aaaa", nil))
	require.NoError(t, err)
	assert.Equal(t, "the kernel", p.Through)
	assert.Contains(t, strings.Join(p.Warnings, "; "), "the container runtime that pods are run by cannot be asked")
	_, err = s.host.Preview(context.Background(), s.ofWorkload(act.Read, "container:aaaa", nil))
	require.ErrorContains(t, err, "the container runtime that pods are run by cannot be asked")
}

func TestRead_AContainersLinesAreInItsRuntimesFile(t *testing.T) {
	s, stand := podScene(t, "aaaa", "bbbb")
	file := filepath.Join(t.TempDir(), "0.log")
	require.NoError(t, os.WriteFile(file, []byte("cut off\n"+
		"2026-10-11T12:00:00.5+02:00 stdout F the first leaf\n"+
		"2026-10-11T12:00:01Z stdout P the second, which is \n"+
		"2026-10-11T12:00:02Z stderr F a blurred picture\n"+
		"2026-10-11T12:00:03Z stdout P very \n"+
		"2026-10-11T12:00:04Z stdout F:x long\n"+
		"2026-10-11T12:00:05Z stdout F \n"), 0o640))
	stand.logs["aaaa"] = file
	read := func(id string, settings map[string]string) act.Outcome {
		o := s.ofWorkload(act.Read, "container:"+id, settings)
		p := s.preview(o)
		assert.Equal(t, []any{"the container runtime", "", 0}, []any{p.Through, p.Undo, len(p.Changes)})
		return s.carry(o)
	}
	all := []string{"output 2026-10-11T12:00:00.5+02:00: the first leaf",
		"output 2026-10-11T12:00:01Z: the second, which is very long", "errors 2026-10-11T12:00:02Z: a blurred picture",
		"output 2026-10-11T12:00:05Z: "}
	out := read("aaaa", nil)
	if os.Geteuid() == 0 {
		assert.Equal(t, all, foundIn(out), "%+v", out)
		assert.Equal(t, all[2:], foundIn(read("aaaa", map[string]string{"lines": "2"})))
		require.NoError(t, os.Chown(file, 2001, -1))
		out = read("aaaa", nil)
	}
	assert.Equal(t, act.Failed, out.State)
	assert.Contains(t, out.Detail, "is no file of the container runtime",
		"whoever may name a file may put anything there")
	out = read("bbbb", nil)
	assert.Equal(t, act.Failed, out.State)
	assert.Contains(t, out.Detail, "keeps nothing of what it writes")
	assert.Len(t, s.alive(), 2)
}
