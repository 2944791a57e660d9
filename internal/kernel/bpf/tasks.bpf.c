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
	__u64 run, user, system, waited;       /* nanoseconds */
	__u64 read, written, cancelled;        /* bytes */
	__u64 gone_run, gone_user, gone_system; /* of threads of its process that ended; with the leader only */
	__u64 gone_read, gone_written, gone_cancelled;
	__s64 anon_pages, swap_pages; /* with the leader only; -1 where the kernel keeps them in another way */
	__s32 pid, tgid, parent;
	__u32 uid, cpu, state, flags, net, threads, cpus_allowed;
	char comm[16];
};
struct task *unused_task __attribute__((unused));
struct groups *unused_groups __attribute__((unused));

SEC("iter/task")
int all_tasks(struct bpf_iter__task *ctx)
{
	struct task_struct *t = ctx->task;
	if (!t)
		return 0;
	struct task r = { .anon_pages = -1, .swap_pages = -1 };
	r.groups = groups_of(t);
	r.start = t->start_boottime;
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
		r.cpus_allowed = t->nr_cpus_allowed;
		if (t->nsproxy)
			r.net = t->nsproxy->net_ns->ns.inum;
		if (t->mm && bpf_core_field_exists(t->mm->rss_stat[1].count)) {
			r.anon_pages = t->mm->rss_stat[1].count; /* MM_ANONPAGES */
			r.swap_pages = t->mm->rss_stat[2].count; /* MM_SWAPENTS */
		}
	}
	bpf_probe_read_kernel(r.comm, sizeof(r.comm), t->comm);
	bpf_seq_write(ctx->meta->seq, &r, sizeof(r));
	return 0;
}
