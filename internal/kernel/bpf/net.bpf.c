//go:build ignore

/* Bytes and packets by the cgroup of who uses the socket, interface and direction, at IP level. Programs see what is
 * sent before it is cut into packets of the interface's size, and what came after packets were joined: what is seen as
 * one is counted as the packets it is on the wire, each with headers of its own. Without that a stream in packets of
 * 1500 bytes would miss 3.6 % of its bytes. */
#include "types.h"
#include <bpf/bpf_endian.h>

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

/* What passed a socket after its last use, and as whose it was counted. */
struct passed { struct flow as; struct moved since; };

/* Who used a socket last: a socket knows in which cgroup it was made alone, and may have been handed on since. What
 * passes is added to the one of two, in each direction, that now tells; the other keeps what was counted as another's:
 * so whoever takes it knows as whose, while more comes on another CPU. */
struct use { __u64 group; __u32 now[2]; struct passed passed[2][2]; };

struct {
	__uint(type, BPF_MAP_TYPE_SK_STORAGE);
	__uint(map_flags, BPF_F_NO_PREALLOC);
	__type(key, int);
	__type(value, struct use);
} uses SEC(".maps");

/* Addresses of this host in all its network namespaces, IPv4 as mapped into IPv6 (RFC 4291): what goes to them, or
 * comes from them, stays on this host, whichever interfaces it passes. */
struct address { __u32 part[4]; };
struct address *unused_address __attribute__((unused));

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__uint(max_entries, 16384);
	__type(key, struct address);
	__type(value, __u8);
} here SEC(".maps");

enum { LOOPBACK = 1 }; /* its index, in every namespace */

extern void *bpf_cast_to_kern_ctx(void *) __weak __ksym;

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

/* Fragments that a packet longer than the interface takes is on the wire (RFC 791, RFC 8200): programs see it before it
 * is cut, and after it was joined. */
static __always_inline void as_fragments(struct __sk_buff *skb, struct moved *now)
{
	if (!bpf_cast_to_kern_ctx)
		return; /* before Linux 6.2 the interface is not told */
	struct sk_buff *whole = bpf_cast_to_kern_ctx(skb);
	struct net_device *device = whole->dev;
	if (!device)
		return;
	__u32 mtu = device->mtu, header = 40, more = 8; /* IPv6 has another header of 8 bytes in each */
	__u8 first;
	if (now->bytes <= mtu || mtu < 576 || bpf_skb_load_bytes(skb, 0, &first, 1))
		return;
	if (first >> 4 == 4) {
		header = (first & 15) * 4;
		more = 0;
	}
	__u64 room = (mtu - header - more) & ~7u;
	if (!room)
		return;
	now->packets = (now->bytes - header + room - 1) / room;
	now->bytes += (now->packets - 1) * header + now->packets * more;
}

/* Adds to a flow. Another CPU may make it meanwhile; and what comes in may interrupt a claim on the same CPU. */
static __always_inline void put(struct flow *key, struct moved *now)
{
	struct moved none = {}, *m = bpf_map_lookup_elem(&flows, key);
	if (!m) {
		bpf_map_update_elem(&flows, key, &none, BPF_NOEXIST);
		m = bpf_map_lookup_elem(&flows, key);
	}
	if (m) {
		__sync_fetch_and_add(&m->bytes, now->bytes);
		__sync_fetch_and_add(&m->packets, now->packets);
	}
}

/* What was moved since the last use, once: whoever takes it first has it. */
static __always_inline struct moved taken(struct passed *p)
{
	struct moved now = {};
	if (p->since.bytes) {
		now.bytes = __sync_lock_test_and_set(&p->since.bytes, 0);
		now.packets = __sync_lock_test_and_set(&p->since.packets, 0);
	}
	return now;
}

/* What was moved since the last use is the user's, where it was counted as another's. */
static __always_inline void claim(struct passed *p, __u64 group)
{
	struct flow key = p->as;
	struct moved now = taken(p), less = { -now.bytes, -now.packets };
	if (!now.bytes || !group || key.group == group)
		return;
	put(&key, &less);
	key.group = group;
	put(&key, &now);
}

static __always_inline _Bool is_as(struct passed *p, struct flow *key)
{
	return p->as.group == key->group && p->as.interface == key->interface;
}

static __always_inline _Bool stays_here(struct __sk_buff *skb, __u32 sent)
{
	struct address peer = {};
	__u8 first;
	if (bpf_skb_load_bytes(skb, 0, &first, 1))
		return 0;
	if (first >> 4 == 4) {
		peer.part[2] = bpf_htonl(0xffff);
		if (bpf_skb_load_bytes(skb, sent ? 16 : 12, &peer.part[3], 4))
			return 0;
	} else if (bpf_skb_load_bytes(skb, sent ? 24 : 8, &peer, 16)) {
		return 0;
	}
	return bpf_map_lookup_elem(&here, &peer) != 0;
}

static __always_inline int add(struct __sk_buff *skb, __u32 sent)
{
	struct flow key = { .group = bpf_skb_cgroup_id(skb), .interface = skb->ifindex, .sent = sent };
	if (key.interface != LOOPBACK && stays_here(skb, sent))
		key.interface = LOOPBACK;
	struct moved now = { skb->len, 1 };
	if (skb->gso_segs > 1) {
		now.packets = skb->gso_segs;
		struct cut c = headers(skb);
		now.bytes += (now.packets - 1) * c.each - c.gone;
	} else {
		as_fragments(skb, &now);
	}
	struct bpf_sock *sk = skb->sk;
	sk = sk ? bpf_sk_fullsock(sk) : 0;
	struct use *u = sk ? bpf_sk_storage_get(&uses, sk, 0, BPF_SK_STORAGE_GET_F_CREATE) : 0;
	__u64 group = u ? u->group : 0;
	if (group)
		key.group = group;
	put(&key, &now);
	if (!u)
		return 1; /* let it pass */
	__u32 way = sent & 1, turn = u->now[way] & 1;
	struct passed *p = &u->passed[way][turn];
	if (!is_as(p, &key)) {
		turn ^= 1;
		p = &u->passed[way][turn];
		if (!is_as(p, &key)) {
			claim(p, group);
			p->as = key;
		}
		u->now[way] = turn;
	}
	__sync_fetch_and_add(&p->since.bytes, now.bytes);
	__sync_fetch_and_add(&p->since.packets, now.packets);
	if (!group && u->group)
		claim(p, u->group); /* its first use came meanwhile, and may have missed this */
	return 1; /* let it pass */
}

static __always_inline int used(struct sock *sk)
{
	struct task_struct *t = bpf_get_current_task_btf();
	__u16 family = sk->__sk_common.skc_family;
	if ((family != 2 && family != 10) || t->flags & 0x00200000) /* AF_INET, AF_INET6; PF_KTHREAD */
		return 0;
	struct use *u = bpf_sk_storage_get(&uses, sk, 0, BPF_SK_STORAGE_GET_F_CREATE);
	if (!u)
		return 0;
	__u64 group = t->cgroups->dfl_cgrp->kn->id;
	__u64 before = u->group;
	u->group = group; /* before anything is taken, so that what is counted meanwhile sees it */
	for (int turn = 0; turn < 2; turn++) {
		claim(&u->passed[0][turn], group);
		if (before && before != group)
			taken(&u->passed[1][turn]); /* the one before has sent it, and it left late */
		else
			claim(&u->passed[1][turn], group);
	}
	return 0;
}

SEC("tp_btf/sock_send_length")
int BPF_PROG(on_send, struct sock *sk, int result, int flags) { return result > 0 ? used(sk) : 0; }

SEC("tp_btf/sock_recv_length")
int BPF_PROG(on_receive, struct sock *sk, int result, int flags)
{
	return result > 0 && !(flags & 2) ? used(sk) : 0; /* not MSG_PEEK */
}

/* What is spliced from a socket passes neither. */
SEC("tp_btf/tcp_rcv_space_adjust")
int BPF_PROG(on_taken, struct sock *sk) { return used(sk); }

SEC("cgroup_skb/ingress")
int received(struct __sk_buff *skb) { return add(skb, 0); }

SEC("cgroup_skb/egress")
int sent(struct __sk_buff *skb) { return add(skb, 1); }
