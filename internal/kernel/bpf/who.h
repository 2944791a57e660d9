/* Whose what a task runs is: carried with the task, so that nothing has to be looked up when it has ended. */
#ifndef VINESCALE_WHO_H
#define VINESCALE_WHO_H

#include "types.h"

struct spent { __u64 run, user, system, waited; }; /* nanoseconds; user and system are sampled by ticks */

/* The family is the process at its head: its number shifted by 42 bits, with when it began, in ticks of 10 ms on the
 * boot clock. That of kernel threads is KERNEL. */
struct who { __u64 v2, cpuacct, family; __u32 uid, unused; };

enum { KERNEL = 1 };
enum { PF_KTHREAD = 0x00200000 };

/* What is known of a task since it was last seen: what it had used then, and whose it was. */
struct last {
	struct spent at;
	struct who who;
	__u64 set, cred; /* the pointers that who follows from */
	__u64 known;
};

struct {
	__uint(type, BPF_MAP_TYPE_TASK_STORAGE);
	__uint(map_flags, BPF_F_NO_PREALLOC);
	__type(key, int);
	__type(value, struct last);
} lasts SEC(".maps");

static __always_inline _Bool is_kernel(struct task_struct *t) { return t->flags & PF_KTHREAD; }

#endif
