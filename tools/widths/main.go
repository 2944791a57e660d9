// Command widths fails on lines of more than 120 columns, where a tab has four, and names them.
//
// It reads the files that it is given. Left out are files that are generated, tables and pictures of Markdown, and
// migrations that have landed, which are never changed. The console's files are held to the same width by their own
// formatter, which lets texts that cannot be broken stand.
package main

import (
	"bufio"
	"fmt"
	"os"
	"regexp"
	"strings"
	"unicode/utf8"
)

const (
	most = 120
	tab  = 4
)

var (
	leftOut   = regexp.MustCompile(`\.pb\.go$|_bpfel\.go$|migrations/0000[123]_`)
	unbroken  = regexp.MustCompile(`^(\||!\[|\[[^]]*\]: )`) // of Markdown
	generated = "// Code generated "
)

func main() {
	bad := 0
	for _, file := range os.Args[1:] {
		if leftOut.MatchString(file) {
			continue
		}
		n, err := tooWide(file)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		bad += n
	}
	if bad > 0 {
		fmt.Printf("%d lines of more than %d columns: wrap them\n", bad, most)
		os.Exit(1)
	}
}

// tooWide prints the lines of a file that are too wide, and counts them.
func tooWide(file string) (bad int, err error) {
	f, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	in := bufio.NewScanner(f)
	in.Buffer(nil, 1<<20)
	for n := 1; in.Scan(); n++ {
		line := in.Text()
		if n == 1 && strings.HasPrefix(line, generated) {
			return 0, nil
		}
		width := utf8.RuneCountInString(line) + (tab-1)*strings.Count(line, "\t")
		if width > most && !(strings.HasSuffix(file, ".md") && unbroken.MatchString(line)) {
			fmt.Printf("%s:%d: %d columns\n", file, n, width)
			bad++
		}
	}
	return bad, in.Err()
}
