package carry_test

import (
	"context"
	"encoding/binary"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/core/account"
	"vinescale/core/act"
	"vinescale/core/amount"
)

func foundIn(out act.Outcome) (list []string) {
	for _, g := range out.Found {
		list = append(list, strings.TrimSpace(g.Of+" "+g.What)+": "+g.Text)
	}
	return list
}

// TestRead_AContainersLinesAreItsEngines stands in for an engine: one container has a terminal, one has none.
func TestRead_AContainersLinesAreItsEngines(t *testing.T) {
	const piped, terminal, many = "aaaa1111", "bbbb2222", "dddd4444"
	piece := func(stream byte, text string) string {
		head := [8]byte{stream}
		binary.BigEndian.PutUint32(head[4:], uint32(len(text)))
		return string(head[:]) + text
	}
	var asked string
	mux := http.NewServeMux()
	for _, id := range []string{piped, terminal, many} {
		mux.HandleFunc("/containers/"+id+"/json", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `{"State":{"Status":"running"}}`)
		})
	}
	mux.HandleFunc("/containers/"+piped+"/logs", func(w http.ResponseWriter, r *http.Request) {
		asked = r.URL.RawQuery
		fmt.Fprint(w, piece(1, "2026-10-11T12:00:00.5Z the must is in\n2026-10-11T12:00:01Z \xff\x00 and 18 °C\n")+
			piece(2, "2026-10-11T12:00:02Z the pump stalls\n"))
	})
	mux.HandleFunc("/containers/"+terminal+"/logs", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "first\r\n"+strings.Repeat("°", 3000)+"\r\n")
	})
	mux.HandleFunc("/containers/"+many+"/logs", func(w http.ResponseWriter, _ *http.Request) {
		for i := range 500 {
			fmt.Fprintf(w, "%d %s\n", i, strings.Repeat("m", 2100))
		}
	})
	s := newScene(t)
	socket := filepath.Join(shortDir(t), "engine.sock")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	server := &httptest.Server{Listener: listener, Config: &http.Server{Handler: mux}}
	server.Start()
	t.Cleanup(server.Close)
	s.options.Systems.Engine = socket
	s.open()
	read := func(id, lines string) act.Outcome {
		key := "container:" + id
		s.known.Workloads[key] = account.Workload{Key: key, Kind: amount.Container, Name: "must"}
		s.runOf(key, "READY; exec sleep 83")
		settings := map[string]string{}
		if lines != "" {
			settings["lines"] = lines
		}
		o := s.order(act.Read, act.Target{Form: act.OfWorkload, Key: key}, settings)
		o.Whose[key] = "Cellar Intake"
		p := s.preview(o)
		assert.Equal(t, []any{"the container engine", "", 0}, []any{p.Through, p.Undo, len(p.Changes)})
		return s.carry(o)
	}
	out := read(piped, "")
	require.Equal(t, act.Done, out.State, "%+v", out)
	assert.Equal(
		t,
		[]string{"output 2026-10-11T12:00:00.5Z: the must is in", "output 2026-10-11T12:00:01Z: \ufffd\ufffd and 18 °C",
			"errors 2026-10-11T12:00:02Z: the pump stalls"},
		foundIn(out),
	)
	assert.Contains(t, asked, "tail=50")
	assert.Equal(t, "the last 3 lines; nothing was changed", out.Detail)
	assert.Equal(t, []string{"errors 2026-10-11T12:00:02Z: the pump stalls"}, foundIn(read(piped, "1")))
	got := foundIn(read(terminal, "9"))
	assert.Equal(t, "line: first", got[0])
	assert.Len(t, got[1], len("line: ")+2000, "a line is cut between letters")
	got = foundIn(read(many, "500"))
	assert.Len(t, got, 131, "no more than a quarter of a mebibyte is told")
	assert.Equal(t, "line: 499 "+strings.Repeat("m", 1996), got[130], "of the newest")
	assert.Len(t, s.alive(), 4, "nothing was touched")

	const gone = "container:cccc3333"
	s.known.Workloads[gone] = account.Workload{Key: gone, Kind: amount.Container, Name: "lees"}
	s.known.Workloads["loose:a"] = account.Workload{Key: "loose:a", Kind: amount.Loose, Name: "a"}
	for key, want := range map[string]string{gone: "no engine",
		"loose:a": "nothing is known that keeps what a loose writes"} {
		s.runOf(key, "READY; exec sleep 84")
		o := s.order(act.Read, act.Target{Form: act.OfWorkload, Key: key}, nil)
		o.Whose[key] = "Cellar Intake"
		_, err := s.host.Preview(context.Background(), o)
		assert.ErrorContains(t, err, want)
	}
}

// TestRead_AUnitsLinesAreTheJournals stands in for the command that reads the journal.
func TestRead_AUnitsLinesAreTheJournals(t *testing.T) {
	s := newScene(t)
	stand := &initStandIn{states: map[string]string{"press.service": "active", "ssh.service": "active"},
		pids: map[string]uint32{}, boots: map[string]string{}}
	s.options.Systems.Bus = startBus(t, stand, "press.service", "ssh.service")
	dir := t.TempDir()
	s.options.Systems.Journal = filepath.Join(dir, "journal")
	put := func(text string) {
		require.NoError(t, os.WriteFile(s.options.Systems.Journal, []byte("#!/bin/sh\n"+text), 0o755))
	}
	put(`echo "$@" > ` + dir + `/asked
echo '{"__REALTIME_TIMESTAMP":"1760184000000000","MESSAGE":"pressing"}'
echo '{"__REALTIME_TIMESTAMP":"1760184001000000","MESSAGE":[103,114,97,112,101,255]}'
echo '{"__REALTIME_TIMESTAMP":"1760184002000000","MESSAGE":null}'`)
	s.open()
	read := func(unit string) (act.Outcome, error) {
		o := s.order(act.Read, act.Target{Form: act.OfUnit, Unit: unit}, map[string]string{"lines": "7"})
		o.Whose["unit:"+unit] = "Label Press"
		if _, err := s.host.Preview(context.Background(), o); err != nil {
			return act.Outcome{}, err
		}
		s.preview(o)
		return s.carry(o), nil
	}
	for _, unit := range []string{"press.service", "ssh.service"} { // reading leaves alone
		out, err := read(unit)
		require.NoError(t, err)
		require.Equal(t, act.Done, out.State, "%+v", out)
		assert.Equal(t, []string{"line 2025-10-11T12:00:00Z: pressing", "line 2025-10-11T12:00:01Z: grape\ufffd",
			"line 2025-10-11T12:00:02Z: "}, foundIn(out))
		asked, err := os.ReadFile(filepath.Join(dir, "asked"))
		require.NoError(t, err)
		assert.Equal(t, "--no-pager --output=json --lines=7 --unit="+unit+"\n", string(asked))
	}
	assert.Empty(t, stand.called())
	put("echo 'No journal files were found.' >&2; exit 1")
	out, err := read("press.service")
	require.NoError(t, err)
	assert.Equal(t, act.Failed, out.State)
	assert.Contains(t, out.Detail, "No journal files were found.")
}

// TestRead_OfAJobOnlyItsUsersFilesAreRead: a job names the files that it writes to itself.
func TestRead_OfAJobOnlyItsUsersFilesAreRead(t *testing.T) {
	s := newScene(t)
	dir := t.TempDir()
	put := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o755))
		return path
	}
	s.options.Systems.Jobs = put("squeue", "#!/bin/sh\nexit 1")
	s.open()
	uid := os.Getuid()
	read := func(uid int, output, failed, lines string) act.Outcome {
		put(
			"scontrol",
			fmt.Sprintf("#!/bin/sh\necho 'JobId=7 UserId=frost(%d) JobState=RUNNING StartTime=now StdErr=%s "+
				"StdIn=/dev/null StdOut=%s'", uid, failed, output),
		)
		o := s.order(act.Read, act.Target{Form: act.OfJob, Job: "7"}, map[string]string{"lines": lines})
		o.Whose["job:7"] = "Frost Watch"
		s.preview(o)
		return s.carry(o)
	}
	output := put("out", "one\ntwo\nthree\nfour\n")
	failed := put("err", "oh\nno\n")
	s.known.Workloads["job:7"] = account.Workload{Key: "job:7", Kind: amount.Job, Name: "job 7"}
	s.runOf("job:7", "READY; exec sleep 85")
	assert.Equal(t, []string{"output: three", "output: four"}, foundIn(read(uid, output, output, "2")))
	assert.Equal(t, []string{"output: three", "output: four", "errors: oh", "errors: no"},
		foundIn(read(uid, output, failed, "4")))
	assert.Equal(t, "it wrote nothing that is kept; nothing was changed", read(uid, put("none", ""), "", "4").Detail)
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink(output, link))
	for why, out := range map[string]act.Outcome{
		"another's":   read(uid+1, output, "", "4"),
		"a link":      read(uid, link, "", "4"),
		"no file":     read(uid, dir, "", "4"),
		"not there":   read(uid, filepath.Join(dir, "nowhere"), "", "4"),
		"not told":    read(uid, "", "", "4"),
		"its errors'": read(uid, output, link, "4"),
	} {
		assert.Equal(t, act.Failed, out.State, why)
		assert.Empty(t, out.Found, why)
	}
}
