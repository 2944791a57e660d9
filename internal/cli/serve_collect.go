package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"vinescale/internal/hub"
)

// ownCollector is the collector of this host beside its service. It is a process of its own: what it uses is its own
// workload, the service's memory is not in its way, and neither ends with the other's mistakes.
type ownCollector struct {
	host, spool string
	acts        string // the policy file
	service     *service
	again       time.Duration // after how long it is started anew when it ended by itself
}

// newOwnCollector checks that the host may be collected here. It may if nobody else has its credential: it is not
// enrolled, or it was by this service, which is known by its spool.
func newOwnCollector(ctx context.Context, s *service, c *config, host string) (*ownCollector, error) {
	o := &ownCollector{host: host, spool: c.String("spool"), acts: c.String("acts"), service: s,
		again: time.Second}
	if data := c.String("data"); data != "" && c.from["spool"] == "default" {
		o.spool = filepath.Join(data, "collector")
	}
	if _, err := os.Stat(o.spool); errors.Is(err, fs.ErrNotExist) {
		_, err := s.hub.Host(ctx, host)
		var unknown *hub.Problem
		if err == nil {
			return nil, fmt.Errorf(
				"%s is enrolled already, and its collector would lose its credential: leave out "+
					"--collect, or give another name with --host",
				host,
			)
		}
		if !errors.As(err, &unknown) || unknown.Class != hub.NotFound {
			return nil, err
		}
	}
	return o, nil
}

// run keeps the collector running until the context ends.
func (o *ownCollector) run(ctx context.Context, log *slog.Logger) {
	for ctx.Err() == nil {
		begin := time.Now()
		err := o.once(ctx)
		if ctx.Err() != nil {
			return
		}
		if time.Since(begin) > time.Minute {
			o.again = time.Second
		}
		log.Error("the collector ended by itself; it is started again", "error", err, "in", o.again)
		select {
		case <-ctx.Done():
		case <-time.After(o.again):
		}
		o.again = min(2*o.again, time.Minute)
	}
}

// once runs the collector to its end. Each start has a credential of its own, which is nowhere but in its memory.
func (o *ownCollector) once(ctx context.Context) error {
	credential, err := o.service.hub.Enrol(ctx, o.host)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	runtime.LockOSThread() // the thread that started it must stay, or it would be taken for this process's end
	defer runtime.UnlockOSThread()
	cmd := exec.CommandContext(
		ctx,
		self,
		"collect",
		"--service",
		o.service.url,
		"--host",
		o.host,
		"--spool",
		o.spool,
		"--acts",
		o.acts,
	)
	cmd.Env = append(os.Environ(), "VINESCALE_CREDENTIAL="+credential)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	// In a group of its own, so that Ctrl-C ends the service first, which then ends it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = 10 * time.Second
	return cmd.Run()
}
