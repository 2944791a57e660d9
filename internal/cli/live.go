package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vinescale/internal/api"
	"vinescale/internal/client"
	"vinescale/internal/hub"
	"vinescale/internal/sheet"
)

// usualLive is the pace of --live without one.
const usualLive = "5s"

// frameLag is how long after the full second a question is asked: the readings of that second have come by then.
const frameLag = 450 * time.Millisecond

// longestLive is the longest span that live frames answer for; a longer one is of the book, asked for anew.
const longestLive = 15 * time.Minute

// notFollowed are the commands that nobody follows: they take long, stay as they are, or change something.
var notFollowed = []string{"verify", "measures", "collect", "config", "reapply"}

// follows adds --live to every command below one that lists what a service answers.
func follows(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		follows(c)
	}
	f := cmd.Flags()
	isAct := f.Lookup("yes") != nil // which would be done again and again
	if f.Lookup("as") == nil || f.Lookup("service") == nil || cmd.RunE == nil || isAct ||
		slices.Contains(notFollowed, cmd.Name()) {
		return
	}
	followed(cmd, "follow it at this pace, from --live=1s to --live=1m (5s if none is given): live frames answer, of "+
		"the newest ticks or of --span up to 15m; ends with Ctrl+C")
}

// followHere adds --live to a command that reads this host itself. At its end it is closed.
func followHere(cmd *cobra.Command, closed func()) {
	followed(cmd, "go on at this pace, from --live=1s to --live=1m (5s if none is given); ends with Ctrl+C")
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		defer closed()
		return run(cmd, args)
	}
}

func followed(cmd *cobra.Command, help string) {
	cmd.Flags().String("live", "", help)
	cmd.Flags().Lookup("live").NoOptDefVal = usualLive
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if !cmd.Flags().Changed("live") {
			return run(cmd, args)
		}
		l, err := newFollowing(cmd, args, run)
		if err != nil {
			return err
		}
		return l.follow(cmd.Context())
	}
}

// liveQuery is what a command that is followed adds to its questions; nil where live frames do not answer them.
func liveQuery(cmd *cobra.Command) url.Values {
	f := cmd.Flags().Lookup("live")
	if f == nil || f.Value.String() == "" {
		return nil
	}
	if s := cmd.Flags().Lookup("span"); s != nil {
		if length, err := sheet.ParseSpan(s.Value.String()); err == nil && length > longestLive {
			return nil
		}
	}
	return url.Values{"live": {f.Value.String()}}
}

// following is a command that is run again and again.
type following struct {
	cmd  *cobra.Command
	args []string
	run  func(*cobra.Command, []string) error
	pace time.Duration
	as   string
	out  io.Writer
	to   *client.Client // nil where this host is read without a service
	host string

	window func() (width, height int, isWindow bool)
	headed bool // the head of a CSV was printed
}

func newFollowing(cmd *cobra.Command, args []string, run func(*cobra.Command, []string) error) (*following, error) {
	l := &following{cmd: cmd, args: args, run: run, out: cmd.OutOrStdout(), as: cmd.Flag("as").Value.String(),
		window: func() (int, int, bool) { return 0, 0, false }}
	var err error
	if l.pace, err = sheet.ParseSpan(cmd.Flag("live").Value.String()); err != nil || l.pace < hub.FastestPace ||
		l.pace > hub.SlowestPace {
		return nil, usagef("--live %s: give a pace from 1s to 1m", cmd.Flag("live").Value)
	}
	for _, name := range []string{"from", "to"} {
		if f := cmd.Flag(name); f != nil && f.Changed {
			return nil, usagef("--live follows what is now: leave out --%s", name)
		}
	}
	if cmd.Flag("service") != nil {
		if l.to, err = dial(cmd); err != nil {
			return nil, err
		}
	}
	if f := cmd.Flag("host"); f != nil {
		l.host = f.Value.String()
	}
	if file, is := l.out.(*os.File); is && l.as == "table" {
		l.window = func() (int, int, bool) {
			width, height, err := term.GetSize(int(file.Fd()))
			return width, height, err == nil && width > 0 && height > 1
		}
	}
	if l.as == "jsonl" { // an object a frame
		if err := cmd.Flags().Set("as", "json"); err != nil {
			return nil, err
		}
	}
	return l, nil
}

// follow shows frames until the context ends, or a condition that was asked for is true. A service that does not answer
// for a while is waited for, but not at first.
func (l *following) follow(ctx context.Context) error {
	_, _, isWindow := l.window()
	if isWindow { // a screen of its own, without a cursor, which leaves what was there before as it was
		fmt.Fprint(l.out, "\x1b[?1049h\x1b[?25l")
	}
	var last []byte
	leave := func() {
		if isWindow {
			fmt.Fprint(l.out, "\x1b[?25h\x1b[?1049l")
			l.out.Write(last) // what was seen last stays to be read
		}
	}
	for isFirst := true; ; isFirst = false {
		at := time.Now()
		frame, err := l.frame()
		if l.to == nil { // it is of now, and at first took as long as the pace
			at = time.Now()
		}
		switch {
		case ctx.Err() != nil:
			leave()
			return nil
		case errors.Is(err, errCondition):
			last = frame
			if leave(); !isWindow {
				err = errors.Join(err, l.show(frame, at, nil))
			}
			return err
		case err != nil && isFirst:
			leave()
			return err
		}
		if err == nil {
			last = frame
		}
		if err := l.show(frame, at, err); err != nil { // whoever read it has gone
			return nil
		}
		select {
		case <-ctx.Done():
			leave()
			return nil
		case <-time.After(time.Until(l.next(at))):
		}
	}
}

// next is when the frame after one is shown: frames of hosts come at full seconds, and this host is read at any time.
func (l *following) next(at time.Time) time.Time {
	if l.to == nil {
		return at.Add(l.pace)
	}
	return time.Now().Add(-frameLag).Truncate(l.pace).Add(l.pace + frameLag)
}

// frame runs the command once, and returns what it printed.
func (l *following) frame() ([]byte, error) {
	var out bytes.Buffer
	l.cmd.SetOut(&out)
	defer l.cmd.SetOut(l.out)
	err := l.run(l.cmd, l.args)
	return out.Bytes(), err
}

// show prints a frame, or why there is none.
func (l *following) show(frame []byte, at time.Time, trouble error) error {
	if trouble != nil {
		if _, _, isWindow := l.window(); !isWindow {
			fmt.Fprintf(l.cmd.ErrOrStderr(), "vinescale: %v; trying again\n", trouble)
			return nil
		}
	}
	switch l.as {
	case "json", "jsonl":
		return l.object(frame, at)
	case "csv":
		return l.rows(string(frame), at)
	}
	if width, height, isWindow := l.window(); isWindow {
		_, err := io.WriteString(l.out, l.screenful(string(frame), at, trouble, width, height))
		return err
	}
	_, err := fmt.Fprintf(l.out, "%s\n%s\n", at.Format(time.DateTime), frame)
	return err
}

// object prints a frame as a JSON object on a line of its own.
func (l *following) object(frame []byte, at time.Time) error {
	line, err := json.Marshal(struct {
		At     time.Time       `json:"at"`
		Answer json.RawMessage `json:"answer"`
	}{at.UTC().Truncate(time.Millisecond), frame})
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(l.out, "%s\n", line)
	return err
}

// rows prints a frame as rows of CSV that begin with its time. Their head is printed once.
func (l *following) rows(frame string, at time.Time) error {
	head, rows, _ := strings.Cut(frame, "\n")
	if !l.headed {
		l.headed = true
		if _, err := fmt.Fprintf(l.out, "at,%s\n", head); err != nil {
			return err
		}
	}
	stamp := at.UTC().Format(time.RFC3339)
	for row := range strings.Lines(rows) {
		if _, err := fmt.Fprintf(l.out, "%s,%s", stamp, row); err != nil {
			return err
		}
	}
	return nil
}

// screenful is a frame as it fits into a window. It overwrites what is there line by line, so that nothing flickers.
func (l *following) screenful(frame string, at time.Time, trouble error, width, height int) string {
	head := fmt.Sprintf("%s  every %s%s", shownAt(at, time.TimeOnly), sheet.SpanText(l.pace), l.costs())
	if liveQuery(l.cmd) == nil {
		head = fmt.Sprintf("%s  of the book, asked for every %s", shownAt(at, time.TimeOnly), sheet.SpanText(l.pace))
	}
	head += "  ·  Ctrl+C ends"
	lines := strings.Split(strings.TrimRight(frame, "\n"), "\n")
	if trouble != nil {
		lines = append([]string{fmt.Sprintf("not answered: %v; trying again", trouble), ""}, lines...)
	}
	room := height - 2
	if room > 0 && len(lines) > room {
		left := len(lines) - room + 1
		lines = append(lines[:room-1:room-1], fmt.Sprintf("… %d more lines: a larger window shows them", left))
	}
	var b strings.Builder
	b.WriteString("\x1b[H")
	for i, line := range append([]string{head, ""}, lines...) {
		if i == height {
			break
		}
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(runewidth.Truncate(strings.TrimRight(line, "\r"), width, "…") + "\x1b[K")
	}
	b.WriteString("\x1b[J")
	return b.String()
}

// costs says how hosts are read for those who look, where the service tells.
func (l *following) costs() string {
	if l.to == nil {
		return ""
	}
	var p api.LivePace
	q := url.Values{}
	if l.host != "" {
		q.Set("host", l.host)
	}
	if l.to.Get(l.cmd.Context(), api.Prefix+"/pace", q, &p) != nil {
		return ""
	}
	if p.Hosts == 0 {
		return "  ·  no live frames have come yet: hosts tell them every few seconds"
	}
	hosts := "1 host is"
	if p.Hosts != 1 {
		hosts = fmt.Sprintf("%d hosts are", p.Hosts)
	}
	return fmt.Sprintf("  ·  %s read every %s, for %.3f CPUs", hosts,
		sheet.SpanText(time.Duration(p.TickSeconds*float64(time.Second))), p.ReadingCores)
}
