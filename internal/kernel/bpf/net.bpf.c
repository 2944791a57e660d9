//go:build ignore

/* Bytes and packets by cgroup, interface and direction, at IP level: what is sent is seen before it is cut into frames. */
#include "types.h"

char LICENSE[] SEC("license") = "GPL";

struct flow { __u64 group; __u32 interface, sent; };
struct moved { __u64 bytes, packets; };
struct flow *unused_flow __attribute__((unused));
struct moved *unused_moved __attribute__((unused));

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_HASH);
	__uint(max_entries, 16384);
	__type(key, struct flow);
	__type(value, struct moved);
} flows SEC(".maps");

static __always_inline int add(struct __sk_buff *skb, __u32 sent)
{
	struct flow key = { .group = bpf_skb_cgroup_id(skb), .interface = skb->ifindex, .sent = sent };
	struct moved *m = bpf_map_lookup_elem(&flows, &key);
	if (m) {
		m->bytes += skb->len;
		m->packets++;
	} else {
		struct moved first = { skb->len, 1 };
		bpf_map_update_elem(&flows, &key, &first, BPF_NOEXIST);
	}
	return 1; /* let it pass */
}

SEC("cgroup_skb/ingress")
int received(struct __sk_buff *skb) { return add(skb, 0); }

SEC("cgroup_skb/egress")
int sent(struct __sk_buff *skb) { return add(skb, 1); }
