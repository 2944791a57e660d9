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

/* What is counted on one CPU. Most switches are between tasks of one cgroup: what they spend is gathered here, and
 * put to by_group when another's turn comes, or at a reading; finding its place there is a fifth of what a switch
 * costs. The idle task is there from since: not all of it is idle, for interrupts come, and it has its own way in
 * and out. A switch that is missed makes that too short: it is left out from there. Only where the next one is
 * missed too is it too long, by what ran between. */
struct here {
	struct groups groups;
	struct spent spent;
	__u64 ran;                   /* nanoseconds that tasks ran */
	__u64 idle_task, idle_since; /* nanoseconds that the idle task was there */
	__u64 lost;                  /* ended tasks whose record found no room */
};

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__uint(max_entries, 1);
	__type(key, __u32);
	__type(value, struct here);
} heres SEC(".maps");

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
	__u32 cpu, unused; /* that it was on last */
};

struct {
	__uint(type, BPF_MAP_TYPE_RINGBUF);
	__uint(max_entries, 1 << 20);
} ended_tasks SEC(".maps");

struct ended *unused_ended __attribute__((unused)); /* keeps the type in the object */
struct spent *unused_spent __attribute__((unused));
struct here *unused_here __attribute__((unused));

static __always_inline struct here *this_cpu(void)
{
	__u32 zero = 0;
	return bpf_map_lookup_elem(&heres, &zero);
}

static __always_inline void put_down(struct here *h)
{
	if (!h->groups.v2)
		return;
	struct groups key = h->groups;
	struct spent d = h->spent;
	struct spent *s = bpf_map_lookup_elem(&by_group, &key);
	h->spent = (struct spent){};
	if (!s) {
		bpf_map_update_elem(&by_group, &key, &d, BPF_NOEXIST);
		return;
	}
	s->run += d.run;
	s->user += d.user;
	s->system += d.system;
	s->waited += d.waited;
}

static __always_inline void charge(struct here *h, struct task_struct *t)
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
	struct groups key = groups_of(t);
	if (key.v2 != h->groups.v2 || key.cpuacct != h->groups.cpuacct) {
		put_down(h);
		h->groups = key;
	}
	h->ran += now.run - was.run;
	h->spent.run += now.run - was.run;
	h->spent.user += now.user - was.user;
	h->spent.system += now.system - was.system;
	h->spent.waited += now.waited - was.waited;
}

static __always_inline int is_dead(struct task_struct *t)
{
	const long dead = 0x80; /* TASK_DEAD, include/linux/sched.h */
	if (bpf_core_field_exists(t->__state))
		return t->__state & dead;
	struct task_struct___before_5_14 *old = (void *)t;
	return BPF_CORE_READ(old, state) & dead;
}

static __always_inline void tell_end(struct here *h, struct task_struct *t)
{
	struct ended *e = bpf_ringbuf_reserve(&ended_tasks, sizeof(*e), 0);
	if (!e) {
		h->lost += 1;
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
	e->cpu = bpf_get_smp_processor_id();
	e->unused = 0;
	bpf_probe_read_kernel(e->comm, sizeof(e->comm), t->comm);
	bpf_ringbuf_submit(e, BPF_RB_NO_WAKEUP);
}

static __always_inline void idle_until_now(struct here *h, _Bool over, _Bool begins)
{
	__u64 now = bpf_ktime_get_ns();
	if (over && h->idle_since)
		h->idle_task += now - h->idle_since;
	h->idle_since = begins ? now : 0;
}

SEC("tp_btf/sched_switch")
int BPF_PROG(on_switch, _Bool preempt, struct task_struct *prev, struct task_struct *next)
{
	struct here *h = this_cpu();
	if (!h)
		return 0;
	if (prev->pid == 0) {
		idle_until_now(h, 1, 0);
		return 0;
	}
	if (next->pid == 0)
		idle_until_now(h, 0, 1);
	charge(h, prev);
	if (is_dead(prev))
		tell_end(h, prev);
	return 0;
}

/* Never attached: run once on each CPU at a reading, for the task that is on it now. */
SEC("raw_tp")
int settle(void *ctx)
{
	struct here *h = this_cpu();
	if (!h)
		return 0;
	struct task_struct *t = bpf_get_current_task_btf();
	if (t->pid != 0)
		charge(h, t);
	else
		idle_until_now(h, 1, 1);
	put_down(h);
	return 0;
}
