package informants

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/core/cpuset"
	"vinescale/internal/identify"
)

// slurm asks the batch scheduler by its own command, squeue --json, which tells all jobs that wait, run, or ended a
// short while ago. Which CPUs a job was given only scontrol tells, which stands beside it: it is asked once a job, by
// itself, so that what a job is called can say nothing of another's.
type slurm struct {
	command string

	mu    sync.Mutex
	given map[string]givenCPUs // by job
}

// givenCPUs is what a job was given when it began.
type givenCPUs struct {
	began int64
	list  string
}

func (s *slurm) Name() string { return "the batch scheduler (" + s.command + ")" }

func (s *slurm) Knows(w account.Workload) bool {
	return w.Kind == amount.Job && JobID(w.Key) != ""
}

// notTheirs marks the name of a job that is claimed by another user than its submitter.
const notTheirs = " (not the submitter's)"

var jobKey = regexp.MustCompile(`^job:(\d+)(?::uid\d+)?$`)

// JobID is the number of a job at the scheduler, by the key of its workload; "" where it is none of a scheduler.
func JobID(key string) string {
	if m := jobKey.FindStringSubmatch(key); m != nil {
		return m[1]
	}
	return ""
}

func (s *slurm) Ask(ctx context.Context, about []account.Workload) (map[string]account.Workload, error) {
	cmd := exec.CommandContext(ctx, s.command, "--json")
	cmd.WaitDelay = 100_000_000 // what the command left behind holds nothing up
	out, err := cmd.Output()
	if err != nil {
		if failed, ok := err.(*exec.ExitError); ok && len(failed.Stderr) > 0 {
			first, _, _ := strings.Cut(strings.TrimSpace(string(failed.Stderr)), "\n")
			return nil, fmt.Errorf("%s", first)
		}
		return nil, err
	}
	jobs, err := parseJobs(out, nodeName())
	if err != nil {
		return nil, err
	}
	found := map[string]account.Workload{}
	for _, w := range about {
		j, ok := jobs[JobID(w.Key)]
		if !ok {
			continue
		}
		if j.UID >= 0 && w.UID >= 0 && j.UID != w.UID {
			// Claimed in an environment, of a job that is another's: what was claimed is not so.
			found[w.Key] = account.Workload{UID: -1, Name: strings.TrimSuffix(w.Name, notTheirs) + notTheirs,
				Facts: map[string]string{
					account.FactAccount: identify.Untrue, account.FactPartition: identify.Untrue,
					account.FactJobName: identify.Untrue, account.FactGPUClaim: identify.Untrue,
				}}
			continue
		}
		found[w.Key] = j.Workload
		if list := s.cpusGiven(ctx, JobID(w.Key), j.began); list != "" {
			j.Facts[account.FactCPUsGiven] = list
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	maps.DeleteFunc(s.given, func(id string, _ givenCPUs) bool { _, is := jobs[id]; return !is })
	return found, nil
}

// cpusGiven asks which CPUs of this host a job was given, as the scheduler numbers them; "" where that is not told.
func (s *slurm) cpusGiven(ctx context.Context, id string, began int64) string {
	if began == 0 {
		return ""
	}
	s.mu.Lock()
	given, is := s.given[id]
	s.mu.Unlock()
	if is && given.began == began {
		return given.list
	}
	cmd := exec.CommandContext(
		ctx,
		filepath.Join(filepath.Dir(s.command), "scontrol"),
		"--details",
		"show",
		"job",
		id,
	)
	if !strings.Contains(s.command, "/") {
		cmd = exec.CommandContext(ctx, "scontrol", cmd.Args[1:]...)
	}
	cmd.WaitDelay = 100_000_000
	out, err := cmd.Output()
	if err != nil {
		return "" // it is asked again the next time
	}
	given = givenCPUs{began, cpusOn(string(out), nodeName())}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.given == nil {
		s.given = map[string]givenCPUs{}
	}
	s.given[id] = given
	return given.list
}

// allotment finds what a job has on some nodes, such as Nodes=terrace-[1-2] CPU_IDs=0-3,8 Mem=0 GRES=.
var allotment = regexp.MustCompile(`(?m)^ +Nodes=(\S+) CPU_IDs=(\S+)`)

// cpusOn is which CPUs of a host a job has, as the scheduler tells of it. Of a job with one node alone, that is this.
func cpusOn(detail, host string) string {
	all := allotment.FindAllStringSubmatch(detail, -1)
	for _, m := range all {
		nodes := expandNodes(m[1])
		if len(all) > 1 || len(nodes) > 1 {
			if !slices.Contains(nodes, host) {
				continue
			}
		}
		if _, err := cpuset.Parse(m[2]); err == nil {
			return m[2]
		}
	}
	return ""
}

// number is a JSON number, which later versions of the scheduler put into {"set": true, "number": N}.
type number struct {
	known bool
	n     int64
}

// UnmarshalJSON reads both forms; anything else is not known.
func (x *number) UnmarshalJSON(b []byte) error {
	var wrapped struct {
		Set      bool  `json:"set"`
		Infinite bool  `json:"infinite"`
		Number   int64 `json:"number"`
	}
	if n, err := strconv.ParseInt(string(b), 10, 64); err == nil {
		*x = number{true, n}
	} else if json.Unmarshal(b, &wrapped) == nil && wrapped.Set && !wrapped.Infinite {
		*x = number{true, wrapped.Number}
	}
	return nil
}

// words is a JSON string, or the list of strings that later versions use.
type words []string

// UnmarshalJSON reads both forms.
func (x *words) UnmarshalJSON(b []byte) error {
	var one string
	if json.Unmarshal(b, &one) == nil {
		*x = words{one}
		return nil
	}
	var many []string
	_ = json.Unmarshal(b, &many) // anything else is not known
	*x = many
	return nil
}

// slurmJob is what is used of one job.
type slurmJob struct {
	ID         int64    `json:"job_id"`
	Name       string   `json:"name"`
	Account    string   `json:"account"`
	Partition  string   `json:"partition"`
	UserID     number   `json:"user_id"`
	UserName   string   `json:"user_name"`
	ArrayJob   number   `json:"array_job_id"`
	ArrayTask  number   `json:"array_task_id"`
	TimeLimit  number   `json:"time_limit"` // minutes
	CPUs       number   `json:"cpus"`
	Memory     number   `json:"memory_per_node"` // MiB
	State      words    `json:"job_state"`
	GresDetail []string `json:"gres_detail"` // by node, in the order of Nodes
	Nodes      string   `json:"nodes"`       // such as terrace-[1-3],press-1
	ExitCode   number   `json:"exit_code"`   // as wait(2) has it
	StartTime  number   `json:"start_time"`  // seconds since 1970
}

// toldJob is what is told of a job, and when it began, in seconds since 1970: 0 for one that does not run.
type toldJob struct {
	account.Workload
	began int64
}

// parseJobs reads what the scheduler tells of its jobs; host is the name by which it knows this host.
func parseJobs(out []byte, host string) (map[string]toldJob, error) {
	var answer struct {
		Jobs []slurmJob `json:"jobs"`
	}
	if err := json.Unmarshal(out, &answer); err != nil {
		return nil, fmt.Errorf("its answer is not the JSON that is expected: %w", err)
	}
	jobs := map[string]toldJob{}
	for i := range answer.Jobs {
		j := &answer.Jobs[i]
		told := toldJob{Workload: j.workload(host)}
		if told.Facts[account.FactState] == "running" {
			told.began = j.StartTime.n
		}
		jobs[strconv.FormatInt(j.ID, 10)] = told
	}
	return jobs, nil
}

func (j *slurmJob) workload(host string) account.Workload {
	facts := map[string]string{account.FactJobName: j.Name, account.FactAccount: j.Account,
		account.FactPartition: j.Partition}
	put := func(name string, x number, per int64) {
		if x.known && x.n > 0 {
			facts[name] = strconv.FormatInt(x.n*per, 10)
		}
	}
	put(account.FactCPUAsked, j.CPUs, 1)
	put(account.FactMemoryAsked, j.Memory, 1<<20)
	put(account.FactRunFor, j.TimeLimit, 60)
	if j.ArrayJob.known && j.ArrayJob.n > 0 && j.ArrayTask.known {
		facts[account.FactArray] = fmt.Sprintf("%d_%d", j.ArrayJob.n, j.ArrayTask.n)
	}
	if gpus, ok := j.gpusOn(host); ok {
		facts[account.FactGPUs] = gpus
	}
	if len(j.State) > 0 {
		facts[account.FactState] = strings.ToLower(j.State[0])
		switch j.State[0] {
		case "COMPLETED", "FAILED", "CANCELLED", "TIMEOUT", "OUT_OF_MEMORY", "NODE_FAIL":
			code := j.ExitCode.n
			if code > 255 {
				code >>= 8 // the exit status is in the high byte
			}
			facts[account.FactExit] = ending(int(code), strings.ToLower(j.State[0]))
		}
	}
	w := account.Workload{UID: -1, Owner: j.UserName, Facts: facts}
	if j.UserID.known {
		w.UID = j.UserID.n
	}
	return w
}
