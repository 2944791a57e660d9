//go:build ignore

/* Block I/O by the cgroup it is issued for, device and kind, with how long the device took and a histogram of it. */
#include "types.h"

char LICENSE[] SEC("license") = "GPL";

enum { READ, WRITE, DISCARD }; /* kinds of operations; what is neither read nor discarded is written, as in diskstats */

struct transfer { __u64 group; __u32 device, part, kind, unused; }; /* device and part: major << 20 | minor */
struct done { __u64 bytes, operations, nanoseconds; };
struct transfer *unused_transfer __attribute__((unused));
struct done *unused_done __attribute__((unused));

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_HASH);
	__uint(max_entries, 16384);
	__type(key, struct transfer);
	__type(value, struct done);
} transfers SEC(".maps");

struct slot { __u32 device; __u16 kind, bucket; };
struct slot *unused_slot __attribute__((unused));

struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_HASH);
	__uint(max_entries, 16384);
	__type(key, struct slot);
	__type(value, __u64);
} latencies SEC(".maps");

struct waiting { struct transfer what; __u64 since; };

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__uint(max_entries, 16384);
	__type(key, __u64); /* the request's address */
	__type(value, struct waiting);
} in_flight SEC(".maps");

static __always_inline struct done *done_of(struct transfer *key)
{
	struct done *d = bpf_map_lookup_elem(&transfers, key);
	if (!d) {
		struct done none = {};
		bpf_map_update_elem(&transfers, key, &none, BPF_NOEXIST);
		d = bpf_map_lookup_elem(&transfers, key);
	}
	return d;
}

/* include/linux/blk_types.h: the lowest bits are the operation, of which all that change data are odd. */
static __always_inline __u32 kind_of(__u32 flags)
{
	__u32 operation = flags & 0xff;
	if (operation == 3) /* REQ_OP_DISCARD */
		return DISCARD;
	return operation & 1 ? WRITE : READ;
}

SEC("tp_btf/block_rq_issue")
int BPF_PROG(on_issue, struct request *rq)
{
	struct bio *bio = rq->bio;
	if (!bio || !rq->__data_len)
		return 0; /* a flush or a command of the driver */
	__u64 address = (__u64)rq;
	if (bpf_map_lookup_elem(&in_flight, &address))
		return 0; /* issued again: it was counted the first time */
	struct waiting w = { .since = bpf_ktime_get_ns() };
	w.what.kind = kind_of(rq->cmd_flags);
	struct gendisk *disk = bio->bi_bdev->bd_disk;
	w.what.device = disk->major << 20 | disk->first_minor;
	w.what.part = bio->bi_bdev->bd_dev;
	w.what.group = bio->bi_blkg ? bio->bi_blkg->blkcg->css.cgroup->kn->id : 0;
	bpf_map_update_elem(&in_flight, &address, &w, BPF_ANY);
	struct done *d = done_of(&w.what);
	if (d) {
		d->bytes += rq->__data_len;
		d->operations++;
	}
	return 0;
}

/* Four buckets to each doubling of microseconds: the upper bound of one is at most a quarter above its lower. */
static __always_inline __u16 bucket_of(__u64 micros)
{
	if (micros < 4)
		return micros;
	__u32 high = 2;
#pragma unroll
	for (int i = 3; i < 40; i++)
		if (micros >> i)
			high = i;
	return (high - 1) * 4 + ((micros >> (high - 2)) & 3);
}

SEC("tp_btf/block_rq_complete")
int BPF_PROG(on_complete, struct request *rq, int error, unsigned int bytes)
{
	__u64 address = (__u64)rq;
	if (bytes < rq->__data_len)
		return 0; /* a part of it: the rest is still to come */
	struct waiting *w = bpf_map_lookup_elem(&in_flight, &address);
	if (!w)
		return 0;
	__u64 took = bpf_ktime_get_ns() - w->since;
	struct transfer what = w->what;
	bpf_map_delete_elem(&in_flight, &address);
	struct done *d = done_of(&what);
	if (d)
		d->nanoseconds += took;
	struct slot key = { what.device, what.kind, bucket_of(took / 1000) };
	__u64 *n = bpf_map_lookup_elem(&latencies, &key);
	if (n) {
		*n += 1;
	} else {
		__u64 one = 1;
		bpf_map_update_elem(&latencies, &key, &one, BPF_NOEXIST);
	}
	return 0;
}
