package identify_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"vinescale/internal/identify"
)

func TestScript_IsWhatAPersonWouldCallWhatAnInterpreterRuns(t *testing.T) {
	for line, want := range map[string]string{
		"python3.11 /srv/frost/nightly.py --all":  "nightly.py",
		"python3 -u -W ignore nightly.py":         "nightly.py",
		"python3 -m http.server 8000":             "http.server",
		"python3 -c print(1) x.py":                "",
		"python3 -":                               "",
		"python3":                                 "",
		"perl -w -I lib /opt/prune.pl":            "prune.pl",
		"perl -e 1 prune.pl":                      "",
		"bash /usr/local/bin/close-the-day":       "close-the-day",
		"bash -x ./close-the-day 1":               "close-the-day",
		"sh -c sleep":                             "",
		"bash -i":                                 "",
		"bash":                                    "",
		"zsh +x lees":                             "lees",
		"node --max-old-space-size=1 -r x api.js": "api.js",
		"node -p 1+1":                             "",
		"ruby -- -odd.rb":                         "-odd.rb",
		"java -Xmx1g -cp a.jar:b.jar coop.press.Solver go": "Solver",
		"java -jar /opt/press/solver.jar":                  "solver.jar",
		"php -d x=1 /srv/label.php":                        "label.php",
		"/usr/sbin/postgres -D data":                       "",
		"python3 /":                                        "",
	} {
		words := strings.Fields(line)
		program := words[0][strings.LastIndexByte(words[0], '/')+1:]
		assert.Equal(t, want, identify.Script(program, []byte(strings.Join(words, "\x00")+"\x00")), line)
	}
	assert.Empty(t, identify.Script("python3", nil))
	assert.False(t, identify.IsInterpreter("pythonista"))
	assert.True(t, identify.IsInterpreter("python3.11"))
}
