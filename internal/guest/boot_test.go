package guest

import (
	"bytes"
	"context"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
)

// TestVersion2 boots the guest and reports each of its tests as one of its own.
func TestVersion2(t *testing.T) {
	if inGuest() {
		t.Skip("this is the inside of the machine")
	}
	kernel, burner := os.Getenv("VINESCALE_GUEST_KERNEL"), os.Getenv("VINESCALE_BURNER")
	if kernel == "" {
		t.Skip("make test runs it on its own (target test-guest), with a kernel for its machine")
	}
	dir := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	initrd := &archive{}
	for _, d := range []string{"proc", "sys", "dev", "tmp", "run", "etc", "modules"} {
		initrd.add(d, 0o040755, nil, 0, 0)
	}
	initrd.add("dev/console", 0o020600, nil, 5, 1)
	initrd.add("dev/null", 0o020666, nil, 1, 3)
	files := map[string]string{"init": self, "burner": burner}
	order := text(filepath.Join(kernel, "modules"))
	for _, m := range strings.Fields(order) {
		files["modules/"+m+".ko"] = filepath.Join(kernel, m+".ko")
	}
	initrd.add("modules/order", 0o100644, []byte(order), 0, 0)
	for name, from := range files {
		content, err := os.ReadFile(from)
		require.NoError(t, err)
		initrd.add(name, 0o100755, content, 0, 0)
	}
	initrd.add("etc/passwd", 0o100644, []byte("root:x:0:0::/:/bin/sh\n"), 0, 0)
	put := func(name string, content []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, content, 0o600))
		return path
	}
	image, err := os.ReadFile(filepath.Join(kernel, "bzImage"))
	require.NoError(t, err)
	// vda is written to as it is, vdb has a filesystem that counts projects, vdc and vdd are for swap
	var drives []string
	for i, size := range []int64{64 << 20, 64 << 20, 48 << 20, 48 << 20} {
		disk := put(fmt.Sprint("disk", i), nil)
		require.NoError(t, os.Truncate(disk, size))
		if i == 1 {
			out, err := exec.Command("/sbin/mke2fs", "-q", "-t", "ext4", "-O", "quota,project", "-E",
				"quotatype=prjquota", disk).CombinedOutput()
			require.NoError(t, err, string(out))
		}
		id := fmt.Sprint("disk", i)
		drives = append(drives, "-drive", "if=none,id="+id+",format=raw,file="+disk, "-device",
			"virtio-blk-pci,drive="+id)
	}
	nvme := put("nvme", nil)
	require.NoError(t, os.Truncate(nvme, 16<<20))
	// nvme0n1 is a drive that may have several ways to it, of which the kernel shows each beside it.
	drives = append(drives, "-drive", "if=none,id=nvme,format=raw,file="+nvme, "-device", "nvme-subsys,id=ways",
		"-device", "nvme,subsys=ways,serial=n0", "-device", "nvme-ns,drive=nvme",
		"-device", "edu", "-device", "edu", // which the GPU of the tests drives
		"-acpitable", "file="+filepath.Join(kernel, "tables.aml"))
	result, serial := filepath.Join(dir, "result"), filepath.Join(dir, "serial")
	ctx, cancel := context.WithTimeout(context.Background(), 35*time.Minute)
	defer cancel()
	// More than one thread of emulation crashes such guests.
	machine := exec.CommandContext(ctx, "qemu-system-x86_64",
		append(drives, "-M", "q35", "-accel", "tcg,thread=single", "-cpu", "Nehalem", "-smp", "2", "-m", "640",
			"-nodefaults", "-display", "none", "-no-reboot", "-kernel", put("kernel", uncompressed(image)), "-initrd",
			put("initrd", initrd.close()),
			"-append",
			// Nothing is sent but what the tests send: an interface announces itself to others of the sixth version.
			"console=ttyS0 quiet panic=-1 oops=panic psi=1 ipv6.disable_ipv6=1 -- -test.v "+
				"-test.timeout=30m -test.run=^TestGuest",
			"-chardev", "file,id=log,path="+serial, "-serial", "chardev:log", "-device",
			"isa-debug-exit,iobase=0xf4,iosize=4",
			"-device", "virtio-serial-pci", "-chardev", "file,id=result,path="+result, "-device",
			"virtserialport,chardev=result,name=result")...)
	var said bytes.Buffer
	machine.Stderr = &said
	begun := time.Now()
	err = machine.Run()
	t.Logf("the machine ran %.1f s", time.Since(begun).Seconds())
	told, _ := os.ReadFile(result)
	log, _ := os.ReadFile(serial)
	const passed, failed = 33, 35
	var code *exec.ExitError
	if !errors.As(err, &code) || code.ExitCode() != passed && code.ExitCode() != failed {
		t.Fatalf("the machine did not come to an end: %v\n%s\nits console:\n%s\nits results:\n%s", err, said.String(),
			tail(log), tail(told))
	}
	ends := regexp.MustCompile(`(?m)^--- (PASS|FAIL|SKIP): (\S+) `).FindAllSubmatchIndex(told, -1)
	require.NotEmpty(t, ends, "a test ran in the guest: %s", tail(told))
	from := 0
	for _, m := range ends {
		verdict, name := string(told[m[2]:m[3]]), string(told[m[4]:m[5]])
		to := len(told)
		if i := bytes.Index(told[m[1]:], []byte("\n=== RUN")); i >= 0 {
			to = m[1] + i
		}
		block := strings.TrimSpace(string(told[from:to]))
		from = to
		t.Run(name, func(t *testing.T) {
			t.Log(block)
			require.Equal(t, "PASS", verdict)
		})
	}
	if !t.Failed() { // what failed has said why
		require.Equal(t, passed, code.ExitCode(), "%s", tail(told))
	}
}

func tail(b []byte) string { return string(b[max(len(b)-6000, 0):]) }

// archive is an initial file system in the kernel's "initramfs buffer format" (newc).
type archive struct {
	bytes.Buffer
	files int
}

func (a *archive) add(name string, mode uint32, content []byte, major, minor int) {
	a.files++
	fmt.Fprintf(a, "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X", a.files, mode, 0, 0, 1, 0,
		len(content), 0, 0, major, minor, len(name)+1, 0)
	a.WriteString(name + "\x00")
	a.pad(4)
	a.Write(content)
	a.pad(4)
}

func (a *archive) pad(to int) {
	for a.Len()%to != 0 {
		a.WriteByte(0)
	}
}

func (a *archive) close() []byte {
	a.add("TRAILER!!!", 0, nil, 0, 0)
	a.pad(512)
	return a.Bytes()
}

// uncompressed takes the kernel out of its image where it is packed with zstd, which saves the emulated machine seconds
// of unpacking (the kernel's "Linux/x86 Boot Protocol"). Another packing is left to the machine.
func uncompressed(image []byte) []byte {
	if len(image) < 0x250 {
		return image
	}
	sectors := int(image[0x1f1])
	if sectors == 0 {
		sectors = 4
	}
	at := (sectors+1)*512 + int(binary.LittleEndian.Uint32(image[0x248:]))
	length := int(binary.LittleEndian.Uint32(image[0x24c:]))
	if at < 0 || length < 8 || at+length > len(image) {
		return image
	}
	reader, err := zstd.NewReader(nil, zstd.WithDecoderMaxWindow(1<<30))
	if err != nil {
		return image
	}
	defer reader.Close()
	raw, err := reader.DecodeAll(image[at:at+length-4], nil) // its last four bytes are the length
	if err != nil {
		return image
	}
	if _, err := elf.NewFile(bytes.NewReader(raw)); err != nil {
		return image
	}
	return raw
}
