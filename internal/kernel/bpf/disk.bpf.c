//go:build ignore

/* Block I/O by whom it is for, device and kind, with how long the device took and a histogram of it.
 *
 * What the kernel writes back later is for whoever made a page dirty, page by page: several workloads write to one
 * file, and who has it written down may be another. All else is for the task that submitted it, or, where that is one
 * of the kernel's, for whom a volume handed it on to that, or for the cgroup that this did it for. */
#include "who.h"

char LICENSE[] SEC("license") = "GPL";

enum { READ, WRITE, DISCARD }; /* kinds of operations; what is neither read nor discarded is written, as in diskstats */

/* For whom: a cgroup, and of a task in none the user and family; 0 for neither. The family of what has no dirtier that
 * is known, though it is of a file, is NOBODY_KNOWN. */
struct owner { __u64 group, family; __u32 uid, is_handed_on; };
enum { NOBODY_KNOWN = 2, ROOT = 1 };

/* Device and part: major << 20 | minor. */
struct transfer { struct owner owner; __u32 device, part, kind, unused; };
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

/* Who made a folio dirty that has not been written yet. What finds no room drives out what has waited longest. */
struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__uint(max_entries, 1 << 17);
	__type(key, __u64); /* the folio's address */
	__type(value, struct owner);
} dirty SEC(".maps");

/* Who submitted a bio that has not been issued yet. */
struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__uint(max_entries, 1 << 13);
	__type(key, __u64); /* the bio's address */
	__type(value, struct owner);
} submitted SEC(".maps");

static __always_inline void owner_of(struct task_struct *t, struct owner *o)
{
	if (bpf_core_enum_value_exists(enum cgroup_subsys_id, io_cgrp_id)) {
		__u64 at = bpf_core_enum_value(enum cgroup_subsys_id, io_cgrp_id);
		struct cgroup_subsys_state *css =
			*(struct cgroup_subsys_state **)((void *)t->cgroups->subsys + at * sizeof(void *));
		/* In version 2 a cgroup for which I/O is not controlled has that of one around it: what is done for it is its
		 * own all the same. */
		if (css)
			o->group = css->cgroup->root->hierarchy_id ? css->cgroup->kn->id : t->cgroups->dfl_cgrp->kn->id;
	}
	if (o->group > ROOT)
		return;
	struct last *l = bpf_task_storage_get(&lasts, t, 0, 0);
	if (l) {
		o->uid = l->who.uid;
		o->family = l->who.family;
	}
}

SEC("tp_btf/writeback_dirty_folio")
int BPF_PROG(on_dirty, void *folio)
{
	struct task_struct *t = bpf_get_current_task_btf();
	__u64 address = (__u64)folio;
	struct owner o = {};
	if (is_kernel(t))
		return 0;
	owner_of(t, &o);
	bpf_map_update_elem(&dirty, &address, &o, BPF_ANY);
	return 0;
}

SEC("tp_btf/mm_filemap_delete_from_page_cache")
int BPF_PROG(on_delete, void *folio)
{
	__u64 address = (__u64)folio;
	bpf_map_delete_elem(&dirty, &address);
	return 0;
}

/* For whom a volume was given what begins there. One that encrypts what is written hands other pages on, and by a task
 * of the kernel's; one that chooses between several ways to a drive hands on copies of requests. */
struct place { __u64 sector; __u32 device, unused; };

struct {
	__uint(type, BPF_MAP_TYPE_LRU_HASH);
	__uint(max_entries, 1 << 13);
	__type(key, struct place);
	__type(value, struct owner);
} given SEC(".maps");

static __always_inline __u64 folio_of(struct bio_vec *v, __u32 offset)
{
	struct page *page = (void *)((__u64)v->bv_page + (offset >> 12) * bpf_core_type_size(struct page));
	__u64 head = BPF_CORE_READ(page, compound_head);
	return head & 1 ? head - 1 : (__u64)page;
}

/* Who made the first page of a bio dirty. */
static __always_inline struct owner *first_dirtier(struct bio *bio)
{
	struct bio_vec v;
	if ((bio->bi_opf & 0xff) != 1 || !bio->bi_iter.bi_size || /* REQ_OP_WRITE */
	    bpf_probe_read_kernel(&v, sizeof(v), bio->bi_io_vec + bio->bi_iter.bi_idx))
		return 0;
	__u64 folio = folio_of(&v, v.bv_offset + bio->bi_iter.bi_bvec_done);
	return bpf_map_lookup_elem(&dirty, &folio);
}

static __always_inline void submit(struct bio *bio)
{
	struct task_struct *t = bpf_get_current_task_btf();
	__u64 address = (__u64)bio;
	struct owner o = {}, *known = 0;
	if (!is_kernel(t)) {
		owner_of(t, &o);
		known = &o;
		bpf_map_update_elem(&submitted, &address, &o, BPF_ANY);
	} else if ((known = bpf_map_lookup_elem(&submitted, &address))) {
		if (known->is_handed_on) {
			known->is_handed_on = 0;
			o = *known;
		} else { /* another's that was here and was made part of a request */
			bpf_map_delete_elem(&submitted, &address);
			known = 0;
		}
	}
	struct gendisk *disk = bio->bi_bdev->bd_disk;
	if (!disk->fops->submit_bio)
		return; /* a drive, and no volume */
	struct place p = { .sector = bio->bi_iter.bi_sector, .device = disk->major << 20 | disk->first_minor };
	struct owner *dirtier = first_dirtier(bio);
	if (dirtier)
		bpf_map_update_elem(&given, &p, dirtier, BPF_ANY);
	else if (known)
		bpf_map_update_elem(&given, &p, &o, BPF_ANY);
	else
		bpf_map_delete_elem(&given, &p);
}

SEC("tp_btf/block_bio_queue")
int BPF_PROG(on_submit, struct bio *bio)
{
	submit(bio);
	return 0;
}

/* What is too large for one request is divided by whom it is submitted by: the first part is a bio of its own, and so
 * is the rest for a volume. */
SEC("tp_btf/block_split")
int BPF_PROG(on_split, struct bio *part)
{
	submit(part);
	return 0;
}

/* A volume has made a bio of one that was given to it, and will submit it: at once, or by a task of the kernel's. */
SEC("tp_btf/block_bio_remap")
int BPF_PROG(on_remap, struct bio *bio, __u32 device, __u64 sector)
{
	struct task_struct *t = bpf_get_current_task_btf();
	__u64 address = (__u64)bio;
	struct place p = { .sector = sector, .device = device };
	if (bio->bi_bdev->bd_dev == device)
		return 0; /* from a partition to its drive: it is the same bio */
	struct owner o = {}, *known = bpf_map_lookup_elem(&given, &p);
	if (known)
		o = *known;
	else if (is_kernel(t))
		return 0;
	else
		owner_of(t, &o);
	o.is_handed_on = 1;
	bpf_map_update_elem(&submitted, &address, &o, BPF_ANY);
	return 0;
}

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

static __always_inline void count(struct transfer *what, __u64 bytes, __u64 operations)
{
	struct done *d = done_of(what);
	if (d) {
		d->bytes += bytes;
		d->operations += operations;
	}
}

/* A request that is gone through page by page: where it is, and what was found for one owner so far. */
struct walk {
	__u64 bio;
	__u32 at, done, left; /* in the bio: its vector, bytes of that, bytes of the bio */
	__u32 operations;
	__u64 bytes, all, folio;
	struct transfer what;
	struct owner submitter;
};

static __always_inline _Bool same(struct owner *a, struct owner *b)
{
	return a->group == b->group && a->family == b->family && a->uid == b->uid;
}

/* Whether a folio is of a file's content, and not of what the kernel keeps for itself, such as directories. */
static __always_inline _Bool is_content(__u64 address)
{
	struct folio *folio = (void *)address;
	struct address_space *mapping = BPF_CORE_READ(folio, mapping);
	if (!mapping || (__u64)mapping & 3) /* none, or not the page cache's */
		return 0;
	return (BPF_CORE_READ(mapping, host, i_mode) & 0170000) == 0100000; /* S_IFREG */
}

/* One at a time on each CPU: a tracing program does not begin anew where it is. It is not on the stack, whose every
 * value the verifier would follow through each of these steps. */
struct {
	__uint(type, BPF_MAP_TYPE_PERCPU_ARRAY);
	__uint(max_entries, 1);
	__type(key, __u32);
	__type(value, struct walk);
} walks SEC(".maps");

/* The cgroup that a bio is done for, by the device's own books. */
static __always_inline __u64 group_of(struct bio *bio)
{
	struct blkcg_gq *g = BPF_CORE_READ(bio, bi_blkg);
	return g ? BPF_CORE_READ(g, blkcg, css.cgroup, kn, id) : 0;
}

/* Who submitted a bio, and whether that was met; else it is for whom the device's own books have it. */
static __always_inline _Bool find_submitter(struct bio *bio, struct owner *o)
{
	__u64 address = (__u64)bio;
	struct owner *known = bpf_map_lookup_elem(&submitted, &address);
	if (!known) {
		*o = (struct owner){ .group = group_of(bio) };
		return 0;
	}
	*o = *known;
	o->is_handed_on = 0;
	bpf_map_delete_elem(&submitted, &address);
	return 1;
}

static long step(__u32 n, void *unused)
{
	__u32 zero = 0;
	struct walk *w = bpf_map_lookup_elem(&walks, &zero);
	if (!w)
		return 1;
	struct bio *bio = (void *)w->bio;
	if (!w->left) {
		if (!bio)
			return 1;
		if (w->all)
			find_submitter(bio, &w->submitter);
		w->folio = 0;
		w->at = BPF_CORE_READ(bio, bi_iter.bi_idx);
		w->done = BPF_CORE_READ(bio, bi_iter.bi_bvec_done);
		w->left = BPF_CORE_READ(bio, bi_iter.bi_size);
		if (!w->left)
			return 1;
	}
	struct bio_vec vector, *vectors = BPF_CORE_READ(bio, bi_io_vec);
	if (bpf_probe_read_kernel(&vector, sizeof(vector), vectors + w->at))
		return 1;
	__u32 offset = vector.bv_offset + w->done;
	__u32 bytes = vector.bv_len - w->done, page_left = 4096 - (offset & 4095);
	if (bytes > page_left)
		bytes = page_left;
	if (bytes > w->left)
		bytes = w->left;
	__u64 folio = folio_of(&vector, offset);
	if (folio != w->folio) {
		struct owner o = w->submitter, *found = bpf_map_lookup_elem(&dirty, &folio);
		w->folio = folio;
		if (found)
			o = *found;
		else if (is_content(folio))
			o = (struct owner){ .group = group_of(bio), .family = NOBODY_KNOWN };
		if (!same(&o, &w->what.owner)) {
			if (w->bytes)
				count(&w->what, w->bytes, w->operations);
			w->what.owner = o;
			w->bytes = 0;
			w->operations = 0;
		}
	}
	w->bytes += bytes;
	w->all += bytes;
	w->left -= bytes;
	w->done += bytes;
	if (!w->left) {
		w->bio = (__u64)BPF_CORE_READ(bio, bi_next);
	} else if (w->done >= vector.bv_len) {
		w->at++;
		w->done = 0;
	}
	return 0;
}

enum { MOST_PAGES = 8192 }; /* of a request: 32 MiB */

SEC("tp_btf/block_rq_issue")
int BPF_PROG(on_issue, struct request *rq)
{
	struct bio *bio = rq->bio;
	if (!bio || !rq->__data_len)
		return 0; /* a flush or a command of the driver */
	__u64 address = (__u64)rq;
	if (bpf_map_lookup_elem(&in_flight, &address))
		return 0; /* issued again: it was counted the first time */
	__u32 zero = 0;
	struct walk *w = bpf_map_lookup_elem(&walks, &zero);
	if (!w)
		return 0;
	struct gendisk *disk = bio->bi_bdev->bd_disk;
	*w = (struct walk){ .bio = (__u64)bio, .operations = 1 };
	w->what.kind = kind_of(rq->cmd_flags);
	w->what.device = disk->major << 20 | disk->first_minor;
	w->what.part = bio->bi_bdev->bd_dev;
	_Bool met = find_submitter(bio, &w->submitter);
	w->what.owner = w->submitter;
	if (disk->disk_name[0] == 'd' && disk->disk_name[1] == 'm') {
		struct place p = { .sector = rq->__sector, .device = w->what.device };
		bpf_map_update_elem(&given, &p, &w->submitter, BPF_ANY);
	}
	if ((rq->cmd_flags & 0xff) == 1) { /* REQ_OP_WRITE: what else is written has no pages */
		if (bpf_core_enum_value_exists(enum bpf_func_id, BPF_FUNC_loop))
			bpf_loop(MOST_PAGES, step, 0, 0);
		else if (!met) /* before Linux 5.17 pages are not gone through */
			w->what.owner.family = NOBODY_KNOWN;
	}
	if (w->all < rq->__data_len)
		w->bytes += rq->__data_len - w->all;
	count(&w->what, w->bytes, w->operations);
	struct waiting waiting = { .what = w->what, .since = bpf_ktime_get_ns() };
	bpf_map_update_elem(&in_flight, &address, &waiting, BPF_ANY);
	return 0;
}

/* A volume is about to submit its copy of a request that was given to it. */
SEC("tp_btf/block_rq_remap")
int BPF_PROG(on_rq_remap, struct request *copy, __u32 device, __u64 sector)
{
	__u64 address = (__u64)copy->bio;
	struct place p = { .sector = sector, .device = device };
	struct owner *known = bpf_map_lookup_elem(&given, &p);
	if (known && address) {
		struct owner o = *known;
		bpf_map_update_elem(&submitted, &address, &o, BPF_ANY);
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
	__u64 none = 0, *n = bpf_map_lookup_elem(&latencies, &key);
	if (!n) {
		bpf_map_update_elem(&latencies, &key, &none, BPF_NOEXIST); /* unless another CPU made it meanwhile */
		n = bpf_map_lookup_elem(&latencies, &key);
	}
	if (n)
		*n += 1;
	return 0;
}
