package gpulibrary

import (
	"bufio"
	"encoding/json"
	"io"
	"os"
	"time"

	"vinescale/internal/devices"
)

// Serve is the life of a helper process: it loads the library, says that it has begun, and answers each line that comes
// in with all that the library tells. In between it takes samples. It returns when nothing more comes in, and it ends
// the process then even where a call hangs.
func Serve(path string, in io.Reader, out io.Writer) error {
	questions := make(chan struct{})
	go func() {
		lines := bufio.NewScanner(in)
		for lines.Scan() {
			questions <- struct{}{}
		}
		close(questions)
		time.Sleep(time.Second) // for a call that is under way
		os.Exit(0)
	}()
	encoder := json.NewEncoder(out)
	l, err := Open(path)
	if err != nil {
		return encoder.Encode(devices.LibraryAnswer{Why: err.Error()})
	}
	defer l.Close()
	l.Sample()
	if err := encoder.Encode(devices.LibraryAnswer{Version: l.version, Driver: l.driver,
		Missing: l.calls.missing}); err != nil {
		return err
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case _, more := <-questions:
			if !more {
				return nil
			}
			if err := encoder.Encode(l.Read()); err != nil {
				return err
			}
		case <-tick.C:
			l.Sample()
		}
	}
}
