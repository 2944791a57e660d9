// A simulated library of GPUs. It exports the symbols of the vendor's management library, as the public declarations of
// that have them, and tells what a state file says, so that a machine without any GPU can show everything, and so that
// failures can be had at will. Build it as a shared library, and name it with --gpu-library.
//
// The state file is named by VINESCALE_GPU_STATE; else it is beside the library, with .state in place of .so. It is
// read anew whenever it was changed. Its lines:
//
//   driver TEXT                     the version of the driver; without it, no driver is loaded
//   gpu N                           begins what is told of GPU N; gpu N.P of its partition P
//   KEY VALUE                       a figure, by the keys below; one that is not there is not supported
//   process PID KIND KEY=VALUE ...  compute or graphics, with memory (bytes), sm, mem, enc, dec (percent), instance
//   fault FUNCTION WHAT             hang, abort, or a number: what the function answers; of this GPU where within one
//
// Samples are taken once a second by the wall clock, as a device that samples by itself does.
#define _GNU_SOURCE
#include <dlfcn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

typedef unsigned int u32;
typedef unsigned long long u64;

enum { OK, UNINITIALISED, INVALID, UNSUPPORTED, NO_PERMISSION, NOT_FOUND = 6, TOO_SMALL = 7, NO_DRIVER = 9,
	LOST = 15, UNKNOWN = 999 };
enum { NO_INSTANCE = 0xffffffff };

// The structures of the interface.
typedef struct { char legacy[16]; u32 domain, bus, device, id, sub; char address[32]; } bus_info;
typedef struct { u32 gpu, memory; } utilisation;
typedef struct { u64 total, free, used; } memory_info;
typedef struct { u32 pid; u64 used; u32 instance, compute_instance; } process_info;
typedef struct { u32 pid; u64 stamp; u32 sm, mem, enc, dec; } sample;
typedef struct { u32 sms, copy, dec, enc, jpeg, ofa, slices, compute_slices; u64 mib; } attributes;
_Static_assert(sizeof(bus_info) == 68 && sizeof(process_info) == 24 && sizeof(sample) == 32 &&
	sizeof(attributes) == 40, "layout of the interface");

// A GPU of the state, or a partition: where its lines begin and end in the file.
struct gpu { int number, part; char *begin, *end; };
typedef struct gpu *device;

enum { MOST = 256 };
static struct gpu gpus[MOST];
static int count, begun;
static char *text;
static struct timespec changed;
static ino_t inode;
static off_t length;

static const char *state_file(void)
{
	static char path[4096];
	const char *named = getenv("VINESCALE_GPU_STATE");
	Dl_info self;

	if (named)
		return named;
	if (!path[0] && dladdr((void *)state_file, &self) && self.dli_fname) {
		snprintf(path, sizeof path - 6, "%s", self.dli_fname);
		char *dot = strrchr(path, '.');
		if (dot && !strcmp(dot, ".so"))
			*dot = 0;
		strcat(path, ".state");
	}
	return path;
}

// place finds or makes the GPU of a number: one that was handed out stays at its place.
static device place(int number, int part)
{
	for (int i = 0; i < count; i++)
		if (gpus[i].number == number && gpus[i].part == part)
			return &gpus[i];
	if (count == MOST)
		return NULL;
	gpus[count] = (struct gpu){number, part, NULL, NULL};
	return &gpus[count++];
}

// load reads the state file where it was changed. It returns 0 where there is none.
static int load(void)
{
	struct stat st;
	FILE *f;
	device at = NULL;

	if (stat(state_file(), &st))
		return 0;
	if (text && st.st_ino == inode && st.st_size == length && st.st_mtim.tv_sec == changed.tv_sec &&
	    st.st_mtim.tv_nsec == changed.tv_nsec)
		return 1;
	if (!(f = fopen(state_file(), "re")))
		return 0;
	free(text);
	text = calloc(1, st.st_size + 2);
	length = fread(text, 1, st.st_size, f);
	text[length] = '\n';
	fclose(f);
	inode = st.st_ino;
	changed = st.st_mtim;
	for (int i = 0; i < count; i++)
		gpus[i].begin = gpus[i].end = NULL;
	for (char *line = text, *next; line < text + length; line = next) {
		int number, part = -1;
		next = strchr(line, '\n');
		next = next ? next + 1 : text + length;
		if (sscanf(line, " gpu %d.%d", &number, &part) < 1)
			continue;
		if (at)
			at->end = line;
		if ((at = place(number, part)))
			at->begin = next, at->end = text + length;
	}
	return 1;
}

// value finds a key between two places; its value ends with the line.
static int value(char *from, char *to, const char *key, char *out, size_t room)
{
	size_t k = strlen(key);

	for (char *line = from; line && line < to; line = strchr(line, '\n') ? strchr(line, '\n') + 1 : to) {
		line += strspn(line, " \t");
		if (strncmp(line, key, k) || line[k] != ' ')
			continue;
		size_t n = strcspn(line + k + 1, "\n");
		if (n >= room)
			return TOO_SMALL;
		memcpy(out, line + k + 1, n);
		out[n] = 0;
		return OK;
	}
	return UNSUPPORTED;
}

static int head(const char *key, char *out, size_t room)
{
	char *end = text ? strstr(text, "\ngpu ") : NULL;
	return text ? value(text, end ? end : text + length, key, out, room) : UNSUPPORTED;
}

// fault looks for a fault of a function: of all GPUs, or of one.
static int fault(const char *function, device d)
{
	char key[96], what[32];

	snprintf(key, sizeof key, "fault %s", function);
	if (!load() || (head(key, what, sizeof what) != OK &&
			(!d || !d->begin || value(d->begin, d->end, key, what, sizeof what) != OK)))
		return OK;
	if (!strcmp(what, "hang"))
		for (;;)
			pause();
	if (!strcmp(what, "abort")) {
		fprintf(stderr, "the simulated library was told to abort in %s\n", function);
		abort();
	}
	return atoi(what);
}

#define ENTER(d) { int r_ = fault(__func__, d); if (r_) return r_; if (!begun) return UNINITIALISED; }
#define AT(d) { ENTER(d) if (!(d)) return INVALID; if (!(d)->begin) return LOST; }

static int number(device d, const char *key, u64 *v)
{
	char b[64];
	int r = value(d->begin, d->end, key, b, sizeof b);
	if (!r)
		*v = strtoull(b, NULL, 10);
	return r;
}

static int number32(device d, const char *key, u32 *v)
{
	u64 x;
	int r = number(d, key, &x);
	if (!r)
		*v = x;
	return r;
}

static u64 now(void)
{
	struct timespec t;
	clock_gettime(CLOCK_REALTIME, &t);
	return t.tv_sec * 1000000ull + t.tv_nsec / 1000;
}

int nvmlInit_v2(void)
{
	char b[96];
	int r = fault(__func__, NULL);
	if (r)
		return r;
	if (!load() || head("driver", b, sizeof b))
		return NO_DRIVER;
	begun++;
	return OK;
}

int nvmlShutdown(void) { if (!begun) return UNINITIALISED; begun--; return OK; }

const char *nvmlErrorString(int r)
{
	switch (r) {
	case OK: return "Success";
	case UNINITIALISED: return "Uninitialized";
	case INVALID: return "Invalid Argument";
	case UNSUPPORTED: return "Not Supported";
	case NO_PERMISSION: return "Insufficient Permissions";
	case NOT_FOUND: return "Not Found";
	case TOO_SMALL: return "Insufficient Size";
	case NO_DRIVER: return "Driver Not Loaded";
	case LOST: return "GPU is lost";
	}
	return "Unknown Error";
}

int nvmlSystemGetNVMLVersion(char *v, u32 n) { snprintf(v, n, "simulated"); return OK; }
int nvmlSystemGetDriverVersion(char *v, u32 n) { ENTER(NULL) return head("driver", v, n); }

int nvmlDeviceGetCount_v2(u32 *n)
{
	ENTER(NULL)
	*n = 0;
	for (int i = 0; i < count; i++)
		if (gpus[i].part < 0 && gpus[i].number + 1 > (int)*n)
			*n = gpus[i].number + 1;
	return OK;
}

int nvmlDeviceGetHandleByIndex_v2(u32 i, device *d)
{
	ENTER(NULL)
	for (int k = 0; k < count; k++)
		if (gpus[k].part < 0 && gpus[k].number == (int)i) {
			*d = &gpus[k];
			return gpus[k].begin ? OK : LOST;
		}
	return NOT_FOUND;
}

int nvmlDeviceGetName(device d, char *b, u32 n) { AT(d) return value(d->begin, d->end, "name", b, n); }
int nvmlDeviceGetUUID(device d, char *b, u32 n) { AT(d) return value(d->begin, d->end, "uuid", b, n); }
int nvmlDeviceGetVbiosVersion(device d, char *b, u32 n) { AT(d) return value(d->begin, d->end, "firmware", b, n); }
int nvmlDeviceGetMinorNumber(device d, u32 *v) { AT(d) return number32(d, "minor", v); }

int nvmlDeviceGetPciInfo_v3(device d, bus_info *p)
{
	AT(d)
	memset(p, 0, sizeof *p);
	int r = value(d->begin, d->end, "bus", p->address, sizeof p->address);
	if (r)
		return r;
	sscanf(p->address, "%x:%x:%x", &p->domain, &p->bus, &p->device);
	snprintf(p->legacy, sizeof p->legacy, "%04x:%02x:%02x.0", p->domain & 0xffff, p->bus & 0xff, p->device & 0xff);
	return OK;
}

int nvmlDeviceGetMemoryInfo(device d, memory_info *m)
{
	AT(d)
	int r = number(d, "memory.total", &m->total);
	if (!r)
		r = number(d, "memory.used", &m->used);
	if (!r)
		m->free = m->total - m->used;
	return r;
}

int nvmlDeviceGetUtilizationRates(device d, utilisation *u)
{
	AT(d)
	int r = number32(d, "busy", &u->gpu);
	u->memory = 0;
	if (!r)
		number32(d, "busy.memory", &u->memory);
	return r;
}

int nvmlDeviceGetEncoderUtilization(device d, u32 *v, u32 *period)
{ AT(d) *period = 1000000; return number32(d, "busy.encoder", v); }
int nvmlDeviceGetDecoderUtilization(device d, u32 *v, u32 *period)
{ AT(d) *period = 1000000; return number32(d, "busy.decoder", v); }
int nvmlDeviceGetPowerUsage(device d, u32 *v) { AT(d) return number32(d, "power.mw", v); }
int nvmlDeviceGetPowerManagementLimit(device d, u32 *v) { AT(d) return number32(d, "cap.mw", v); }
int nvmlDeviceGetEnforcedPowerLimit(device d, u32 *v) { AT(d) return number32(d, "cap.mw", v); }
int nvmlDeviceGetPowerManagementDefaultLimit(device d, u32 *v) { AT(d) return number32(d, "cap.usual.mw", v); }
int nvmlDeviceGetPowerManagementLimitConstraints(device d, u32 *least, u32 *most)
{
	AT(d)
	int r = number32(d, "cap.least.mw", least);
	return r ? r : number32(d, "cap.most.mw", most);
}
int nvmlDeviceGetTotalEnergyConsumption(device d, u64 *mj) { AT(d) return number(d, "energy.mj", mj); }
int nvmlDeviceGetTemperature(device d, int sensor, u32 *c)
{ AT(d) return sensor ? INVALID : number32(d, "temperature", c); }

int nvmlDeviceGetTemperatureThreshold(device d, int which, u32 *c)
{
	AT(d)
	return which == 0 ? number32(d, "temperature.shutdown", c) :
		which == 1 ? number32(d, "temperature.slowdown", c) : UNSUPPORTED;
}

int nvmlDeviceGetFanSpeed(device d, u32 *v) { AT(d) return number32(d, "fan", v); }

static int clock_of(device d, const char *what, int which, u32 *mhz)
{
	static const char *const names[] = {"graphics", "sm", "memory", "video"};
	char key[32];

	if (which < 0 || which > 3)
		return INVALID;
	snprintf(key, sizeof key, "%s.%s", what, names[which]);
	return number32(d, key, mhz);
}
int nvmlDeviceGetClockInfo(device d, int which, u32 *mhz) { AT(d) return clock_of(d, "clock", which, mhz); }
int nvmlDeviceGetMaxClockInfo(device d, int which, u32 *mhz) { AT(d) return clock_of(d, "clock.most", which, mhz); }
int nvmlDeviceGetCurrentClocksThrottleReasons(device d, u64 *v) { AT(d) return number(d, "heldback", v); }
int nvmlDeviceGetPerformanceState(device d, int *v) { AT(d) return number32(d, "state", (u32 *)v); }
int nvmlDeviceGetComputeMode(device d, int *v) { AT(d) return number32(d, "computemode", (u32 *)v); }

// keep writes a key's new value into the state file, as a whole.
static int keep(device d, const char *key, u32 v)
{
	char path[4100];
	size_t k = strlen(key);
	char *line = d->begin;
	FILE *f;

	while (line && line < d->end) {
		char *word = line + strspn(line, " \t");
		if (!strncmp(word, key, k) && word[k] == ' ') {
			line = word;
			break;
		}
		line = strchr(line, '\n') ? strchr(line, '\n') + 1 : d->end;
	}
	if (!line || line >= d->end)
		return UNSUPPORTED;
	snprintf(path, sizeof path, "%s.new", state_file());
	if (!(f = fopen(path, "we")))
		return NO_PERMISSION;
	char *rest = strchr(line, '\n');
	fprintf(f, "%.*s%s %u%.*s", (int)(line - text), text, key, v, (int)(text + length - rest), rest);
	fclose(f);
	return rename(path, state_file()) ? NO_PERMISSION : load() ? OK : UNKNOWN;
}

int nvmlDeviceSetPowerManagementLimit(device d, u32 mw)
{
	AT(d)
	u32 least = 0, most = ~0u;
	number32(d, "cap.least.mw", &least);
	number32(d, "cap.most.mw", &most);
	return mw < least || mw > most ? INVALID : keep(d, "cap.mw", mw);
}
int nvmlDeviceSetComputeMode(device d, int v) { AT(d) return v == 1 ? INVALID : keep(d, "computemode", v); }

int nvmlDeviceGetDisplayMode(device d, int *v) { AT(d) return number32(d, "display", (u32 *)v); }
int nvmlDeviceGetDisplayActive(device d, int *v) { AT(d) return number32(d, "display.active", (u32 *)v); }
int nvmlDeviceGetPersistenceMode(device d, int *v) { AT(d) return number32(d, "persistence", (u32 *)v); }

int nvmlDeviceGetEccMode(device d, int *current, int *pending)
{
	AT(d)
	int r = number32(d, "ecc", (u32 *)current);
	*pending = *current;
	return r;
}

int nvmlDeviceGetTotalEccErrors(device d, int kind, int since, u64 *v)
{
	AT(d)
	char key[32];
	snprintf(key, sizeof key, "ecc.%s.%s", kind ? "uncorrected" : "corrected", since ? "ever" : "volatile");
	return number(d, key, v);
}

int nvmlDeviceGetRetiredPages(device d, int cause, u32 *n, u64 *addresses)
{
	AT(d)
	u32 had = *n;
	int r = number32(d, cause ? "retired.uncorrected" : "retired.corrected", n);
	if (r)
		return r;
	if (!*n)
		return OK;
	if (!addresses || *n > had)
		return TOO_SMALL;
	for (u32 i = 0; i < *n; i++)
		addresses[i] = 0x1000ull * (i + 1);
	return OK;
}

int nvmlDeviceGetCurrPcieLinkGeneration(device d, u32 *v) { AT(d) return number32(d, "link.generation", v); }
int nvmlDeviceGetCurrPcieLinkWidth(device d, u32 *v) { AT(d) return number32(d, "link.width", v); }
int nvmlDeviceGetMaxPcieLinkGeneration(device d, u32 *v) { AT(d) return number32(d, "link.generation.most", v); }
int nvmlDeviceGetMaxPcieLinkWidth(device d, u32 *v) { AT(d) return number32(d, "link.width.most", v); }

int nvmlDeviceGetMigMode(device d, u32 *current, u32 *pending)
{
	AT(d)
	int r = number32(d, "divided", current);
	*pending = *current;
	return r;
}
int nvmlDeviceGetMaxMigDeviceCount(device d, u32 *v) { AT(d) *v = 7; return OK; }

int nvmlDeviceGetMigDeviceHandleByIndex(device d, u32 i, device *part)
{
	AT(d)
	for (int k = 0; k < count; k++)
		if (gpus[k].number == d->number && gpus[k].part == (int)i && gpus[k].begin) {
			*part = &gpus[k];
			return OK;
		}
	return NOT_FOUND;
}

int nvmlDeviceGetGpuInstanceId(device d, u32 *v) { AT(d) return number32(d, "instance", v); }

int nvmlDeviceGetAttributes_v2(device d, attributes *a)
{
	AT(d)
	u64 total = 0;
	memset(a, 0, sizeof *a);
	int r = number32(d, "multiprocessors", &a->sms);
	if (!r)
		r = number32(d, "slices", &a->slices);
	number(d, "memory.total", &total);
	a->mib = total >> 20;
	return r;
}

static u64 word(const char *line, const char *end, const char *key, u64 missing)
{
	char name[16];
	const char *at;

	snprintf(name, sizeof name, " %s=", key);
	at = strstr(line, name);
	return at && at < end ? strtoull(at + strlen(name), NULL, 10) : missing;
}

// each goes over the processes of a GPU: into a list of those of one kind, or into samples of those that work.
static int each(device d, const char *kind, u32 *n, process_info *out, sample *s, u64 stamp)
{
	u32 had = *n, k = 0;

	for (char *line = d->begin; line < d->end; line = strchr(line, '\n') + 1) {
		char *end = line + strcspn(line, "\n"), what[16];
		u32 pid;

		if (sscanf(line, " process %u %15s", &pid, what) != 2)
			continue;
		u32 busy[4] = {word(line, end, "sm", 0), word(line, end, "mem", 0), word(line, end, "enc", 0),
			word(line, end, "dec", 0)};
		if (kind ? strcmp(what, kind) : !(busy[0] | busy[1] | busy[2] | busy[3]))
			continue;
		if (k < had && out) {
			u32 instance = word(line, end, "instance", NO_INSTANCE);
			out[k] = (process_info){pid, word(line, end, "memory", ~0ull), instance,
				instance == NO_INSTANCE ? NO_INSTANCE : 0};
		}
		if (k < had && s)
			s[k] = (sample){pid, stamp, busy[0], busy[1], busy[2], busy[3]};
		k++;
	}
	*n = k;
	return k > had ? TOO_SMALL : OK;
}

int nvmlDeviceGetComputeRunningProcesses_v3(device d, u32 *n, process_info *p)
{ AT(d) return each(d, "compute", n, p, NULL, 0); }
int nvmlDeviceGetGraphicsRunningProcesses_v3(device d, u32 *n, process_info *p)
{ AT(d) return each(d, "graphics", n, p, NULL, 0); }

int nvmlDeviceGetProcessUtilization(device d, sample *s, u32 *n, u64 since)
{
	AT(d)
	u64 stamp = now() / 1000000 * 1000000;
	u32 divided = 0;
	number32(d, "divided", &divided);
	if (d->part >= 0 || divided)
		return UNSUPPORTED;
	if (since >= stamp)
		return NOT_FOUND;
	if (!s)
		*n = 0;
	int r = each(d, NULL, n, NULL, s, stamp);
	return r ? r : *n ? OK : NOT_FOUND;
}
