// Package devices reads what a host's devices tell of themselves through the kernel's files below /sys: sensors, and
// meters of energy. It only reads. Start with Open.
package devices
