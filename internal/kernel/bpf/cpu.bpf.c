//go:build ignore

/* CPU time by cgroup and CPU, counted at each switch from the scheduler's own clock of the task that leaves, and a
 * record of each task that has ended. Clock differences between switches are not used: they would count stolen time. */
#include "types.h"

char LICENSE[] SEC("license") = "GPL";

const volatile __u64 attached_ns; /* tasks older than this have run before they were first seen */

struct spent { __u64 run, user, system, waited; }; /* nanoseconds; user and system are sampled by ticks */

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_HASH);
	__uint(max_entries, 16384);
	__type(key, struct groups);
	__type(value, struct spent);
} by_group SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__uint(max_entries, 2);
	__type(key, __u32);
	__type(value, __u64);
} totals SEC(".maps"); /* 0: nanoseconds that tasks ran. 1: ended tasks whose record found no room */

struct last { struct spent at; __u64 known; };

struct {
	__uint(type, BPF_MAP_TYPE_TASK_STORAGE);
	__uint(map_flags, BPF_F_NO_PREALLOC);
	__type(key, int);
	__type(value, struct last);
} lasts SEC(".maps");

struct ended {
	struct groups groups;
	__u64 start, run, user, system, waited; /* start: boot clock. All in nanoseconds */
	__u64 read, written, cancelled;         /* bytes */
	__s32 pid, tgid, parent;
	__u32 uid;
	char comm[16];
};

struct {
	__uint(type, BPF_MAP_TYPE_RINGBUF);
	__uint(max_entries, 1 << 20);
} ended_tasks SEC(".maps");

struct ended *unused_ended __attribute__((unused)); /* keeps the type in the object */
struct spent *unused_spent __attribute__((unused));

static __always_inline void charge(struct task_struct *t)
{
	struct last *l = bpf_task_storage_get(&lasts, t, 0, BPF_LOCAL_STORAGE_GET_F_CREATE);
	if (!l)
		return;
	struct spent now = { t->se.sum_exec_runtime, t->utime, t->stime, t->sched_info.run_delay };
	struct spent was = l->at;
	l->at = now;
	if (!l->known) {
		l->known = 1;
		if (t->start_time < attached_ns)
			return;
	}
	struct spent d = { now.run - was.run, now.user - was.user, now.system - was.system, now.waited - was.waited };
	__u32 zero = 0;
	__u64 *total = bpf_map_lookup_elem(&totals, &zero);
	if (total)
		*total += d.run;
	struct groups key = groups_of(t);
	struct spent *s = bpf_map_lookup_elem(&by_group, &key);
	if (!s) {
		bpf_map_update_elem(&by_group, &key, &d, BPF_NOEXIST);
		return;
	}
	s->run += d.run;
	s->user += d.user;
	s->system += d.system;
	s->waited += d.waited;
}

static __always_inline int is_dead(struct task_struct *t)
{
	const long dead = 0x80; /* TASK_DEAD, include/linux/sched.h */
	if (bpf_core_field_exists(t->__state))
		return t->__state & dead;
	struct task_struct___before_5_14 *old = (void *)t;
	return BPF_CORE_READ(old, state) & dead;
}

static __always_inline void tell_end(struct task_struct *t)
{
	struct ended *e = bpf_ringbuf_reserve(&ended_tasks, sizeof(*e), 0);
	if (!e) {
		__u32 one = 1;
		__u64 *lost = bpf_map_lookup_elem(&totals, &one);
		if (lost)
			*lost += 1;
		return;
	}
	e->groups = groups_of(t);
	e->start = t->start_boottime;
	e->run = t->se.sum_exec_runtime;
	e->user = t->utime;
	e->system = t->stime;
	e->waited = t->sched_info.run_delay;
	e->read = t->ioac.read_bytes;
	e->written = t->ioac.write_bytes;
	e->cancelled = t->ioac.cancelled_write_bytes;
	e->pid = t->pid;
	e->tgid = t->tgid;
	e->parent = t->real_parent->tgid;
	e->uid = t->cred->uid.val;
	bpf_probe_read_kernel(e->comm, sizeof(e->comm), t->comm);
	bpf_ringbuf_submit(e, BPF_RB_NO_WAKEUP);
}

SEC("tp_btf/sched_switch")
int BPF_PROG(on_switch, _Bool preempt, struct task_struct *prev, struct task_struct *next)
{
	if (prev->pid == 0)
		return 0; /* the idle task */
	charge(prev);
	if (is_dead(prev))
		tell_end(prev);
	return 0;
}

/* Never attached: run once on each CPU at a reading, for the task that is on it now. */
SEC("raw_tp")
int settle(void *ctx)
{
	struct task_struct *t = bpf_get_current_task_btf();
	if (t->pid != 0)
		charge(t);
	return 0;
}
