/* The few kernel types the programs read, by name: the loader finds where each member is in the running kernel
 * (CO-RE). */
#ifndef VINESCALE_TYPES_H
#define VINESCALE_TYPES_H

#include <linux/types.h>
#include <linux/bpf.h>
#include <bpf/bpf_helpers.h>
#include <bpf/bpf_tracing.h>
#include <bpf/bpf_core_read.h>

#pragma clang attribute push(__attribute__((preserve_access_index)), apply_to = record)

struct kernfs_node { __u64 id; const char *name; };
struct cgroup_root { int hierarchy_id; };
struct cgroup;
struct cgroup_subsys_state { struct cgroup *cgroup; struct cgroup_subsys_state *parent; };
struct cgroup { struct cgroup_subsys_state self; struct kernfs_node *kn; struct cgroup_root *root; };
enum cgroup_subsys_id { cpuacct_cgrp_id = 99, io_cgrp_id = 98 };
struct css_set { struct cgroup_subsys_state *subsys[14]; struct cgroup *dfl_cgrp; };

struct sched_entity { __u64 sum_exec_runtime; };
struct sched_info { unsigned long long run_delay; };
struct task_io_accounting { __u64 read_bytes, write_bytes, cancelled_write_bytes; };
struct signal_struct {
	int nr_threads;
	__u64 utime, stime;
	unsigned long long sum_sched_runtime;
	struct task_io_accounting ioac;
};
typedef struct { __u32 val; } kuid_t;
struct cred { kuid_t uid; };
struct percpu_counter { __s64 count; __s32 *counters; };
struct mm_struct { struct percpu_counter rss_stat[4]; };
struct ns_common { unsigned int inum; };
struct net { struct ns_common ns; };
struct nsproxy { struct net *net_ns; };
struct thread_info { __u32 cpu; };
struct cpumask { unsigned long bits[1]; };

struct task_struct {
	struct thread_info thread_info;
	unsigned int __state;
	unsigned int flags;
	int exit_state;
	int pid, tgid;
	int on_cpu;
	int nr_cpus_allowed;
	const struct cpumask *cpus_ptr;
	__u64 utime, stime;
	__u64 start_time, start_boottime;
	struct sched_entity se;
	struct sched_info sched_info;
	struct task_io_accounting ioac;
	struct css_set *cgroups;
	struct task_struct *real_parent, *group_leader;
	struct signal_struct *signal;
	const struct cred *cred;
	struct mm_struct *mm;
	struct nsproxy *nsproxy;
	char comm[16];
};
struct task_struct___before_5_14 { volatile long state; };
struct task_struct___before_5_16 { unsigned int cpu; };

struct bpf_array { void *pptrs[1]; };

struct sock_common { unsigned short skc_family; };
struct sock { struct sock_common __sk_common; };
struct net_device { unsigned int mtu; };
struct sk_buff { struct net_device *dev; };

struct request_queue { void *disk; };
struct blkcg { struct cgroup_subsys_state css; };
struct blkcg_gq { struct blkcg *blkcg; };
struct block_device_operations { void *submit_bio; };
struct gendisk { int major, first_minor; char disk_name[32]; const struct block_device_operations *fops; };
struct block_device { struct gendisk *bd_disk; __u32 bd_dev; };
struct page { unsigned long compound_head; };
struct inode { unsigned short i_mode; };
struct address_space { struct inode *host; };
struct folio { struct address_space *mapping; };
struct bvec_iter { __u64 bi_sector; unsigned int bi_size, bi_idx, bi_bvec_done; };
struct bio {
	struct bio *bi_next;
	__u32 bi_opf;
	struct blkcg_gq *bi_blkg;
	struct block_device *bi_bdev;
	struct bvec_iter bi_iter;
	struct bio_vec *bi_io_vec;
};
struct request { __u32 cmd_flags; unsigned int __data_len; __u64 __sector; struct bio *bio; };

#pragma clang attribute pop

struct bio_vec { struct page *bv_page; unsigned int bv_len, bv_offset; }; /* as it is in every kernel */

/* The cgroup of a task in the version 2 hierarchy, and in that of the cpuacct controller, as kernfs numbers them: the
 * inode of the directory. Without that controller, or with it in version 2, both are the same. */
struct groups { __u64 v2, cpuacct; };

static __always_inline struct groups groups_of(struct task_struct *t)
{
	struct css_set *set = BPF_CORE_READ(t, cgroups);
	struct groups g = { .v2 = BPF_CORE_READ(set, dfl_cgrp, kn, id) };
	g.cpuacct = g.v2;
	if (bpf_core_enum_value_exists(enum cgroup_subsys_id, cpuacct_cgrp_id)) {
		struct cgroup_subsys_state *css =
			BPF_CORE_READ(set, subsys[bpf_core_enum_value(enum cgroup_subsys_id, cpuacct_cgrp_id)]);
		if (css)
			g.cpuacct = BPF_CORE_READ(css, cgroup, kn, id);
	}
	return g;
}

#endif
