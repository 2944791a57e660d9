// Command screenshots takes the pictures in docs/screenshots of a running demo: its pages in a browser, its commands in
// a terminal window. Run it with "make screenshots".
package main

import (
	"context"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"vinescale/internal/browser"
)

func main() {
	if len(os.Args) < 2 {
		log.Fatal("usage: screenshots DIRECTORY [NAME …]")
	}
	if err := run(os.Args[1], os.Args[2:]); err != nil {
		log.Fatal(err)
	}
}

var ready = regexp.MustCompile(`(?s)console +(http://\S+).*sign in +(vs_\w+).*Ctrl-C`)

// run starts a demo, takes the pictures wanted (all when none is named) and ends the demo.
func run(dir string, names []string) error {
	data, err := os.MkdirTemp("", "coop-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	if err := os.Chmod(data, 0o711); err != nil {
		return err
	}
	os.Setenv("COOP", filepath.Join(data, "stage"))
	demo := exec.Command("bin/vinescale", "demo", "--data", data)
	demo.Stderr = os.Stderr
	out, err := demo.StdoutPipe()
	if err != nil {
		return err
	}
	if err := demo.Start(); err != nil {
		return err
	}
	defer func() { demo.Process.Signal(os.Interrupt); demo.Wait() }()
	var said []byte
	for buf := make([]byte, 4096); ready.FindSubmatch(said) == nil; {
		n, err := out.Read(buf)
		if err != nil {
			return fmt.Errorf("the demo ended: %w\n%s", err, said)
		}
		said = append(said, buf[:n]...)
	}
	m := ready.FindSubmatch(said)
	service, token := string(m[1]), string(m[2])
	os.Setenv("VINESCALE_SERVICE", service)
	os.Setenv("VINESCALE_TOKEN", token)
	time.Sleep(70 * time.Second) // until the live collectors have sent their first minute
	want := func(name string) bool { return len(names) == 0 || slices.Contains(names, name) }
	if err := pages(service, token, dir, want); err != nil {
		return err
	}
	return terminals(dir, want)
}

func pages(service, token, dir string, want func(string) bool) error {
	b, done, err := browser.Open(context.Background())
	if err != nil {
		return err
	}
	defer done()
	if err := b.SignIn(service, token); err != nil {
		return err
	}
	id, err := exec.Command("bin/vinescale", "find", "job 5201", "--host", "press-1", "--columns", "id", "--first",
		"1", "--as", "csv").Output()
	if err != nil {
		return fmt.Errorf("find a workload: %w", err)
	}
	workload := strings.Fields(string(id))[1]
	cache, err := exec.Command("bin/vinescale", "find", "weather-cache", "--columns", "id", "--first", "1", "--as",
		"csv").Output()
	if err != nil {
		return fmt.Errorf("find a workload: %w", err)
	}
	menu := []string{`button[aria-label="Act on weather-cache"]`, `[role=menuitem]:nth-child(2)`}
	for _, p := range []struct {
		name, path, text, theme string
		clicks                  []string
	}{
		{"balance", "/", "The hosts under it", "light", nil},
		{"act", "/workloads/" + strings.Fields(string(cache))[1], "Whose it is", "dark", menu},
		{"host", "/hosts/cellar-1", "curd-fermentlog", "light", nil},
		{"tenant", "/tenants/Cellar%20Intake", "must-intake-1", "light", nil},
		{"workload", "/workloads/" + workload, "Whose it is", "light", nil},
		{"disks", "/disks", "Storage", "light", nil},
		{"network", "/network", "Residual", "light", nil},
		{"gpus", "/gpus", "Cooper Vine", "light", nil},
		{"rules", "/rules", "the unit journal.service", "light", nil},
		{"workloads", "/workloads?by=tenant", "Label Press", "light", nil},
		{"folio", "/folios/fleet", "Tenants against quotas", "light", nil},
		{"plan", "/plan?cpus=4&holder=Bottling%20Line", "Had it been so", "light", nil},
		{"statement", "/statements/Frost%20Watch?window=last", "SHA-256", "light", []string{paper}},
		{"placement", "/hosts/cellar-1?span=24h#went-title", "Bottling Line on", "light", nil},
	} {
		if !want(p.name) {
			continue
		}
		if _, err := browser.Eval[bool](b, fmt.Sprintf("(localStorage.setItem('vinescale-theme', %q), true)",
			p.theme)); err != nil {
			return err
		}
		if err := b.Go(service + p.path); err != nil {
			return err
		}
		if err := b.WaitText(p.text); err != nil {
			return err
		}
		isPaper := slices.Contains(p.clicks, paper)
		if err := asPaper(b, isPaper); err != nil {
			return err
		}
		for _, c := range p.clicks {
			if isPaper {
				break
			}
			if err := b.Click(c); err != nil {
				return err
			}
		}
		time.Sleep(1500 * time.Millisecond) // fonts, and the last answers
		png, err := b.Picture()
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(dir, p.name+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// paper, in place of what is clicked, has a page shown as it is printed.
const paper = "on paper"

// asPaper shows a page as on A4, within its margins, or as usual.
func asPaper(b *browser.Browser, isPaper bool) error {
	width, height := int64(1280), int64(800)
	if isPaper {
		width, height = 680, 1000
	}
	if err := b.Resize(width, height); err != nil {
		return err
	}
	return b.Print(isPaper)
}

// terminals runs commands in a terminal window on a screen that nobody sees, and takes pictures of it.
func terminals(dir string, want func(string) bool) error {
	const display = ":97"
	screen := exec.Command("Xvfb", display, "-screen", "0", "1280x800x24")
	if err := screen.Start(); err != nil {
		return fmt.Errorf("start a screen (is xvfb installed?): %w", err)
	}
	defer func() { screen.Process.Kill(); screen.Wait() }()
	time.Sleep(time.Second)
	for _, c := range []struct {
		name     string
		commands []string
		seconds  int
	}{
		{"weigh", []string{"vinescale weigh --over 10s --host cellar-1 --root $COOP/cellar-1",
			"vinescale weigh --over 10s --host press-1 --root $COOP/press-1 --of memory --by user"}, 23},
		{"command-balance", []string{"vinescale balance --of cpu", "vinescale balance --of disk"}, 3},
		{"command-act", []string{"vinescale act cap weather-cache --cpu 1.5 --memory 8GiB --preview",
			"vinescale act pause weather-cache --preview", "vinescale acts"}, 4},
		{"command-live", []string{"vinescale live cellar-1 --pace 1s"}, 14},
		{"command-pins", []string{"vinescale pins --span 10m | head -14",
			"vinescale pins --span 1h --host press-1 | tail -22"}, 3},
	} {
		if !want(c.name) {
			continue
		}
		term := exec.Command("xterm", "-display", display, "-geometry", "158x48+0+0", "-fa", "DejaVu Sans Mono", "-fs",
			"10", "-bg", "#faf8f2", "-fg", "#1d2320",
			"-e", "sh", "-c", shown(c.commands)+"sleep 60")
		if err := term.Start(); err != nil {
			return fmt.Errorf("start a terminal (is xterm installed?): %w", err)
		}
		time.Sleep(time.Duration(c.seconds) * time.Second)
		err := exec.Command("import", "-display", display, "-window", "root", filepath.Join(dir, c.name+".png")).Run()
		term.Process.Kill()
		term.Wait()
		if err != nil {
			return fmt.Errorf("take a picture of the screen (is imagemagick installed?): %w", err)
		}
	}
	return nil
}

// shown is a shell script that prints each command before it runs it.
func shown(commands []string) string {
	script := "PATH=$PWD/bin:$PATH; "
	for _, c := range commands {
		script += fmt.Sprintf("echo '$ %s'; %s; echo; ", c, c)
	}
	return script
}
