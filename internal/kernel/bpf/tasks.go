package bpf

import (
	"fmt"
	"io"
	"os"
	"unsafe"

	"github.com/cilium/ebpf"
	"github.com/cilium/ebpf/link"
)

// Task is one thread: nanoseconds on the boot clock (Start) and of CPU time, bytes to and from storage, resident
// anonymous and swapped pages. What the Gone fields hold, and the owner, is told with the leader of its process only.
type Task = tasksTask

// Comm is the name a task goes by.
func Comm(c *[16]int8) []byte {
	b := unsafe.Slice((*byte)(unsafe.Pointer(&c[0])), len(c))
	for i, x := range b {
		if x == 0 {
			return b[:i]
		}
	}
	return b
}

type taskReader struct {
	objects tasksObjects
	link    *link.Iter
	buf     []byte
}

// mostSummed is up to how many CPUs the parts of a counter of pages are added up: each takes 30 ns, of each process.
const mostSummed = 32

func (c *Counters) openTasks(Options) error {
	r := &taskReader{buf: make([]byte, 64<<10)}
	o := *c.loading
	if c.Has(CPU) { // which knows the families
		o.MapReplacements = map[string]*ebpf.Map{"lasts": c.cpu.Lasts}
	}
	spec, err := loadTasks()
	if err != nil {
		return err
	}
	if c.cpus <= mostSummed {
		if err := spec.Variables["cpus"].Set(uint32(c.cpus)); err != nil {
			return err
		}
	}
	if err := spec.Variables["mask_words"].Set(uint32(c.cpus+63) / 64); err != nil {
		return err
	}
	if err := spec.LoadAndAssign(&r.objects, &o); err != nil {
		return err
	}
	c.keep(&r.objects)
	if _, err := r.objects.Learn.Run(&ebpf.RunOptions{Context: make([]byte, 32)}); err != nil {
		return fmt.Errorf("find where CPUs count pages: %w", err)
	}
	l, err := link.AttachIter(link.IterOptions{Program: r.objects.AllTasks})
	if err != nil {
		return fmt.Errorf("attach the iterator of tasks: %w", err)
	}
	c.keep(l)
	r.link, c.tasks = l, r
	tasks, err := c.Tasks()
	if err != nil {
		return err
	}
	me := int32(os.Getpid())
	for i := range tasks {
		if tasks[i].Pid == me {
			return nil
		}
	}
	return fmt.Errorf(
		"this process has a process namespace of its own: the kernel's numbers of processes are not those seen here")
}

// taskSize is the length of a record: the C struct task of tasks.bpf.c.
const taskSize = int(unsafe.Sizeof(Task{}))

// Tasks reads all tasks, ascending by Pid. The slice is valid until the next call.
func (c *Counters) Tasks() ([]Task, error) {
	r := c.tasks
	f, err := r.link.Open()
	if err != nil {
		return nil, fmt.Errorf("read tasks: %w", err)
	}
	defer f.Close()
	n := 0
	for {
		if len(r.buf)-n < 32<<10 { // the kernel gives up to eight pages at a time
			r.buf = append(r.buf, make([]byte, max(len(r.buf)/4, 64<<10))...)
		}
		m, err := f.Read(r.buf[n:])
		n += m
		if err == io.EOF || err == nil && m == 0 {
			return viewTasks(r.buf[:n]), nil
		}
		if err != nil {
			return nil, fmt.Errorf("read tasks: %w", err)
		}
	}
}

// viewTasks sees whole records in b without copying them: 5,000 tasks are a megabyte.
func viewTasks(b []byte) []Task {
	if len(b) < taskSize {
		return nil
	}
	return unsafe.Slice((*Task)(unsafe.Pointer(&b[0])), len(b)/taskSize)
}
