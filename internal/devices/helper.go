package devices

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"vinescale/core/account"
)

// Helper asks a vendor's library in a process of its own, so that a call that never returns, or a library that ends its
// process, costs the figures of its GPUs and nothing else.
type Helper struct {
	command []string
	driver  string // the file that is there while the library's driver is loaded; "" where it is always asked
	limit   time.Duration
	pids    string // why pids of this process and of the library are not the same; "" where they are

	running *running
	pause   time.Duration
	after   time.Time // before which it is not begun again
	why     string    // why nothing is told, as of the last end
}

// running is one process of the helper.
type running struct {
	cmd     *exec.Cmd
	in      io.WriteCloser
	answers chan LibraryAnswer
	ended   chan error
	says    *tail
	begun   time.Time
	ready   bool
}

// The limits of a helper: how long one answer may take, how long a library may take to begin, which makes drivers set
// up their GPUs, and how long a helper that failed waits before it is begun again.
const (
	answerWithin = 2 * time.Second
	beginWithin  = time.Minute
	leastPause   = 10 * time.Second
	mostPause    = 10 * time.Minute
)

// VendorDriver is the file that is there while the vendor's driver is loaded.
const VendorDriver = "/proc/driver/nvidia/version"

// NewHelper makes a helper that runs a command, which answers each line with one of JSON: a LibraryAnswer. It is begun
// only while a driver's file is there, where one is named. A limit of zero is two seconds.
func NewHelper(driver string, limit time.Duration, command ...string) *Helper {
	if limit == 0 {
		limit = answerWithin
	}
	return &Helper{command: command, driver: driver, limit: limit, pids: otherPIDs()}
}

// initialPIDs is the number of the first namespace of pids (the kernel's PROC_PID_INIT_INO).
const initialPIDs = "pid:[4026531836]"

// otherPIDs says why the library's pids, which are the host's, are not this process's; "" where they are.
func otherPIDs() string {
	if ns, err := os.Readlink("/proc/self/ns/pid"); err != nil || ns != initialPIDs {
		return "the library tells the host's pids, and this collector runs in a namespace of pids of its own"
	}
	return ""
}

// Ask asks what the library tells now. It takes the helper's limit at most.
func (h *Helper) Ask() *LibraryAnswer {
	if h.running == nil {
		if _, err := os.Stat(h.driver); h.driver != "" && err != nil {
			return &LibraryAnswer{}
		}
		if time.Now().Before(h.after) {
			return &LibraryAnswer{Why: h.why}
		}
		if err := h.begin(); err != nil {
			h.fail("its helper cannot be begun: " + err.Error())
			return &LibraryAnswer{Why: h.why}
		}
	}
	r := h.running
	if r.ready {
		if _, err := io.WriteString(r.in, "\n"); err != nil {
			h.fail("its helper takes no question any more: " + err.Error())
			return &LibraryAnswer{Why: h.why}
		}
	}
	limit := h.limit
	select {
	case a := <-r.answers:
		if !r.ready { // it says that it has begun; what it tells is asked for from the next time on
			r.ready = true
			if a.Why != "" {
				h.fail(a.Why)
				return &LibraryAnswer{Why: h.why, Version: a.Version}
			}
			return h.Ask()
		}
		h.pause = 0
		h.hidePIDs(a.GPUs)
		return &a
	case err := <-r.ended:
		h.running = nil
		h.fail("the library ended its helper: " + cmpOr(r.says.String(), fmt.Sprint(err)))
	case <-time.After(limit):
		if !r.ready && time.Since(r.begun) < beginWithin {
			return &LibraryAnswer{Why: "the library is still setting up its GPUs"}
		}
		h.fail(fmt.Sprintf("the library gave no answer within %v", limit))
	}
	return &LibraryAnswer{Why: h.why}
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// hidePIDs takes out who uses GPUs where their pids mean others here.
func (h *Helper) hidePIDs(gpus []LibraryGPU) {
	if h.pids == "" {
		return
	}
	for i := range gpus {
		gpus[i].Users, gpus[i].NoUsers, gpus[i].NoTimes = nil, h.pids, h.pids
		h.hidePIDs(gpus[i].Parts)
	}
}

// begin begins the helper's process.
func (h *Helper) begin() error {
	r := &running{answers: make(chan LibraryAnswer, 1), ended: make(chan error, 1), says: &tail{}, begun: time.Now()}
	r.cmd = exec.Command(h.command[0], h.command[1:]...)
	r.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	r.cmd.Stderr = r.says
	r.cmd.WaitDelay = time.Second
	var err error
	if r.in, err = r.cmd.StdinPipe(); err != nil {
		return err
	}
	out, err := r.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := r.cmd.Start(); err != nil {
		return err
	}
	h.running = r
	go func() {
		decoder := json.NewDecoder(bufio.NewReader(out))
		for {
			var a LibraryAnswer
			if err := decoder.Decode(&a); err != nil {
				_ = r.cmd.Process.Kill()
				r.ended <- r.cmd.Wait()
				return
			}
			r.answers <- a
		}
	}()
	return nil
}

// fail ends the helper's process, and says from when on it is begun again. A process that hangs in its driver cannot be
// ended: it is not waited for.
func (h *Helper) fail(why string) {
	if h.running != nil {
		_ = h.running.cmd.Process.Kill()
		h.running = nil
	}
	h.pause = min(max(2*h.pause, leastPause), mostPause)
	h.after = time.Now().Add(h.pause)
	h.why = fmt.Sprintf("%s; it is asked again in %v", strings.TrimSpace(why), h.pause)
}

// Close ends the helper's process.
func (h *Helper) Close() {
	if h.running != nil {
		h.running.in.Close()
		_ = h.running.cmd.Process.Kill()
		h.running = nil
	}
}

// tail keeps the first bytes that a helper says on its way out.
type tail struct{ kept []byte }

func (t *tail) Write(b []byte) (int, error) {
	t.kept = append(t.kept, b[:min(len(b), max(200-len(t.kept), 0))]...)
	return len(b), nil
}

// String is the first line of it.
func (t *tail) String() string {
	first, _, _ := strings.Cut(strings.TrimSpace(string(t.kept)), "\n")
	return strings.ToValidUTF8(first, "\uFFFD")
}

// librarySensors tells what the library tells of GPUs as sensors.
func (g *gpus) librarySensors() (list []account.Sensor) {
	if g.answer == nil {
		return nil
	}
	for i := range g.answer.GPUs {
		x := &g.answer.GPUs[i]
		device := fmt.Sprintf("GPU %d", x.Index)
		of := func(section, name string) *account.GPUFigure {
			for j := range x.Figures {
				if x.Figures[j].Section == section && x.Figures[j].Name == name {
					return &x.Figures[j]
				}
			}
			return &account.GPUFigure{}
		}
		for _, s := range []struct{ section, name, kind, unit, high, critical string }{
			{"temperature", "temperature", account.Temperature, "°C", "slowed down from", "shut down from"},
			{"temperature", "fan", account.Fan, "%", "", ""},
			{"power", "power", account.Power, "W", "", ""},
		} {
			f := of(s.section, s.name)
			if f.Value == nil && f.Why == "" || f.Why == NotSupported {
				continue
			}
			list = append(list, account.Sensor{Chip: "gpu", Device: device, Name: s.name, Kind: s.kind, Unit: s.unit,
				Value: f.Value, Why: f.Why, High: of(s.section, s.high).Value,
				Critical: of(s.section, s.critical).Value})
		}
	}
	return list
}

// NotSupported is why a device has no figure that it does not support.
const NotSupported = "this device does not support it"
