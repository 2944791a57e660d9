package carry

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/sys/unix"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
	"vinescale/internal/informants"
)

// The last lines that a workload wrote are told by what keeps them: a container's by its engine, a unit's by the init
// system's journal, a job's by the file that its scheduler writes.

const (
	usualLines   = 50
	mostOfLines  = 1 << 20   // bytes that are read
	mostAnswered = 16 << 20  // bytes of an engine's answer, whose newest lines are last
	mostOfLine   = 2000      // bytes of one
	mostTold     = 256 << 10 // bytes of all that are told
	linesWithin  = 15 * time.Second
)

// line is one that was written.
type line struct{ at, stream, text string }

// planRead plans to read the last lines that a workload, a unit or a job wrote.
func (h *Host) planRead(p *plan, r *act.Request, through string,
	read func(ctx context.Context, n int) ([]line, error)) error {
	p.Undo, p.Through = "", through
	n := usualLines
	if text := r.Settings["lines"]; text != "" {
		n, _ = strconv.Atoi(text) // it was checked
	}
	p.more = func(ctx context.Context, out *act.Outcome) error {
		ctx, cancel := context.WithTimeout(ctx, linesWithin)
		defer cancel()
		lines, err := read(ctx, n)
		if err != nil {
			return err
		}
		lines = lines[max(0, len(lines)-n):]
		first, told := len(lines), 0
		for first > 0 && told+min(len(lines[first-1].text), mostOfLine) <= mostTold {
			first--
			told += min(len(lines[first].text), mostOfLine)
		}
		lines = lines[first:] // the newest that fit
		for _, x := range lines {
			out.Found = append(out.Found, act.Glimpse{Of: cmp.Or(x.stream, "line"), What: x.at, Text: fit(x.text)})
		}
		out.State, out.Detail = act.Done, fmt.Sprintf("the last %d lines; nothing was changed", len(lines))
		if len(lines) == 0 {
			out.Detail = "it wrote nothing that is kept; nothing was changed"
		}
		return nil
	}
	return nil
}

// plain makes of what a process wrote or named something that can be told and stored, without what is no text.
func plain(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\ufffd"), "\x00", "\ufffd")
}

// fit is plain of a line, cut between letters where it is long.
func fit(text string) string {
	text = plain(text)
	if len(text) <= mostOfLine {
		return text
	}
	cut := mostOfLine
	for !utf8.RuneStart(text[cut]) {
		cut--
	}
	return text[:cut]
}

// planReadOf reads what the workload of an aim wrote.
func (h *Host) planReadOf(p *plan, r *act.Request) error {
	w := p.aim.workload
	switch w.Kind {
	case amount.Container:
		id := informants.ContainerID(w.Key)
		if h.Systems.Pods != "" && id != "" {
			c := podRuntime{h.Systems.Pods}
			_, err := c.status(context.Background(), id)
			if err == nil {
				return h.planRead(p, r, c.name(), func(ctx context.Context, n int) ([]line, error) {
					return c.lines(ctx, id, n)
				})
			}
			if !errors.Is(err, errNotIts) && h.Systems.Engine == "" {
				return refuse("the container runtime that pods are run by cannot be asked: %v", err)
			}
		}
		if h.Systems.Engine == "" || id == "" {
			return refuse("no engine or runtime that keeps what it writes is known to this collector")
		}
		e := newEngine(h.Systems.Engine)
		if _, err := e.inspect(context.Background(), id); err != nil {
			return refuse("no engine that keeps what it writes has this container: %v", err)
		}
		return h.planRead(
			p,
			r,
			e.name(),
			func(ctx context.Context, n int) ([]line, error) { return e.lines(ctx, id, n) },
		)
	case amount.Service:
		if name := w.Facts[account.FactUnit]; name != "" {
			return h.planReadUnit(p, r, name, "")
		}
	case amount.Job:
		if id := informants.JobID(w.Key); id != "" && h.Systems.Jobs != "" {
			return h.planReadJob(p, r, id)
		}
	}
	return refuse(
		"nothing is known that keeps what a %s writes: containers of an engine, units and jobs are read",
		w.Kind,
	)
}

func (h *Host) planReadJob(p *plan, r *act.Request, id string) error {
	return h.planRead(p, r, "the batch scheduler", func(ctx context.Context, n int) ([]line, error) {
		return h.jobLines(ctx, id, n)
	})
}

func (h *Host) planReadUnit(p *plan, r *act.Request, name, user string) error {
	return h.planRead(p, r, "the journal", func(ctx context.Context, n int) ([]line, error) {
		return h.journalLines(ctx, name, user, n)
	})
}

// lines asks an engine for the last lines that a container wrote. Where the container has no terminal, what it wrote
// comes in pieces, each behind eight bytes: which stream it is of, and its length.
func (e *engineAPI) lines(ctx context.Context, id string, n int) ([]line, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet,
		fmt.Sprintf("http://engine/containers/%s/logs?stdout=1&stderr=1&timestamps=1&tail=%d", id, n), nil)
	if err != nil {
		return nil, err
	}
	resp, err := e.http.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostAnswered))
	if err != nil {
		return nil, err
	}
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s tells no lines: %s %.200s", e.name(), resp.Status, body)
	}
	var lines []line
	add := func(stream string, text []byte) {
		for _, one := range strings.Split(strings.TrimRight(string(text), "\r\n"), "\n") {
			at, said, is := strings.Cut(one, " ")
			if _, err := time.Parse(time.RFC3339Nano, at); err != nil || !is {
				at, said = "", one
			}
			lines = append(lines, line{at, stream, strings.TrimRight(said, "\r")})
		}
	}
	streams := map[byte]string{0: "input", 1: "output", 2: "errors"}
	for len(body) > 0 {
		if len(body) < 8 || streams[body[0]] == "" || body[1]|body[2]|body[3] != 0 {
			add("", body) // a terminal has one stream, as it came
			break
		}
		long := int(binary.BigEndian.Uint32(body[4:8]))
		end := min(8+long, len(body))
		add(streams[body[0]], body[8:end])
		body = body[end:]
	}
	return lines, nil
}

// journalLines reads the last lines of a unit from the init system's journal (journalctl(1), "json").
func (h *Host) journalLines(ctx context.Context, name, user string, n int) ([]line, error) {
	program := cmp.Or(h.Systems.Journal, "journalctl")
	args := []string{"--no-pager", "--output=json", fmt.Sprintf("--lines=%d", n), "--unit=" + name}
	if user != "" {
		uid, known := h.Users.UID(user)
		if !known {
			return nil, fmt.Errorf("this host has no user %q", user)
		}
		args[3] = "--user-unit=" + name
		args = append(args, fmt.Sprintf("_UID=%d", uid))
	}
	var said bytes.Buffer
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.WaitDelay = 100 * time.Millisecond
	cmd.Stderr = &said
	out, err := cmd.Output()
	if errors.Is(err, exec.ErrNotFound) {
		return nil, errors.New("this host has no journal of its init system that can be read")
	}
	if err != nil {
		first, _, _ := strings.Cut(strings.TrimSpace(said.String()), "\n")
		return nil, fmt.Errorf("the journal cannot be read: %s (%w)", first, err)
	}
	var lines []line
	for _, raw := range bytes.Split(out[max(0, len(out)-mostOfLines):], []byte("\n")) {
		var x struct {
			At      string          `json:"__REALTIME_TIMESTAMP"`
			Message json.RawMessage `json:"MESSAGE"`
		}
		if json.Unmarshal(raw, &x) != nil {
			continue // the first may be cut
		}
		at := ""
		if micros, err := strconv.ParseInt(x.At, 10, 64); err == nil {
			at = time.UnixMicro(micros).UTC().Format(time.RFC3339)
		}
		lines = append(lines, line{at, "", messageOf(x.Message)})
	}
	return lines, nil
}

// messageOf is a message of the journal: a text, or where that is no UTF-8 its bytes as numbers.
func messageOf(raw json.RawMessage) string {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		return text
	}
	var numbers []int
	if json.Unmarshal(raw, &numbers) != nil {
		return ""
	}
	b := make([]byte, len(numbers))
	for i, n := range numbers {
		b[i] = byte(n)
	}
	return string(b)
}

var (
	jobOutput = regexp.MustCompile(`\bStdOut=(\S+)`)
	jobErrors = regexp.MustCompile(`\bStdErr=(\S+)`)
	jobUID    = regexp.MustCompile(`\bUserId=[^(\s]*\((\d+)\)`)
)

// jobLines reads the last lines of the files that a job's output goes to. A job names them itself, so only what is a
// file of its user is read.
func (h *Host) jobLines(ctx context.Context, id string, n int) ([]line, error) {
	shown, err := h.scheduler(ctx, "scontrol", "show", "job", "-o", id)
	if err != nil {
		return nil, err
	}
	uid, err := strconv.ParseUint(first(jobUID, shown), 10, 32)
	if err != nil {
		return nil, errors.New("the scheduler does not say whose job it is")
	}
	output, failed := first(jobOutput, shown), first(jobErrors, shown)
	if output == "" {
		return nil, errors.New("the scheduler does not say where it writes")
	}
	lines, err := tail(output, uint32(uid), "the job's user", "output", n)
	if err != nil {
		return nil, err
	}
	if failed != "" && failed != output {
		more, err := tail(failed, uint32(uid), "the job's user", "errors", n)
		if err != nil {
			return nil, err
		}
		lines = append(lines[max(0, len(lines)-n/2):], more[max(0, len(more)-(n-n/2)):]...)
	}
	return lines, nil
}

// tail reads the last lines of a file of a user, who is called whose.
func tail(path string, uid uint32, whose, stream string, n int) ([]line, error) {
	// Whoever may name the file may put anything there: nothing is followed, and nothing waited for.
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read here: %w", path, err)
	}
	f := os.NewFile(uintptr(fd), path)
	defer f.Close()
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return nil, fmt.Errorf("%s cannot be read here: %w", path, err)
	}
	if st.Mode&unix.S_IFMT != unix.S_IFREG || st.Uid != uid {
		return nil, fmt.Errorf("%s is no file of %s, and is not read", path, whose)
	}
	from := max(0, st.Size-mostOfLines)
	raw := make([]byte, st.Size-from)
	read, err := f.ReadAt(raw, from)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s cannot be read here: %w", path, err)
	}
	text := strings.TrimRight(string(raw[:read]), "\n")
	if text == "" {
		return nil, nil
	}
	var lines []line
	for _, one := range strings.Split(text, "\n") {
		lines = append(lines, line{"", stream, strings.TrimRight(one, "\r")})
	}
	return lines[max(0, len(lines)-n):], nil
}
