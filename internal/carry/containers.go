package carry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/internal/identify"
	"vinescale/internal/informants"
)

// planManaged plans an act on a workload that another system manages through that system, so that it does not undo it.
// It tells false where the act is the kernel's.
func (h *Host) planManaged(_ context.Context, p *plan, r *act.Request) (bool, error) {
	w := p.aim.workload
	is, err := false, error(nil)
	switch w.Kind {
	case amount.Container:
		is, err = h.planContainer(p, r, w)
	case amount.VM:
		is, err = h.planMachine(p, r, w)
	case amount.Job:
		is, err = h.planJobOf(p, r, w)
	case amount.Service:
		is, err = h.planServiceOf(p, r, w)
	}
	if is && err == nil && len(p.aim.left) > 0 { // the system would touch all of it
		return true, refuse("%s is in it, and is never touched: %s", p.aim.left[0].What, p.aim.left[0].Why)
	}
	return is, err
}

// planServiceOf ends a service through the init system.
func (h *Host) planServiceOf(p *plan, r *act.Request, w *account.Workload) (bool, error) {
	name := w.Facts[account.FactUnit]
	if r.Verb != act.End || name == "" {
		return false, nil
	}
	if h.Systems.Bus == "" {
		p.Warnings = append(p.Warnings, "the init system is not known to this collector, and may start it again")
		return false, nil
	}
	p.Through = "the init system"
	p.Undo = "it is started again"
	return true, p.set(h, change{Kind: aUnit, What: "state of the unit", File: name, After: "stopped"})
}

// planJobOf acts on a job that runs through its scheduler.
func (h *Host) planJobOf(p *plan, r *act.Request, w *account.Workload) (bool, error) {
	id := informants.JobID(w.Key)
	if r.Verb != act.End && r.Verb != act.Pause && r.Verb != act.Continue ||
		w.Recogniser == identify.BegunRecogniser { // of no scheduler
		return false, nil
	}
	if id == "" || h.Systems.Jobs == "" {
		p.Warnings = append(
			p.Warnings,
			"its scheduler is not known to this collector: it is not told, and may begin the "+
				"job anew",
		)
		return false, nil
	}
	p.Through = "the batch scheduler"
	c := change{Kind: aJob, What: "state of the job", File: id}
	switch r.Verb {
	case act.Pause:
		c.After = "suspended"
		return true, p.set(h, c)
	case act.Continue:
		c.After = "running"
		return true, p.set(h, c)
	}
	return true, h.planCancel(p, r, id)
}

// planContainer acts on a container through its engine, or through its runtime where no engine has it.
func (h *Host) planContainer(p *plan, r *act.Request, w *account.Workload) (bool, error) {
	id := informants.ContainerID(w.Key)
	if r.Verb != act.End && r.Verb != act.Pause && r.Verb != act.Continue {
		return false, nil
	}
	if r.Verb == act.End && h.Systems.Pods != "" {
		if end, err := h.endOfPods(id, w.Key); err == nil {
			p.Through = podRuntime{}.name()
			p.Warnings = append(p.Warnings, beginsAnew)
			h.planEndThrough(p, r, end)
			return true, nil
		} else if !errors.Is(err, errNotIts) {
			p.Warnings = append(p.Warnings, "the container runtime that pods are run by cannot be asked: "+err.Error())
		}
	}
	if strings.HasPrefix(w.Key, "pod:") {
		p.Warnings = append(p.Warnings, "what manages the pod is not told, and may begin its containers anew")
		return false, nil
	}
	through, policy := h.runtimeOf(id)
	if through == nil {
		p.Warnings = append(
			p.Warnings,
			"no engine or runtime is known for it: what began it is not told, and may begin it "+
				"anew",
		)
		return false, nil
	}
	p.Through = through.name()
	if policy != "" && policy != "no" {
		p.Warnings = append(
			p.Warnings,
			"its engine starts it again by itself ("+policy+"), but not after it was ended "+
				"through the engine",
		)
	}
	for key, value := range w.Labels {
		if strings.HasPrefix(key, "io.kubernetes.") && value != "" && r.Verb == act.End {
			p.Warnings = append(p.Warnings, beginsAnew)
			break
		}
	}
	c := change{Kind: aContainer, What: "state of the container", File: id, After: "running"}
	switch r.Verb {
	case act.Pause:
		c.After = "paused"
		return true, p.set(h, c)
	case act.Continue:
		return true, p.set(h, c)
	}
	h.planEndThrough(p, r, func(ctx context.Context, isForced bool, wait time.Duration) error {
		return through.end(ctx, id, isForced, wait)
	})
	return true, nil
}

// beginsAnew warns of what is of a pod.
const beginsAnew = "it is of a pod: what manages that begins it anew"

// ending ends something by force, or gives it so long to end by itself.
type ending func(ctx context.Context, isForced bool, wait time.Duration) error

// endOfPods returns what ends a container or a pod through the runtime that pods are run by. The error says why that
// has neither.
func (h *Host) endOfPods(id, key string) (ending, error) {
	c, ctx := podRuntime{h.Systems.Pods}, context.Background()
	if id == "" {
		sandbox, err := c.sandboxOf(ctx, key)
		return func(ctx context.Context, isForced bool, wait time.Duration) error {
			return c.endPod(ctx, sandbox, isForced, wait)
		}, err
	}
	_, err := c.status(ctx, id)
	return func(ctx context.Context, isForced bool, wait time.Duration) error {
		return c.end(ctx, id, isForced, wait)
	}, err
}

// planEndThrough plans to end a workload by what manages it.
func (h *Host) planEndThrough(p *plan, r *act.Request, end ending) {
	p.Warnings = append(p.Warnings, "what has ended cannot be brought back")
	isForced, wait := r.Settings["force"] == "true", usualWait
	if text := r.Settings["wait"]; text != "" {
		wait, _ = time.ParseDuration(text) // it was checked
	}
	p.more = func(ctx context.Context, out *act.Outcome) error {
		if err := end(ctx, isForced, wait); err != nil {
			return err
		}
		if isForced {
			wait = goneWithin
		}
		return h.sayEnded(ctx, p, wait, out)
	}
}

// containerSystem is what manages containers: an engine or a runtime.
type containerSystem interface {
	name() string
	end(ctx context.Context, id string, isForced bool, wait time.Duration) error
	pause(ctx context.Context, id string, isPaused bool) error
	state(ctx context.Context, id string) (string, error)
}

// runtimeOf finds what manages a container, and whether it would start it again by itself; nil where nothing is known.
func (h *Host) runtimeOf(id string) (containerSystem, string) {
	if h.Systems.Engine != "" {
		e := newEngine(h.Systems.Engine)
		if c, err := e.inspect(context.Background(), id); err == nil {
			return e, c.HostConfig.RestartPolicy.Name
		}
	}
	if file, program, ok := identify.StateOf(h.Run, id); ok {
		if h.IsStaged {
			return staged(program), ""
		}
		if path, err := exec.LookPath(program); err == nil {
			return &runtime{path, filepath.Dir(filepath.Dir(file))}, ""
		}
	}
	return nil, ""
}

func (h *Host) readContainer(c *change) (string, error) {
	through, _ := h.runtimeOf(c.File)
	if through == nil {
		return "", errGone
	}
	return through.state(context.Background(), c.File)
}

func (h *Host) writeContainer(c *change, value string) error {
	through, _ := h.runtimeOf(c.File)
	if through == nil {
		return errGone
	}
	return through.pause(context.Background(), c.File, value == "paused")
}

// runtime is an OCI runtime, by its command (OCI Runtime Specification, "Runtime and Lifecycle").
type runtime struct{ program, root string }

func (r *runtime) name() string { return "the runtime " + filepath.Base(r.program) }

func (r *runtime) call(ctx context.Context, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, r.program, append([]string{"--root", r.root}, args...)...)
	cmd.WaitDelay = 100 * time.Millisecond
	out, err := cmd.CombinedOutput()
	if err != nil {
		first, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		return "", fmt.Errorf("%s refuses: %s (%w)", r.name(), first, err)
	}
	return string(out), nil
}

func (r *runtime) end(ctx context.Context, id string, isForced bool, _ time.Duration) error {
	signal := "TERM"
	if isForced {
		signal = "KILL"
		// A paused container takes no signal until it goes on.
		if state, err := r.state(ctx, id); err == nil && state == "paused" {
			_ = r.pause(ctx, id, false)
		}
	}
	_, err := r.call(ctx, "kill", id, signal)
	return err
}

func (r *runtime) pause(ctx context.Context, id string, isPaused bool) error {
	verb := "resume"
	if isPaused {
		verb = "pause"
	}
	_, err := r.call(ctx, verb, id)
	return err
}

func (r *runtime) state(ctx context.Context, id string) (string, error) {
	out, err := r.call(ctx, "state", id)
	if err != nil {
		return "", err
	}
	var s struct {
		Status string `json:"status"`
	}
	if err := json.Unmarshal([]byte(out), &s); err != nil {
		return "", fmt.Errorf("read the state of container %s: %w", id, err)
	}
	return s.Status, nil
}

// staged is the runtime of a host that is made up of files: it has no program, and what it runs, runs.
type staged string

func (s staged) name() string                                           { return "the runtime " + string(s) }
func (s staged) end(context.Context, string, bool, time.Duration) error { return errStaged }
func (s staged) pause(context.Context, string, bool) error              { return errStaged }
func (s staged) state(context.Context, string) (string, error)          { return "running", nil }

// engineAPI is a container engine behind the HTTP interface on a unix socket that several engines serve alike.
type engineAPI struct {
	socket string
	http   *http.Client
}

func newEngine(socket string) *engineAPI {
	e := &engineAPI{socket, informants.EngineClient(socket)}
	e.http.Timeout = act.LongestWait + 20*time.Second
	return e
}

func (e *engineAPI) name() string { return "the container engine" }

type inspected struct {
	State struct {
		Status string
	}
	HostConfig struct {
		RestartPolicy struct{ Name string }
		allowanceOfEngine
	}
}

// errNoSuchCall says that an engine does not serve a call at all.
var errNoSuchCall = errors.New("the container engine has no such call")

func (e *engineAPI) call(ctx context.Context, method, path string, into any) error {
	return e.send(ctx, method, path, nil, into)
}

// send is a call that says something, in JSON; nil for nothing.
func (e *engineAPI) send(ctx context.Context, method, path string, what, into any) error {
	body := io.Reader(http.NoBody)
	if what != nil {
		text, err := json.Marshal(what)
		if err != nil {
			return err
		}
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://engine"+path, body)
	if err != nil {
		return err
	}
	if what != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := e.http.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 4<<20))
	if err != nil {
		return err
	}
	if resp.StatusCode >= 300 && resp.StatusCode != http.StatusNotModified { // it is so already
		var said struct{ Message string }
		if json.Unmarshal(text, &said) != nil && resp.StatusCode == http.StatusNotFound {
			return errNoSuchCall
		}
		return fmt.Errorf("%s refuses: %s %s", e.name(), resp.Status, said.Message)
	}
	if into == nil {
		return nil
	}
	return json.NewDecoder(bytes.NewReader(text)).Decode(into)
}

func (e *engineAPI) inspect(ctx context.Context, id string) (c inspected, err error) {
	return c, e.call(ctx, http.MethodGet, "/containers/"+id+"/json", &c)
}

func (e *engineAPI) end(ctx context.Context, id string, isForced bool, wait time.Duration) error {
	if isForced { // with no time to end by itself; unlike a signal alone, the engine does not start it again
		return e.call(ctx, http.MethodPost, "/containers/"+id+"/stop?t=0", nil)
	}
	return e.call(ctx, http.MethodPost, fmt.Sprintf("/containers/%s/stop?t=%d", id, int(wait.Seconds())), nil)
}

func (e *engineAPI) pause(ctx context.Context, id string, isPaused bool) error {
	verb := "unpause"
	if isPaused {
		verb = "pause"
	}
	return e.call(ctx, http.MethodPost, "/containers/"+id+"/"+verb, nil)
}

func (e *engineAPI) state(ctx context.Context, id string) (string, error) {
	c, err := e.inspect(ctx, id)
	return c.State.Status, err
}
