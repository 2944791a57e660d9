// SPDX-License-Identifier: MIT OR GPL-2.0
//
// A GPU for tests: a driver of QEMU's "edu" device (1234:11e8). All that a reader sees of it goes through the kernel's
// own interfaces: files of its clients, memory objects, a chip of sensors, files of the card, a zone whose energy is
// metered, and a thermal zone. Its engine is real in this: it does one job at a time, jobs wait for it, and how long it
// was busy is measured around each.
#include <linux/delay.h>
#include <linux/hwmon.h>
#include <linux/module.h>
#include <linux/pci.h>
#include <linux/powercap.h>
#include <linux/thermal.h>
#include <drm/drm_drv.h>
#include <drm/drm_file.h>
#include <drm/drm_gem.h>
#include <drm/drm_gem_shmem_helper.h>
#include <drm/drm_ioctl.h>
#include <drm/drm_print.h>

#define MEMORY_BYTES (256ull << 20)
#define REST_UW 20000000ull		// what it draws at rest, in microwatts
#define WORK_UW 180000000ull		// and beside that when it works, as far as its cap allows
#define LEAST_CAP_UW 50000000
#define MOST_CAP_UW 200000000
#define RANGE_UJ 50000000ul		// where its meter begins again

struct gpu {
	struct drm_device drm;
	struct mutex engine;
	atomic64_t busy_ns, taken;
	ktime_t born;
	u64 cap_uw, read_at, read_busy;
	struct powercap_zone zone;
	struct thermal_zone_device *thermal;
};

struct client { atomic64_t busy_ns; };

static struct powercap_control_type *control;

struct run_job { __u32 micros, padding; };
struct take_memory { __u64 bytes; __u32 handle, padding; };
#define IOCTL_RUN DRM_IOW(DRM_COMMAND_BASE + 0, struct run_job)
#define IOCTL_TAKE DRM_IOWR(DRM_COMMAND_BASE + 1, struct take_memory)
#define DRM_IOCTL_TESTGPU_RUN IOCTL_RUN
#define DRM_IOCTL_TESTGPU_TAKE IOCTL_TAKE

static u64 energy_uj(struct gpu *g)
{
	u64 up = ktime_to_ns(ktime_sub(ktime_get(), g->born)), busy = atomic64_read(&g->busy_ns);
	u64 work = min(WORK_UW, g->cap_uw - REST_UW);

	// microseconds times milliwatts are nanojoules
	return up / 1000 * (REST_UW / 1000) / 1000 + busy / 1000 * (work / 1000) / 1000;
}

static int run_ioctl(struct drm_device *drm, void *data, struct drm_file *file)
{
	struct gpu *g = container_of(drm, struct gpu, drm);
	struct client *c = file->driver_priv;
	struct run_job *job = data;
	ktime_t begun;
	u64 ns;

	if (job->micros > 100000)
		return -EINVAL;
	if (mutex_lock_interruptible(&g->engine))
		return -EINTR;
	begun = ktime_get();
	usleep_range(job->micros, job->micros + 50);
	ns = ktime_to_ns(ktime_sub(ktime_get(), begun));
	atomic64_add(ns, &c->busy_ns);
	atomic64_add(ns, &g->busy_ns);
	mutex_unlock(&g->engine);
	return 0;
}

static int take_ioctl(struct drm_device *drm, void *data, struct drm_file *file)
{
	struct gpu *g = container_of(drm, struct gpu, drm);
	struct take_memory *want = data;
	struct drm_gem_shmem_object *object;
	int r;

	if (!want->bytes || atomic64_read(&g->taken) + want->bytes > MEMORY_BYTES)
		return -ENOSPC;
	object = drm_gem_shmem_create(drm, want->bytes);
	if (IS_ERR(object))
		return PTR_ERR(object);
	r = drm_gem_handle_create(file, &object->base, &want->handle);
	drm_gem_object_put(&object->base);
	return r;
}

static int object_open(struct drm_gem_object *o, struct drm_file *file)
{
	atomic64_add(o->size, &container_of(o->dev, struct gpu, drm)->taken);
	return 0;
}

static void object_close(struct drm_gem_object *o, struct drm_file *file)
{
	atomic64_sub(o->size, &container_of(o->dev, struct gpu, drm)->taken);
}

static enum drm_gem_object_status object_status(struct drm_gem_object *o) { return DRM_GEM_OBJECT_RESIDENT; }

static const struct drm_gem_object_funcs object_funcs = {
	.free = drm_gem_shmem_object_free, .open = object_open, .close = object_close, .status = object_status,
	.print_info = drm_gem_shmem_object_print_info, .mmap = drm_gem_shmem_object_mmap,
	.vm_ops = &drm_gem_shmem_vm_ops,
};

static struct drm_gem_object *object_create(struct drm_device *drm, size_t size)
{
	struct drm_gem_shmem_object *o = kzalloc(sizeof(*o), GFP_KERNEL);

	if (!o)
		return ERR_PTR(-ENOMEM);
	o->base.funcs = &object_funcs;
	return &o->base;
}

static int client_open(struct drm_device *drm, struct drm_file *file)
{
	file->driver_priv = kzalloc(sizeof(struct client), GFP_KERNEL);
	return file->driver_priv ? 0 : -ENOMEM;
}

static void client_close(struct drm_device *drm, struct drm_file *file) { kfree(file->driver_priv); }

static void client_tell(struct drm_printer *p, struct drm_file *file)
{
	struct client *c = file->driver_priv;

	drm_printf(p, "drm-engine-compute:\t%lld ns\n", atomic64_read(&c->busy_ns));
	drm_show_memory_stats(p, file);
}

static const struct drm_ioctl_desc ioctls[] = {
	DRM_IOCTL_DEF_DRV(TESTGPU_RUN, run_ioctl, DRM_RENDER_ALLOW),
	DRM_IOCTL_DEF_DRV(TESTGPU_TAKE, take_ioctl, DRM_RENDER_ALLOW),
};

static const struct file_operations file_ops = {
	.owner = THIS_MODULE, .open = drm_open, .release = drm_release, .unlocked_ioctl = drm_ioctl,
	.show_fdinfo = drm_show_fdinfo, .fop_flags = FOP_UNSIGNED_OFFSET,
};

static const struct drm_driver driver = {
	.driver_features = DRIVER_GEM | DRIVER_RENDER, .open = client_open, .postclose = client_close,
	.show_fdinfo = client_tell, .gem_create_object = object_create, .ioctls = ioctls,
	.num_ioctls = ARRAY_SIZE(ioctls), .fops = &file_ops, .name = "testgpu", .desc = "a GPU for tests",
	.date = "20260101", .major = 1,
};

// The card's own files, by the names that some drivers give them.
static struct gpu *of(struct device *d) { return dev_get_drvdata(d); }

static ssize_t gpu_busy_percent_show(struct device *d, struct device_attribute *a, char *b)
{
	struct gpu *g = of(d);
	u64 now = ktime_get_ns(), busy = atomic64_read(&g->busy_ns);
	u64 part = now > g->read_at ? (busy - g->read_busy) * 100 / (now - g->read_at) : 0;

	g->read_at = now;
	g->read_busy = busy;
	return sysfs_emit(b, "%llu\n", min(part, 100ull));
}
static DEVICE_ATTR_RO(gpu_busy_percent);

static ssize_t mem_info_vram_total_show(struct device *d, struct device_attribute *a, char *b)
{
	return sysfs_emit(b, "%llu\n", MEMORY_BYTES);
}
static DEVICE_ATTR_RO(mem_info_vram_total);

static ssize_t mem_info_vram_used_show(struct device *d, struct device_attribute *a, char *b)
{
	return sysfs_emit(b, "%lld\n", atomic64_read(&of(d)->taken));
}
static DEVICE_ATTR_RO(mem_info_vram_used);

// The truth, for the test alone.
static ssize_t busy_ns_show(struct device *d, struct device_attribute *a, char *b)
{
	return sysfs_emit(b, "%lld\n", atomic64_read(&of(d)->busy_ns));
}
static DEVICE_ATTR_RO(busy_ns);

static struct attribute *card_attrs[] = {
	&dev_attr_gpu_busy_percent.attr, &dev_attr_mem_info_vram_total.attr, &dev_attr_mem_info_vram_used.attr,
	&dev_attr_busy_ns.attr, NULL,
};
ATTRIBUTE_GROUPS(card);

// The chip of its sensors.
static umode_t sensor_visible(const void *x, enum hwmon_sensor_types type, u32 attribute, int channel)
{
	return type == hwmon_power && attribute == hwmon_power_cap ? 0644 : 0444;
}

static int sensor_read(struct device *d, enum hwmon_sensor_types type, u32 attribute, int channel, long *v)
{
	struct gpu *g = of(d);
	bool works = mutex_is_locked(&g->engine);

	if (type == hwmon_energy)
		*v = energy_uj(g);
	else if (type == hwmon_fan)
		*v = 1200;
	else if (type == hwmon_temp)
		*v = attribute == hwmon_temp_crit ? 100000 : works ? 70000 : 40000;
	else if (attribute == hwmon_power_cap)
		*v = g->cap_uw;
	else if (attribute == hwmon_power_cap_min)
		*v = LEAST_CAP_UW;
	else if (attribute == hwmon_power_cap_max)
		*v = MOST_CAP_UW;
	else
		*v = REST_UW + (works ? min(WORK_UW, g->cap_uw - REST_UW) : 0);
	return 0;
}

static int sensor_write(struct device *d, enum hwmon_sensor_types type, u32 attribute, int channel, long v)
{
	if (v < LEAST_CAP_UW || v > MOST_CAP_UW)
		return -EINVAL;
	of(d)->cap_uw = v;
	return 0;
}

static int sensor_label(struct device *d, enum hwmon_sensor_types type, u32 attribute, int channel, const char **s)
{
	*s = type == hwmon_temp ? "edge" : "board power";
	return 0;
}

static const struct hwmon_ops sensor_ops = {
	.is_visible = sensor_visible, .read = sensor_read, .write = sensor_write, .read_string = sensor_label,
};
static const struct hwmon_channel_info * const sensor_info[] = {
	HWMON_CHANNEL_INFO(power, HWMON_P_AVERAGE | HWMON_P_CAP | HWMON_P_CAP_MIN | HWMON_P_CAP_MAX | HWMON_P_LABEL),
	HWMON_CHANNEL_INFO(energy, HWMON_E_INPUT), HWMON_CHANNEL_INFO(fan, HWMON_F_INPUT),
	HWMON_CHANNEL_INFO(temp, HWMON_T_INPUT | HWMON_T_CRIT | HWMON_T_LABEL), NULL,
};
static const struct hwmon_chip_info sensors = { .ops = &sensor_ops, .info = sensor_info };

// The zone whose energy is metered. Its counter begins again soon.
static struct gpu *in(struct powercap_zone *z) { return container_of(z, struct gpu, zone); }
static int zone_release(struct powercap_zone *z) { return 0; }
static int zone_energy(struct powercap_zone *z, u64 *v)
{
	u64 joules = energy_uj(in(z));

	*v = do_div(joules, RANGE_UJ);
	return 0;
}
static int zone_range(struct powercap_zone *z, u64 *v) { *v = RANGE_UJ - 1; return 0; }
static int cap_get(struct powercap_zone *z, int i, u64 *v) { *v = in(z)->cap_uw; return 0; }
static int cap_set(struct powercap_zone *z, int i, u64 v)
{
	if (v < LEAST_CAP_UW || v > MOST_CAP_UW)
		return -EINVAL;
	in(z)->cap_uw = v;
	return 0;
}
static int window_get(struct powercap_zone *z, int i, u64 *v) { *v = 1000000; return 0; }
static int window_set(struct powercap_zone *z, int i, u64 v) { return -EINVAL; }
static const char *cap_name(struct powercap_zone *z, int i) { return "long_term"; }
static const struct powercap_zone_constraint_ops cap_ops = {
	.get_power_limit_uw = cap_get, .set_power_limit_uw = cap_set, .get_time_window_us = window_get,
	.set_time_window_us = window_set, .get_name = cap_name,
};
static const struct powercap_zone_ops zone_ops = {
	.release = zone_release, .get_energy_uj = zone_energy, .get_max_energy_range_uj = zone_range,
};

static int thermal_read(struct thermal_zone_device *z, int *t)
{
	struct gpu *g = thermal_zone_device_priv(z);

	*t = mutex_is_locked(&g->engine) ? 70000 : 40000;
	return 0;
}
static const struct thermal_zone_device_ops thermal_ops = { .get_temp = thermal_read };

static int probe(struct pci_dev *p, const struct pci_device_id *id)
{
	struct gpu *g;
	struct device *chip;
	int r = pcim_enable_device(p);

	if (r)
		return r;
	g = devm_drm_dev_alloc(&p->dev, &driver, struct gpu, drm);
	if (IS_ERR(g))
		return PTR_ERR(g);
	mutex_init(&g->engine);
	g->born = ktime_get();
	g->cap_uw = MOST_CAP_UW;
	pci_set_drvdata(p, g);
	chip = devm_hwmon_device_register_with_info(&p->dev, "testgpu", g, &sensors, NULL);
	if (IS_ERR(chip))
		return PTR_ERR(chip);
	powercap_register_zone(&g->zone, control, pci_name(p), NULL, &zone_ops, 1, &cap_ops);
	g->thermal = thermal_tripless_zone_device_register("testgpu", g, &thermal_ops, NULL);
	return drm_dev_register(&g->drm, 0);
}

static const struct pci_device_id ids[] = { { PCI_DEVICE(0x1234, 0x11e8) }, {} };
static struct pci_driver pci = { .name = "testgpu", .id_table = ids, .probe = probe, .dev_groups = card_groups };

static int __init begin(void)
{
	control = powercap_register_control_type(NULL, "testgpu", NULL);
	return IS_ERR(control) ? PTR_ERR(control) : pci_register_driver(&pci);
}
module_init(begin); // it is never unloaded
MODULE_LICENSE("Dual MIT/GPL");
MODULE_DESCRIPTION("a GPU for tests");
