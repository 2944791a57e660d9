package identify

import (
	"regexp"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// batch recognises the jobs of Slurm: by the cgroup its daemon makes for each, and, where the site has it make none, by
// the environment it gives each process.
//
// A process can claim any environment. So a job known by its cgroup keeps its name to itself, and one claimed by
// environment is the claimer's own: its key holds the real uid.
type batch struct {
	users   *Users
	trusted func(key string, uid int64) bool
}

var (
	jobDir     = regexp.MustCompile(`/uid_(\d+)/job_(\d+)$`)
	jobScope   = regexp.MustCompile(`slurmstepd\.scope/job_(\d+)$`)
	stepOfJob  = regexp.MustCompile(`/job_\d+/step_([^/\n]+)`)
	jobNumbers = regexp.MustCompile(`^[0-9]{1,12}$`)
)

func (b batch) byPath(p string) (account.Workload, bool) {
	if m := jobDir.FindStringSubmatch(p); m != nil {
		uid, err := strconv.ParseInt(m[1], 10, 64)
		if err != nil {
			return account.Workload{}, false
		}
		return account.Workload{Key: "job:" + m[2], Kind: amount.Job, Name: "job " + m[2], Owner: b.users.Name(uid),
			UID: uid}, true
	}
	if m := jobScope.FindStringSubmatch(p); m != nil {
		return account.Workload{Key: "job:" + m[1], Kind: amount.Job, Name: "job " + m[1], UID: -1}, true
	}
	return account.Workload{}, false
}

func (b batch) byProcess(p *Process, inside account.Workload) (account.Workload, bool) {
	env := p.environment(jobVariables...)
	id := env["SLURM_JOB_ID"]
	if !jobNumbers.MatchString(id) || p.UID == 0 && p.LoginUID == NoUser && strings.HasPrefix(p.Comm, "slurm") {
		return account.Workload{}, false
	}
	key := "job:" + id
	if !b.trusted(key, p.UID) {
		key += ":uid" + strconv.FormatInt(p.UID, 10)
	}
	return account.Workload{
		Key: key, Kind: amount.Job, Name: "job " + id, Owner: b.users.Name(p.UID), UID: p.UID, Outer: inside.Key,
		Facts: jobFacts(env),
	}, true
}

// jobVariables are what the scheduler tells a job's processes of it.
var jobVariables = []string{
	"SLURM_JOB_ID", "SLURM_JOB_NAME", "SLURM_JOB_ACCOUNT", "SLURM_JOB_PARTITION", "SLURM_JOB_GPUS",
	"SLURM_ARRAY_JOB_ID", "SLURM_ARRAY_TASK_ID", "SLURM_CPUS_ON_NODE", "SLURM_MEM_PER_NODE",
}

func jobFacts(env map[string]string) map[string]string {
	facts := map[string]string{
		account.FactWhy: "SLURM_JOB_ID in the environment", account.FactJobName: env["SLURM_JOB_NAME"],
		account.FactAccount:   env["SLURM_JOB_ACCOUNT"],
		account.FactPartition: env["SLURM_JOB_PARTITION"], account.FactGPUClaim: env["SLURM_JOB_GPUS"],
		account.FactCPUAsked: env["SLURM_CPUS_ON_NODE"],
	}
	if mb, err := strconv.ParseInt(env["SLURM_MEM_PER_NODE"], 10, 40); err == nil && mb > 0 {
		facts[account.FactMemoryAsked] = strconv.FormatInt(mb<<20, 10)
	}
	if a := env["SLURM_ARRAY_JOB_ID"]; a != "" {
		facts[account.FactArray] = a + "_" + env["SLURM_ARRAY_TASK_ID"]
	}
	return facts
}

// complete adds what a process of a job known by its cgroup says of the job, where nothing better does.
func (b batch) complete(p *Process, w *account.Workload) map[string]string {
	if w.Kind != amount.Job || w.Facts[account.FactAccount] != "" || w.Facts[account.FactJobName] != "" || w.UID >= 0 &&
		p.UID != w.UID {
		return nil
	}
	env := p.environment(jobVariables...)
	if id := env["SLURM_JOB_ID"]; id == "" || w.Key != "job:"+id {
		return nil
	}
	facts := jobFacts(env)
	delete(facts, account.FactWhy)
	return facts
}

// JobStep is the step of a job that a process is in, by its cgroups; "" where they do not tell.
func JobStep(cgroups string) string {
	if m := stepOfJob.FindStringSubmatch(cgroups); m != nil {
		return "step " + m[1]
	}
	return ""
}
