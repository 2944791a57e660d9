//go:build ignore

/* CPU time by cgroup, user, family and CPU, counted at each switch from the scheduler's own clock of the task that
 * leaves, and a record of each task that has ended. Clock differences between switches are not used: they would count
 * stolen time.
 *
 * What a task ran goes to whom it belonged to when it was last seen. Where that changes, as it moves to another cgroup
 * or becomes another user's, what it ran until then is counted at once. */
#include "who.h"

char LICENSE[] SEC("license") = "GPL";

const volatile __u64 attached_ns;       /* tasks older than this have run before they were first seen */
const volatile __u64 tick_ns = 4000000; /* the scheduler's clock of a running task is at most this old */

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_HASH);
	__uint(max_entries, 16384);
	__type(key, struct who);
	__type(value, struct spent);
} by_who SEC(".maps");

/* What is counted on one CPU. Most switches are between tasks of one cgroup: what they spend is gathered here, and
 * put to by_who when another's turn comes, or at a reading; finding its place there is a fifth of what a switch
 * costs. The idle task is there from since: not all of it is idle, for interrupts come, and it has its own way in
 * and out. A switch that is missed makes that too short: it is left out from there. Only where the next one is
 * missed too is it too long, by what ran between. */
struct here {
	struct who who;
	struct spent spent;
	__u64 ran;                   /* nanoseconds that tasks ran */
	__u64 idle_task, idle_since; /* nanoseconds that the idle task was there */
	__u64 since, cred;           /* clock at the last switch, and credentials of the task that came */
	__u64 lost;                  /* ended tasks whose record found no room */
	__u64 unplaced;              /* nanoseconds that found no room in by_who */
};

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__uint(max_entries, 1);
	__type(key, __u32);
	__type(value, struct here);
} heres SEC(".maps");

/* What a task ran on one CPU that was counted on another, where the task was moved from: it is added from any CPU. */
struct place { struct who who; __u64 cpu; };

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__uint(max_entries, 1024);
	__type(key, struct place);
	__type(value, struct spent);
} elsewhere SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_ARRAY);
	__uint(max_entries, 1); /* as many as there are CPUs */
	__type(key, __u32);
	__type(value, __u64); /* nanoseconds of it that tasks ran there */
} ran_elsewhere SEC(".maps");

struct ended {
	struct who who;
	__u64 start, run, user, system, waited; /* start: boot clock. All in nanoseconds */
	__u64 read, written, cancelled;         /* bytes */
	__s32 pid, tgid, parent;
	__u32 cpu; /* that it was on last */
	char comm[16];
};

struct {
	__uint(type, BPF_MAP_TYPE_RINGBUF);
	__uint(max_entries, 1 << 21);
} ended_tasks SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__uint(max_entries, 16384);
	__type(key, __s32);   /* a process */
	__type(value, __u64); /* the family it is to be of from now on */
} adopted SEC(".maps");

enum { BEGINNING = -1 }; /* among those adopted: the tasks are looked through for the first time */

struct ended *unused_ended __attribute__((unused)); /* keeps the type in the object */
struct spent *unused_spent __attribute__((unused));
struct here *unused_here __attribute__((unused));
struct who *unused_who __attribute__((unused));
struct place *unused_place __attribute__((unused));

struct bpf_iter_task { __u64 opaque[3]; } __attribute__((aligned(8)));
extern int bpf_iter_task_new(struct bpf_iter_task *it, struct task_struct *task, unsigned int flags) __weak __ksym;
extern struct task_struct *bpf_iter_task_next(struct bpf_iter_task *it) __weak __ksym;
extern void bpf_iter_task_destroy(struct bpf_iter_task *it) __weak __ksym;
enum { EVERY_THREAD_OF = 1 }; /* BPF_TASK_ITER_PROC_THREADS */

static __always_inline struct here *this_cpu(void)
{
	__u32 zero = 0;
	return bpf_map_lookup_elem(&heres, &zero);
}

static __always_inline void put(struct here *h, struct who *who, struct spent *d)
{
	struct spent *s = bpf_map_lookup_elem(&by_who, who);
	if (!s) {
		if (!bpf_map_update_elem(&by_who, who, d, BPF_NOEXIST))
			return;
		s = bpf_map_lookup_elem(&by_who, who); /* another CPU made it meanwhile, or there is no room */
	}
	if (s) {
		s->run += d->run;
		s->user += d->user;
		s->system += d->system;
		s->waited += d->waited;
	} else {
		h->unplaced += d->run;
	}
}

static __always_inline void put_down(struct here *h)
{
	if (!h->who.v2)
		return;
	struct who key = h->who;
	struct spent d = h->spent;
	h->spent = (struct spent){};
	if (d.run | d.user | d.system | d.waited) /* else it may be gone, and its place with it */
		put(h, &key, &d);
}

/* What is not read at every switch is read through helpers: to follow a pointer of a type that it knows, the verifier
 * looks through all types of the kernel, which took most of the seconds that loading did. */
static __always_inline __u64 headed_by(struct task_struct *leader)
{
	return (__u64)BPF_CORE_READ(leader, tgid) << 42 | BPF_CORE_READ(leader, start_boottime) / 10000000;
}

/* Whether a task below another begins a family: below the first process and the kernel's threads, and where the user
 * is another. */
static __always_inline _Bool begins_below(struct task_struct *t, struct task_struct *parent)
{
	return BPF_CORE_READ(parent, tgid) <= 1 || BPF_CORE_READ(parent, flags) & PF_KTHREAD ||
	       BPF_CORE_READ(parent, cred, uid.val) != BPF_CORE_READ(t, cred, uid.val);
}

/* The family of a task that was there before it was counted. */
static __always_inline __u64 by_descent(struct task_struct *t)
{
	if (is_kernel(t))
		return KERNEL;
	t = BPF_CORE_READ(t, group_leader);
	for (int i = 0; i < 32; i++) {
		struct task_struct *parent = BPF_CORE_READ(t, real_parent, group_leader);
		if (begins_below(t, parent))
			break;
		t = parent;
	}
	return headed_by(t);
}

static __always_inline void look(struct last *l, struct task_struct *t)
{
	struct groups g = groups_of(t);
	__u32 uid = BPF_CORE_READ(t, cred, uid.val);
	l->set = (__u64)BPF_CORE_READ(t, cgroups);
	l->cred = (__u64)BPF_CORE_READ(t, cred);
	l->who.v2 = g.v2;
	l->who.cpuacct = g.cpuacct;
	if (l->who.uid != uid) {
		l->who.uid = uid;
		if (l->known && !is_kernel(t))
			l->who.family = headed_by(BPF_CORE_READ(t, group_leader));
	}
}

static __always_inline struct spent so_far(struct task_struct *t)
{
	return (struct spent){ t->se.sum_exec_runtime, t->utime, t->stime, t->sched_info.run_delay };
}

/* False for a task that has not been seen before and has run, which is known from here on. */
static __always_inline _Bool meet(struct last *l, struct task_struct *t)
{
	if (l->known)
		return 1;
	look(l, t);
	l->who.family = by_descent(t);
	l->known = 1;
	if (t->start_time >= attached_ns)
		return 1;
	l->at = so_far(t);
	return 0;
}

/* One of the task's own CPU and of whoever moves it takes what it ran, not both. */
static __always_inline _Bool claim(struct last *l, __u64 was, __u64 now)
{
	return __sync_val_compare_and_swap(&l->at.run, was, now) == was;
}

static __always_inline struct spent since(struct spent *at, struct spent *now, __u64 ran)
{
	struct spent d = { ran, now->user - at->user, now->system - at->system, now->waited - at->waited };
	at->user = now->user;
	at->system = now->system;
	at->waited = now->waited;
	return d;
}

static __always_inline void charge(struct here *h, struct task_struct *t, struct last *l)
{
	if (!meet(l, t))
		return;
	if (!l->at.run && l->cred != (__u64)t->cred)
		look(l, t); /* what becomes another user's right after its birth does so first of all */
	struct spent now = so_far(t);
	__u64 was = l->at.run;
	__s64 ran = now.run - was;
	if (ran >= 0 && claim(l, was, now.run)) { /* less where more was taken by the clock at a change */
		struct spent d = since(&l->at, &now, ran);
		if (l->who.v2 != h->who.v2 || l->who.cpuacct != h->who.cpuacct || l->who.family != h->who.family ||
		    l->who.uid != h->who.uid) {
			put_down(h);
			h->who = l->who;
		}
		h->ran += d.run;
		h->spent.run += d.run;
		h->spent.user += d.user;
		h->spent.system += d.system;
		h->spent.waited += d.waited;
	}
	if (l->set != (__u64)t->cgroups || l->cred != (__u64)t->cred)
		look(l, t);
}

static __always_inline __u32 cpu_of(struct task_struct *t)
{
	if (bpf_core_field_exists(t->thread_info.cpu))
		return t->thread_info.cpu;
	struct task_struct___before_5_16 *old = (void *)t;
	return BPF_CORE_READ(old, cpu);
}

/* Puts what a task ran on its CPU, called from any. */
static __always_inline void put_from_afar(struct here *h, __u32 cpu, struct who *who, struct spent *d)
{
	if (cpu != bpf_get_smp_processor_id()) {
		struct place key = { *who, cpu };
		struct spent none = {}, *s = bpf_map_lookup_elem(&elsewhere, &key);
		if (!s) {
			bpf_map_update_elem(&elsewhere, &key, &none, BPF_NOEXIST);
			s = bpf_map_lookup_elem(&elsewhere, &key);
		}
		__u64 *ran = bpf_map_lookup_elem(&ran_elsewhere, &cpu);
		if (s && ran) {
			__sync_fetch_and_add(ran, d->run);
			__sync_fetch_and_add(&s->run, d->run);
			__sync_fetch_and_add(&s->user, d->user);
			__sync_fetch_and_add(&s->system, d->system);
			__sync_fetch_and_add(&s->waited, d->waited);
			return;
		}
	}
	h->ran += d->run;
	put(h, who, d);
}

static __always_inline __u64 last_switch_on(__u32 cpu)
{
	__u32 zero = 0;
	if (!bpf_core_enum_value_exists(enum bpf_func_id, BPF_FUNC_map_lookup_percpu_elem)) /* before Linux 5.19 */
		return 0;
	struct here *h = bpf_map_lookup_percpu_elem(&heres, &zero, cpu);
	return h ? h->since : 0;
}

/* Counts what a task ran until now for whom it belonged to, and from now on for whom it belongs to. Of a task that is
 * on a CPU the scheduler's clock is up to a tick old: what it ran since the last switch is taken by the clock there,
 * within one tick, for a switch may be missed, and time stolen. What is taken too much is less at its next switch. */
static __always_inline void changed(struct here *h, struct task_struct *t, struct last *l, __u64 family)
{
	struct spent now = so_far(t);
	__u64 was = l->at.run, run = now.run;
	__u32 cpu = cpu_of(t);
	if (t->on_cpu) {
		__u64 begun = last_switch_on(cpu);
		if (begun) {
			run = was + (bpf_ktime_get_ns() - begun);
			if (run < now.run)
				run = now.run;
			if (run > now.run + tick_ns)
				run = now.run + tick_ns;
		}
	}
	__s64 ran = run - was;
	if (ran > 0 && claim(l, was, run)) {
		struct spent d = since(&l->at, &now, ran);
		struct who who = l->who;
		put_from_afar(h, cpu, &who, &d);
	}
	look(l, t);
	if (family)
		l->who.family = family;
}

static __always_inline _Bool is_dead(struct task_struct *t)
{
	const long dead = 0x80; /* TASK_DEAD, include/linux/sched.h */
	if (bpf_core_field_exists(t->__state))
		return t->__state & dead;
	struct task_struct___before_5_14 *old = (void *)t;
	return BPF_CORE_READ(old, state) & dead;
}

static __always_inline void tell_end(struct here *h, struct task_struct *t, struct last *l)
{
	struct ended *e = bpf_ringbuf_reserve(&ended_tasks, sizeof(*e), 0);
	if (!e) {
		h->lost += 1;
		return;
	}
	e->who = l->who;
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
	e->cpu = bpf_get_smp_processor_id();
	bpf_probe_read_kernel(e->comm, sizeof(e->comm), t->comm);
	bpf_ringbuf_submit(e, BPF_RB_NO_WAKEUP);
}

static __always_inline void idle_until_now(struct here *h, __u64 now, _Bool over, _Bool begins)
{
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
	__u64 now = bpf_ktime_get_ns();
	h->since = now;
	h->cred = (__u64)next->cred;
	if (prev->pid == 0) {
		idle_until_now(h, now, 1, 0);
		return 0;
	}
	if (next->pid == 0)
		idle_until_now(h, now, 0, 1);
	struct last *l = bpf_task_storage_get(&lasts, prev, 0, BPF_LOCAL_STORAGE_GET_F_CREATE);
	if (!l)
		return 0;
	charge(h, prev, l);
	if (is_dead(prev))
		tell_end(h, prev, l);
	return 0;
}

/* In the midst of a fork, and of the making of the kernel's workers for a process: a child has the family of who made
 * it, but for those of the first process and of the kernel, which begin their own. */
SEC("tp_btf/task_newtask")
int BPF_PROG(on_birth, struct task_struct *child)
{
	struct task_struct *maker = bpf_get_current_task_btf();
	struct last *of = bpf_task_storage_get(&lasts, maker, 0, BPF_LOCAL_STORAGE_GET_F_CREATE);
	struct last *l = bpf_task_storage_get(&lasts, child, 0, BPF_LOCAL_STORAGE_GET_F_CREATE);
	if (!of || !l)
		return 0;
	meet(of, maker);
	look(l, child);
	if (is_kernel(child))
		l->who.family = KERNEL;
	else if (child->tgid != maker->tgid && (maker->tgid <= 1 || is_kernel(maker)))
		l->who.family = headed_by(child);
	else
		l->who.family = of->who.family;
	l->known = 1;
	return 0;
}

static __always_inline void moved(struct here *h, struct task_struct *t)
{
	struct last *l = bpf_task_storage_get(&lasts, t, 0, 0);
	if (!l || !l->known)
		return;
	struct groups g = groups_of(t);
	if (g.v2 != l->who.v2 || g.cpuacct != l->who.cpuacct)
		changed(h, t, l, 0);
}

/* After a move; once, for the leader, also where the whole process moves. */
SEC("tp_btf/cgroup_attach_task")
int BPF_PROG(on_move, struct cgroup *to, const char *path, struct task_struct *task, _Bool process)
{
	struct here *h = this_cpu();
	if (!h)
		return 0;
	if (!process || !bpf_iter_task_new) { /* before Linux 6.7 threads are counted anew at their next switch */
		moved(h, task);
		return 0;
	}
	struct bpf_iter_task it;
	struct task_struct *t;
	bpf_iter_task_new(&it, task, EVERY_THREAD_OF);
	while ((t = bpf_iter_task_next(&it)))
		moved(h, t);
	bpf_iter_task_destroy(&it);
	return 0;
}

/* Where the user of the task that runs here has changed since it was last looked at. */
static __always_inline void notice(struct here *h, struct task_struct *t)
{
	struct last *l = bpf_task_storage_get(&lasts, t, 0, 0);
	h->cred = (__u64)t->cred;
	if (l && l->known && t->cred->uid.val != l->who.uid)
		changed(h, t, l, 0);
}

SEC("tp_btf/sched_process_exec")
int BPF_PROG(on_program, struct task_struct *t)
{
	struct here *h = this_cpu();
	if (h)
		notice(h, t);
	return 0;
}

/* After each tick and other timer: so a task that goes on after it became another user's is noticed within a tick.
 * To see every system call that changes the user would cost every system call of the host 60 ns. */
SEC("tp_btf/hrtimer_expire_exit")
int BPF_PROG(on_tick)
{
	struct here *h = this_cpu();
	struct task_struct *t = bpf_get_current_task_btf();
	if (h && t->pid != 0 && (__u64)t->cred != h->cred)
		notice(h, t);
	return 0;
}

struct bpf_iter__task { struct task_struct *task; } __attribute__((preserve_access_index));

/* Read once at the beginning, so that each task there is has its family before any of its parents ends; and where
 * processes were adopted into another family. */
SEC("iter/task")
int on_review(struct bpf_iter__task *ctx)
{
	struct task_struct *t = ctx->task;
	struct here *h = this_cpu();
	if (!t || !h)
		return 0;
	struct last *l = bpf_task_storage_get(&lasts, t, 0, BPF_LOCAL_STORAGE_GET_F_CREATE);
	if (!l)
		return 0;
	__s32 tgid = t->tgid, beginning = BEGINNING;
	if (!l->known && bpf_map_lookup_elem(&adopted, &beginning)) {
		/* It was born while the programs were loaded, or before: what it ran until now was never counted. */
		meet(l, t);
		l->at = so_far(t);
		return 0;
	}
	if (!meet(l, t))
		return 0;
	__u64 *family = bpf_map_lookup_elem(&adopted, &tgid);
	if (family && *family != l->who.family)
		changed(h, t, l, *family);
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
	if (t->pid == 0) {
		idle_until_now(h, bpf_ktime_get_ns(), 1, 1);
	} else {
		struct last *l = bpf_task_storage_get(&lasts, t, 0, BPF_LOCAL_STORAGE_GET_F_CREATE);
		if (l)
			charge(h, t, l);
	}
	put_down(h);
	return 0;
}
