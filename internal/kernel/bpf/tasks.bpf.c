//go:build ignore

/* All tasks in one reading, instead of four files of /proc for each process. */
#include "who.h"

char LICENSE[] SEC("license") = "GPL";

struct bpf_iter_meta { struct seq_file *seq; } __attribute__((preserve_access_index));
struct bpf_iter__task {
	struct bpf_iter_meta *meta;
	struct task_struct *task;
} __attribute__((preserve_access_index));

struct task {
	struct groups groups;
	__u64 family;                          /* with the leader only; 0 where it is not told */
	__u64 start;                           /* boot clock, nanoseconds */
	__u64 mask;                            /* a number that differs where the CPUs it may run on do */
	__u64 run, user, system, waited;       /* nanoseconds */
	__u64 read, written, cancelled;        /* bytes */
	__u64 gone_run, gone_user, gone_system; /* of threads of its process that ended; with the leader only */
	__u64 gone_read, gone_written, gone_cancelled;
	__s64 anon_pages, swap_pages; /* with the leader only; -1 where the kernel keeps them in another way */
	__s32 pid, tgid, parent;
	__u32 uid, cpu, state, flags, net, threads;
	char comm[16];
};
struct task *unused_task __attribute__((unused));
struct groups *unused_groups __attribute__((unused));

/* A counter of pages has a part on every CPU, of up to some hundred kB, which small processes consist of. Where a CPU's
 * parts are is not told: it is found from a map of our own, as the address of its element on that CPU less the pointer
 * that the map itself holds. */
const volatile __u32 cpus; /* whose parts are added; 0 where there are so many that it would take too long */
#define MOST_CPUS 64
__u64 offsets[MOST_CPUS];

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__uint(max_entries, 1);
	__type(key, __u32);
	__type(value, __u64);
} probe SEC(".maps");

/* Never attached: run once. */
SEC("raw_tp")
int learn(void *ctx)
{
	__u32 zero = 0;
	if (!bpf_core_enum_value_exists(enum bpf_func_id, BPF_FUNC_map_lookup_percpu_elem)) /* before Linux 5.19 */
		return 0;
	__u64 map = 0, pointer = 0;
	void *volatile at = &probe; /* the verifier forbids arithmetic on it: it is read back as a number */
	bpf_probe_read_kernel(&map, sizeof(map), (void *)&at);
	__u64 within = bpf_core_field_offset(struct bpf_array, pptrs);
	if (bpf_probe_read_kernel(&pointer, sizeof(pointer), (void *)(map + within)))
		return 1;
	for (__u32 c = 0; c < MOST_CPUS && c < cpus; c++) {
		void *volatile element = bpf_map_lookup_percpu_elem(&probe, &zero, c);
		__u64 address = 0;
		bpf_probe_read_kernel(&address, sizeof(address), (void *)&element);
		if (address)
			offsets[c & (MOST_CPUS - 1)] = address - pointer;
	}
	return 0;
}

static __always_inline __s64 sum_of(struct percpu_counter *counter)
{
	__s64 sum = counter->count;
	__u64 parts = (__u64)counter->counters;
	for (__u32 c = 0; c < MOST_CPUS && c < cpus; c++) {
		__s32 part = 0;
		__u64 offset = offsets[c & (MOST_CPUS - 1)];
		if (offset && !bpf_probe_read_kernel(&part, sizeof(part), (void *)(parts + offset)))
			sum += part;
	}
	return sum;
}

/* How many words of a set of CPUs may have members. */
const volatile __u32 mask_words;
#define MOST_MASK_WORDS 16

/* The members of a set of CPUs of up to 64; of a larger one its words mixed, by the steps of FNV-1a. */
static __always_inline __u64 mask_of(struct task_struct *t)
{
	if (!bpf_core_field_exists(t->cpus_ptr)) /* before Linux 5.3 */
		return t->nr_cpus_allowed;
	__u64 first = (__u64)&t->cpus_ptr->bits[0], mask = 0;
	for (__u32 w = 0; w < MOST_MASK_WORDS && w < mask_words; w++) {
		__u64 word = 0;
		bpf_probe_read_kernel(&word, sizeof(word), (void *)(first + w * sizeof(word)));
		mask = mask * 0x100000001b3 ^ word;
	}
	return mask;
}

SEC("iter/task")
int all_tasks(struct bpf_iter__task *ctx)
{
	struct task_struct *t = ctx->task;
	if (!t)
		return 0;
	struct task r = { .anon_pages = -1, .swap_pages = -1 };
	r.groups = groups_of(t);
	r.start = t->start_boottime;
	r.mask = mask_of(t);
	r.run = t->se.sum_exec_runtime;
	r.user = t->utime;
	r.system = t->stime;
	r.waited = t->sched_info.run_delay;
	r.read = t->ioac.read_bytes;
	r.written = t->ioac.write_bytes;
	r.cancelled = t->ioac.cancelled_write_bytes;
	r.pid = t->pid;
	r.tgid = t->tgid;
	r.cpu = t->thread_info.cpu;
	r.state = bpf_core_field_exists(t->__state) ? t->__state : 0;
	r.flags = t->flags;
	if (t->pid == t->tgid) {
		struct signal_struct *s = t->signal;
		r.gone_run = s->sum_sched_runtime;
		r.gone_user = s->utime;
		r.gone_system = s->stime;
		r.gone_read = s->ioac.read_bytes;
		r.gone_written = s->ioac.write_bytes;
		r.gone_cancelled = s->ioac.cancelled_write_bytes;
		r.threads = s->nr_threads;
		r.parent = t->real_parent->tgid;
		r.uid = t->cred->uid.val;
		struct last *l = bpf_task_storage_get(&lasts, t, 0, 0);
		if (l)
			r.family = l->who.family;
		if (t->nsproxy)
			r.net = t->nsproxy->net_ns->ns.inum;
		if (t->mm && bpf_core_field_exists(t->mm->rss_stat[1].count)) {
			r.anon_pages = sum_of(&t->mm->rss_stat[1]); /* MM_ANONPAGES */
			r.swap_pages = sum_of(&t->mm->rss_stat[2]); /* MM_SWAPENTS */
		}
	}
	bpf_probe_read_kernel(r.comm, sizeof(r.comm), t->comm);
	bpf_seq_write(ctx->meta->seq, &r, sizeof(r));
	return 0;
}
