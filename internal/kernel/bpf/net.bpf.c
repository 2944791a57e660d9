//go:build ignore

/* Bytes and packets by cgroup, interface and direction, at IP level. Programs see what is sent before it is cut
 * into packets of the interface's size, and what came after packets were joined: what is seen as one is counted as
 * the packets it is on the wire, each with headers of its own. Without that a stream in packets of 1500 bytes
 * would miss 3.6 % of its bytes. */
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

/* What is cut off, and cut into: bytes of the headers that each packet has, and of those that none has any more. */
struct cut { __u32 each, gone; };

/* Where a packet that starts with its IP header is cut (RFC 791, RFC 8200, RFC 9293, RFC 768). IPv6 has no length
 * for what is longer than 64 kB: until it is cut it has a hop-by-hop header of 8 bytes that says so (RFC 2675). */
static __always_inline struct cut headers(struct __sk_buff *skb)
{
	struct cut none = {}, c = {};
	__u8 first, protocol, offset;
	if (bpf_skb_load_bytes(skb, 0, &first, 1))
		return none;
	if (first >> 4 == 4) {
		c.each = (first & 15) * 4;
		if (bpf_skb_load_bytes(skb, 9, &protocol, 1))
			return none;
	} else {
		__u16 length;
		c.each = 40;
		if (bpf_skb_load_bytes(skb, 4, &length, 2) || bpf_skb_load_bytes(skb, 6, &protocol, 1))
			return none;
		if (protocol == 0 && length == 0) {
			c.gone = 8;
			if (bpf_skb_load_bytes(skb, 40, &protocol, 1))
				return none;
		}
	}
	if (protocol == 17)
		c.each += 8;
	else if (protocol == 6 && !bpf_skb_load_bytes(skb, c.each + c.gone + 12, &offset, 1))
		c.each += (offset >> 4) * 4;
	else
		return none;
	return c;
}

static __always_inline int add(struct __sk_buff *skb, __u32 sent)
{
	struct flow key = { .group = bpf_skb_cgroup_id(skb), .interface = skb->ifindex, .sent = sent };
	struct moved *m = bpf_map_lookup_elem(&flows, &key);
	struct moved now = { skb->len, 1 };
	if (skb->gso_segs > 1) {
		now.packets = skb->gso_segs;
		struct cut c = headers(skb);
		now.bytes += (now.packets - 1) * c.each - c.gone;
	}
	if (m) {
		m->bytes += now.bytes;
		m->packets += now.packets;
	} else {
		bpf_map_update_elem(&flows, &key, &now, BPF_NOEXIST);
	}
	return 1; /* let it pass */
}

SEC("cgroup_skb/ingress")
int received(struct __sk_buff *skb) { return add(skb, 0); }

SEC("cgroup_skb/egress")
int sent(struct __sk_buff *skb) { return add(skb, 1); }
