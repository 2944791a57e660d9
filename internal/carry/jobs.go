package carry

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"vinescale/core/act"
)

// Jobs are acted on by the scheduler's own commands (scancel(1), scontrol(1)), which stand beside the one that lists
// them.

// jobWithin is how long one of these commands, and the scheduler after it, is given.
const jobWithin = 20 * time.Second

// scheduler runs a command of the scheduler's.
func (h *Host) scheduler(ctx context.Context, name string, args ...string) (string, error) {
	if h.Systems.Jobs == "" {
		return "", refuse("this collector was not told of a batch scheduler: begin it with --ask slurm")
	}
	if strings.Contains(h.Systems.Jobs, "/") {
		name = filepath.Join(filepath.Dir(h.Systems.Jobs), name)
	}
	ctx, cancel := context.WithTimeout(ctx, jobWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.WaitDelay = 100 * time.Millisecond
	out, err := cmd.CombinedOutput()
	if err != nil {
		first, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		return "", fmt.Errorf("the scheduler refuses: %s (%w)", first, err)
	}
	return string(out), nil
}

var (
	jobState  = regexp.MustCompile(`\bJobState=(\S+)`)
	jobReason = regexp.MustCompile(`\bReason=(\S+)`)
	jobUser   = regexp.MustCompile(`\bUserId=([^(\s]+)`)
	jobStart  = regexp.MustCompile(`\bStartTime=(\S+)`)
)

func first(re *regexp.Regexp, s string) string {
	if m := re.FindStringSubmatch(s); m != nil {
		return m[1]
	}
	return ""
}

// jobIs is our word for how a job is, by what scontrol(1) shows of it.
func jobIs(shown string) string {
	state, reason := first(jobState, shown), first(jobReason, shown)
	switch {
	case state == "PENDING" && strings.HasPrefix(reason, "JobHeld"):
		return "held"
	case state == "PENDING":
		return "waiting"
	case state == "RUNNING", state == "SUSPENDED":
		return strings.ToLower(state)
	case state == "":
		return "unknown"
	}
	return "over"
}

func (h *Host) readJob(c *change) (string, error) {
	shown, err := h.scheduler(context.Background(), "scontrol", "show", "job", "-o", c.File)
	return jobIs(shown), err
}

func (h *Host) writeJob(c *change, value string) error {
	// What a job is to be is reached by a command that depends on how it is.
	now, err := h.readJob(c)
	if err != nil {
		return err
	}
	commands := map[string]string{"held": "hold", "waiting": "release", "suspended": "suspend", "running": "resume"}
	command := commands[value]
	if command == "" {
		return fmt.Errorf("a job cannot be made %s", value)
	}
	if now == value {
		return nil
	}
	if _, err := h.scheduler(context.Background(), "scontrol", command, c.File); err != nil {
		return err
	}
	for end := time.Now().Add(jobWithin); ; time.Sleep(100 * time.Millisecond) {
		if now, err = h.readJob(c); err != nil || now == value || value == "waiting" && now == "running" ||
			time.Now().After(end) {
			return err
		}
	}
}

// planJob plans an act on a job by its number, whether it runs or waits.
func (h *Host) planJob(ctx context.Context, p *plan, r *act.Request, whose map[string]string,
	policy *act.Policy) error {
	id := r.Target.Job
	key := "job:" + id
	tenant, is := whose[key]
	if !is {
		return refuse("the service does not say whose job %s is", id)
	}
	touched := act.Touched{Key: key, Name: "job " + id, Kind: "job", Tenant: tenant}
	if err := policy.Decide(r.Verb, &touched); err != nil {
		return &refusal{err.Error()}
	}
	p.touch([]act.Touched{touched})
	shown, err := h.scheduler(ctx, "scontrol", "show", "job", "-o", id)
	if err != nil {
		return &refusal{err.Error()}
	}
	p.Through = "the batch scheduler"
	p.Target = fmt.Sprintf(
		"job %s of %s, %s, begun %s",
		id,
		first(jobUser, shown),
		jobIs(shown),
		first(jobStart, shown),
	)
	c := change{Kind: aJob, What: "state of the job", File: id}
	switch r.Verb {
	case act.Read:
		return h.planReadJob(p, r, id)
	case act.Hold:
		if now := jobIs(shown); now != "waiting" && now != "held" {
			return refuse("job %s is %s: only one that waits can be held", id, now)
		}
		c.After = "held"
		return p.set(h, c)
	case act.Release:
		if now := jobIs(shown); now != "held" {
			return refuse("job %s is %s: it is not held", id, now)
		}
		c.After = "waiting"
		return p.set(h, c)
	}
	if err := h.isJobsHost(ctx, key, jobIs(shown), policy); err != nil {
		return err
	}
	return h.planCancel(p, r, id)
}

// isJobsHost refuses what is not for this host to do: a job that runs on others is acted on by one of them, whose
// policy and pools then count; and one with a process in it that is never touched.
func (h *Host) isJobsHost(ctx context.Context, key, state string, policy *act.Policy) error {
	if state == "waiting" || state == "held" {
		return nil
	}
	known, err := h.Known(ctx)
	if err != nil {
		return err
	}
	isIts := func(k string) bool { return k == key || strings.HasPrefix(k, key+":") }
	isHere := false
	for k := range known.Workloads {
		isHere = isHere || isIts(k)
	}
	if !isHere {
		return refuse("%s is %s, and not on this host: aim at a host that it runs on", key, state)
	}
	list, err := h.all()
	if err != nil {
		return err
	}
	placeAll(list, known)
	if why := h.newSparer(known, list, policy).within(isIts); why != "" {
		return refuse("%s is left alone: %s", key, why)
	}
	return nil
}

// planCancel plans to cancel a job through the scheduler, so that it is not begun anew.
func (h *Host) planCancel(p *plan, r *act.Request, id string) error {
	p.Warnings = append(p.Warnings, "what has ended cannot be brought back")
	args := []string{id}
	if r.Settings["force"] == "true" {
		args = []string{"--signal=KILL", "--full", id}
	}
	p.more = func(ctx context.Context, out *act.Outcome) error {
		if _, err := h.scheduler(ctx, "scancel", args...); err != nil {
			return err
		}
		for end := time.Now().Add(jobWithin); time.Now().Before(end) && ctx.Err() == nil; time.Sleep(100 *
			time.Millisecond) {
			if now, err := h.readJob(&change{File: id}); err != nil || now == "over" {
				out.State, out.Detail = act.Done, "job "+id+" is over, and the scheduler knows it"
				return nil
			}
		}
		return errors.New("the scheduler took it, and the job is not over yet")
	}
	return nil
}
