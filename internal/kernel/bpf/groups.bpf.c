//go:build ignore

/* Whether the cgroup trees have changed, so that they need not be walked when they have not. */
#include "types.h"

char LICENSE[] SEC("license") = "GPL";

struct {
	__uint(type, BPF_MAP_TYPE_ARRAY);
	__uint(max_entries, 1);
	__type(key, __u32);
	__type(value, __u64);
} changes SEC(".maps");

static __always_inline int changed(void)
{
	__u32 zero = 0;
	__u64 *n = bpf_map_lookup_elem(&changes, &zero);
	if (n)
		__sync_fetch_and_add(n, 1);
	return 0;
}

SEC("tp_btf/cgroup_mkdir")
int BPF_PROG(on_mkdir, struct cgroup *cgrp, const char *path) { return changed(); }

SEC("tp_btf/cgroup_rmdir")
int BPF_PROG(on_rmdir, struct cgroup *cgrp, const char *path) { return changed(); }

SEC("tp_btf/cgroup_rename")
int BPF_PROG(on_rename, struct cgroup *cgrp, const char *path) { return changed(); }
