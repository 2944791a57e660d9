//go:build ignore

/* The system calls of one process: how often, how long, what failed; and which files it opened, and where it connected
 * to. Attached for a while only, since every system call of the host passes here. */
#include "types.h"

char LICENSE[] SEC("license") = "GPL";

enum { NOTHING, A_PATH, AN_ADDRESS };
enum { TEXT = 256 };

struct begun { __u64 at, where; __u32 id, what, length, unused; };
struct done { __u64 times, nanos, longest, failed; };
struct note { __s64 result; __u32 what, length, thread, unused; char text[TEXT]; };

struct note *unused_note __attribute__((unused));

const volatile __u32 target;        /* the process */
const volatile __u32 arguments[3];  /* where in the registers the first arguments of a call are */
const volatile __s32 opens_first[2]; /* calls whose first argument is a path that is opened; -1 for none */
const volatile __s32 opens_second[2];
const volatile __s32 connects;

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__uint(max_entries, 16384);
	__type(key, __u32); /* a thread */
	__type(value, struct begun);
} under_way SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_HASH);
	__uint(max_entries, 1024);
	__type(key, __u32); /* the number of the call */
	__type(value, struct done);
} calls SEC(".maps");

struct {
	__uint(type, BPF_MAP_TYPE_RINGBUF);
	__uint(max_entries, 1 << 19);
} notes SEC(".maps");

__u64 lost; /* notes that found no room, and calls that did not */

static __always_inline __u64 argument(struct pt_regs *regs, __u32 n)
{
	__u64 v = 0;
	bpf_probe_read_kernel(&v, sizeof(v), (void *)regs + arguments[n]);
	return v;
}

SEC("tp_btf/sys_enter")
int BPF_PROG(on_call, struct pt_regs *regs, long id)
{
	__u64 who = bpf_get_current_pid_tgid();
	if (who >> 32 != target)
		return 0;
	__u32 thread = (__u32)who;
	struct begun b = { .at = bpf_ktime_get_ns(), .id = (__u32)id };
	if (id == opens_first[0] || id == opens_first[1]) {
		b.what = A_PATH;
		b.where = argument(regs, 0);
	} else if (id == opens_second[0] || id == opens_second[1]) {
		b.what = A_PATH;
		b.where = argument(regs, 1);
	} else if (id == connects) {
		b.what = AN_ADDRESS;
		b.where = argument(regs, 1);
		b.length = (__u32)argument(regs, 2);
	}
	if (bpf_map_update_elem(&under_way, &thread, &b, BPF_ANY))
		__sync_fetch_and_add(&lost, 1);
	return 0;
}

static __always_inline void take_note(struct begun *b, __u32 thread, long result)
{
	struct note *n = bpf_ringbuf_reserve(&notes, sizeof(*n), 0);
	if (!n) {
		__sync_fetch_and_add(&lost, 1);
		return;
	}
	n->what = b->what;
	n->result = result;
	n->thread = thread;
	n->unused = 0;
	long got;
	if (b->what == A_PATH) {
		got = bpf_probe_read_user_str(n->text, TEXT, (void *)b->where);
		n->length = got > 0 ? got - 1 : 0;
	} else {
		__u32 length = b->length > 128 ? 128 : b->length; /* the longest there is: sockaddr_storage */
		got = bpf_probe_read_user(n->text, length, (void *)b->where);
		n->length = got ? 0 : length;
	}
	bpf_ringbuf_submit(n, BPF_RB_NO_WAKEUP);
}

SEC("tp_btf/sys_exit")
int BPF_PROG(on_return, struct pt_regs *regs, long result)
{
	__u64 who = bpf_get_current_pid_tgid();
	if (who >> 32 != target)
		return 0;
	__u32 thread = (__u32)who;
	struct begun *b = bpf_map_lookup_elem(&under_way, &thread);
	if (!b) /* it began before */
		return 0;
	__u64 took = bpf_ktime_get_ns() - b->at;
	__u32 id = b->id;
	struct done *d = bpf_map_lookup_elem(&calls, &id);
	if (!d) {
		struct done none = {};
		bpf_map_update_elem(&calls, &id, &none, BPF_NOEXIST);
		d = bpf_map_lookup_elem(&calls, &id);
	}
	if (d) {
		__sync_fetch_and_add(&d->times, 1);
		__sync_fetch_and_add(&d->nanos, took);
		if (result < 0 && result >= -4095)
			__sync_fetch_and_add(&d->failed, 1);
		if (took > d->longest)
			d->longest = took;
	} else {
		__sync_fetch_and_add(&lost, 1);
	}
	if (b->what != NOTHING)
		take_note(b, thread, result);
	bpf_map_delete_elem(&under_way, &thread);
	return 0;
}
