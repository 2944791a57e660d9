package identify

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"
)

// interpreters are programs whose name says nothing of what they run.
var interpreters = regexp.MustCompile(
	`^(python|pypy|perl|ruby|node|nodejs|bash|sh|dash|zsh|ksh|php|lua|luajit|Rscript|tclsh|java)[0-9.]*$`)

// IsInterpreter tells programs that are known by what they are given to run.
func IsInterpreter(program string) bool { return interpreters.MatchString(program) }

type optionsOf struct {
	of                    string
	value, command, names []string
}

// options of interpreters, by what their names begin with: those whose value is the next argument; those after which a
// command stands, or after which none is named; and those after which the name of what is run stands.
var options = []optionsOf{
	{"py", []string{"-W", "-X"}, []string{"-c"}, []string{"-m"}},
	{"perl", []string{"-I"}, []string{"-e", "-E"}, nil},
	{"ruby", []string{"-I", "-r"}, []string{"-e"}, nil},
	{"node", []string{"-r", "--require"}, []string{"-e", "--eval", "-p", "--print"}, nil},
	{"php", []string{"-d", "-c"}, []string{"-r"}, []string{"-f"}},
	{"lua", []string{"-l"}, []string{"-e"}, nil},
	{"Rscript", nil, []string{"-e"}, nil},
	{"java", []string{"-cp", "-classpath", "--class-path", "-p", "--module-path"}, nil,
		[]string{"-jar", "-m", "--module"}},
	{"", nil, []string{"-c", "-s", "-i"}, nil}, // shells
}

// Script is what an interpreter runs, by its command line: the name of a file, of a module, or of a class. It is "" for
// commands that are given there, for what is read from standard input, and where the line does not tell.
func Script(program string, cmdline []byte) string {
	if !IsInterpreter(program) {
		return ""
	}
	known := slices.IndexFunc(options, func(o optionsOf) bool { return strings.HasPrefix(program, o.of) })
	o := &options[known]
	words := bytes.Split(bytes.TrimRight(cmdline, "\x00"), []byte{0})
	for i := 1; i < len(words); i++ {
		word, next := string(words[i]), ""
		if i+1 < len(words) {
			next = string(words[i+1])
		}
		switch {
		case word == "" || word == "-" || slices.Contains(o.command, word):
			return ""
		case word == "--" || slices.Contains(o.names, word):
			return named(next)
		case slices.Contains(o.value, word):
			i++
		case strings.HasPrefix(word, "-") || o.of == "" && strings.HasPrefix(word, "+"):
		case o.of == "java":
			return named(word[strings.LastIndexByte(word, '.')+1:])
		default:
			return named(word)
		}
	}
	return ""
}

// named is a file's own name, as far as it has one.
func named(word string) string {
	name := path.Base(word)
	if word == "" || name == "/" || name == "." || name == ".." {
		return ""
	}
	return sound(name)
}
