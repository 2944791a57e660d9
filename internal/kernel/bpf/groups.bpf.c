//go:build ignore

/* A record of each cgroup that is made: one may be made, used and removed between two readings of the tree. */
#include "types.h"

char LICENSE[] SEC("license") = "GPL";

struct made { __u64 id, parent; __u32 hierarchy, unused; char name[256]; }; /* hierarchy: 0 is version 2 */

struct {
	__uint(type, BPF_MAP_TYPE_RINGBUF);
	__uint(max_entries, 1 << 20);
} made_groups SEC(".maps");

__u64 lost; /* records that found no room */

struct made *unused_made __attribute__((unused));

SEC("tp_btf/cgroup_mkdir")
int BPF_PROG(on_making, struct cgroup *group, const char *path)
{
	struct made *m = bpf_ringbuf_reserve(&made_groups, sizeof(*m), 0);
	if (!m) {
		__sync_fetch_and_add(&lost, 1);
		return 0;
	}
	m->id = group->kn->id;
	m->parent = group->self.parent ? group->self.parent->cgroup->kn->id : 0;
	m->hierarchy = group->root->hierarchy_id;
	m->unused = 0;
	if (bpf_probe_read_kernel_str(m->name, sizeof(m->name), group->kn->name) < 0)
		m->name[0] = 0;
	bpf_ringbuf_submit(m, BPF_RB_NO_WAKEUP);
	return 0;
}
