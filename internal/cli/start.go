package cli

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"vinescale/core/cpuset"
	"vinescale/internal/carry"
	"vinescale/internal/identify"
)

func newStart() *cobra.Command {
	var name, cpus, user string
	w := &carry.Work{}
	cmd := &cobra.Command{
		Use:   "start -- COMMAND [ARGUMENT...]",
		Short: "Begin work on this host in a group of its own, known to the book from its first instant",
		Long: `Start runs a command in cgroups of its own, on chosen CPUs and with a weight, and ends
when that ends. The book has it as a job of that name from its first instant, and its CPU
time is counted, not added up. It needs root. What the command leaves running stays in its
group.`,
		Example: `  vinescale start --cpus 2-4 --tenant "Frost Watch" -- ./frost-grid --members 20
  vinescale start --name label-batch --weight 50 --user svc-label -- make labels`,
		Args: cobra.MinimumNArgs(1),
	}
	f := cmd.Flags()
	f.StringVar(&name, "name", "", "what it is called in the book (default: its program with this process's number)")
	f.StringVar(&cpus, "cpus", "", "CPUs that it may run on, as a list, a range or a mask")
	f.IntVar(&w.Weight, "weight", 0, "against others for CPU time, 1 to 10000; 100 is usual")
	f.StringVar(&w.Tenant, "tenant", "", "whom its usage is accounted to, where no rule says otherwise")
	f.StringVar(&user, "user", "", "run it as this user")
	f.SetInterspersed(false)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if w.Name = name; name == "" {
			w.Name = fmt.Sprint(filepath.Base(args[0]), "-", os.Getpid())
		}
		switch {
		case !identify.BegunName.MatchString(w.Name):
			return usagef("name %q: use letters, digits, dots, dashes and underscores, at most 64", w.Name)
		case f.Changed("weight") && (w.Weight < 1 || w.Weight > 10000):
			return usagef("--weight %d: give a weight from 1 to 10000", w.Weight)
		case cpus != "":
			var err error
			if w.CPUs, err = cpuset.Read(cpus); err != nil || w.CPUs.IsEmpty() {
				return usagef("--cpus %q: give a list, a range or a mask, such as 2-4", cpus)
			}
		}
		if os.Geteuid() != 0 {
			return errors.New(
				"not permitted: only root may make groups for work; run it with sudo, and --user for whom",
			)
		}
		w.Command = strings.Join(args, " ")
		return begin(cmd, w, user, args)
	}
	return cmd
}

// begin runs the command in a room of its own.
func begin(cmd *cobra.Command, w *carry.Work, user string, args []string) error {
	users := identify.NewUsers("/etc")
	child := exec.Command(args[0], args[1:]...)
	child.Stdin, child.Stdout, child.Stderr = os.Stdin, os.Stdout, os.Stderr
	if user != "" {
		credential, err := users.Credential(user)
		if err != nil {
			return usageError{err}
		}
		w.UID = int64(credential.Uid)
		child.SysProcAttr = &syscall.SysProcAttr{Credential: credential}
	}
	if child.Err != nil {
		return usageError{child.Err}
	}
	room, err := carry.MakeRoom(carry.Options{Proc: "/proc", Cgroup: "/sys/fs/cgroup", Sys: "/sys", Run: "/run",
		Users: users}, w)
	if err != nil {
		return err
	}
	defer room.Clear()
	for _, text := range room.Missing {
		fmt.Fprintf(cmd.ErrOrStderr(), "vinescale: %s\n", text)
	}
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	defer signal.Stop(signals)
	if err := enterAndStart(room, w.CPUs, child); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- child.Wait() }()
	for {
		select {
		case s := <-signals:
			_ = child.Process.Signal(s) // it may have ended just now
		case err := <-done:
			var exit *exec.ExitError
			if errors.As(err, &exit) {
				return exitError{exit.ExitCode(), exit}
			}
			return err
		}
	}
}

// enterAndStart starts the child while this process is in the room, on the CPUs that are its.
func enterAndStart(room *carry.Room, cpus cpuset.Set, child *exec.Cmd) error {
	runtime.LockOSThread() // affinity is a thread's, and the child inherits that of the one that starts it
	defer runtime.UnlockOSThread()
	var before unix.CPUSet
	if err := unix.SchedGetaffinity(0, &before); err != nil {
		return err
	}
	if err := room.Enter(); err != nil {
		return err
	}
	if !cpus.IsEmpty() {
		var mask unix.CPUSet
		for _, cpu := range cpus.CPUs() {
			mask.Set(cpu)
		}
		if err := unix.SchedSetaffinity(0, &mask); err != nil {
			return errors.Join(fmt.Errorf("CPUs %s: %w", cpus.String(), err), room.Leave())
		}
	}
	err := child.Start()
	return errors.Join(err, room.Leave(), unix.SchedSetaffinity(0, &before))
}

// exitError ends a command with the exit code of another.
type exitError struct {
	code int
	error
}
