package guest

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// withOptions are the options of modules that take some: chips on a bus that is made of memory.
var withOptions = map[string]string{"i2c_stub": "chip_addr=0x48,0x1b"}

func inGuest() bool { return os.Getpid() == 1 }

func text(path string) string {
	b, _ := os.ReadFile(path)
	return strings.TrimSpace(string(b))
}

// TestMain is, in the guest, the init of the machine: it mounts what the kernel shows, runs the tests and ends the
// machine.
func TestMain(m *testing.M) {
	if !inGuest() {
		os.Exit(m.Run())
	}
	if _, err := os.Stat("/proc/self"); err != nil {
		// What is linked in looks at /proc when it starts: so it starts once more, with everything mounted.
		mountAll()
		println("exec:", unix.Exec("/init", os.Args, os.Environ()).Error())
	}
	furnish()
	code := m.Run()
	unix.Sync()
	runtime.LockOSThread()
	if unix.Ioperm(0xf4, 4, 1) == nil {
		outl(0xf4, uint32(16+code)) // QEMU ends with twice that and one: 33 passed, 35 failed
	}
	_ = unix.Reboot(unix.LINUX_REBOOT_CMD_POWER_OFF)
}

func mountAll() {
	for _, x := range [][2]string{{"proc", "/proc"}, {"sysfs", "/sys"}, {"devtmpfs", "/dev"}, {"tmpfs", "/tmp"},
		{"tmpfs", "/run"}, {"cgroup2", tree}} {
		if err := unix.Mount(x[0], x[1], x[0], 0, ""); err != nil {
			println("mount", x[1], err.Error())
		}
	}
}

// furnish loads what the tests need and opens the way for their results.
func furnish() {
	for _, m := range strings.Fields(text("/modules/order")) {
		f, err := os.Open("/modules/" + m + ".ko")
		if err == nil {
			err = unix.FinitModule(int(f.Fd()), withOptions[m], 0)
		}
		if err != nil {
			println(m, err.Error())
		}
	}
	for _, c := range strings.Fields(text(tree + "/cgroup.controllers")) {
		if err := os.WriteFile(tree+"/cgroup.subtree_control", []byte("+"+c), 0); err != nil {
			println("controller", c, err.Error())
		}
	}
	results()
	if out, err := exec.Command("/burner", "address", "lo", "127.0.0.1").CombinedOutput(); err != nil {
		println("loopback:", err.Error(), string(out))
	}
}

// results sends what tests say to the port from which it is read outside: none of the kernel's own words are in it.
func results() {
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		ports, _ := filepath.Glob("/sys/class/virtio-ports/*/name")
		for _, p := range ports {
			if text(p) != "result" {
				continue
			}
			if fd, err := unix.Open("/dev/"+filepath.Base(filepath.Dir(p)), unix.O_WRONLY, 0); err == nil {
				_ = unix.Dup2(fd, 1)
				_ = unix.Dup2(fd, 2)
				return
			}
		}
	}
	println("no port for the results")
}
