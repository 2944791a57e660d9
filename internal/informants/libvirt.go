package informants

import (
	"context"
	"encoding/xml"
	"fmt"
	"net"
	"strconv"
	"strings"

	rpc "github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket/dialers"

	"vinescale/core/account"
	"vinescale/core/amount"
	"vinescale/internal/identify"
)

// libvirt asks the machine manager by its RPC protocol on a local socket; the read-only one is enough.
type libvirt struct{ socket string }

func (l *libvirt) Name() string { return "the machine manager at " + l.socket }

func (l *libvirt) Knows(w account.Workload) bool {
	return w.Kind == amount.VM && w.Facts[identify.FactMachine] != ""
}

func (l *libvirt) Ask(ctx context.Context, about []account.Workload) (map[string]account.Workload, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", l.socket)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	// The library goes on reading after a deadline of the connection, but not after its end.
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	manager := rpc.NewWithDialer(dialers.NewAlreadyConnected(conn))
	if err := manager.ConnectToURI("qemu:///system"); err != nil {
		return nil, fmt.Errorf("open qemu:///system: %w", err)
	}
	defer func() { _ = manager.Disconnect() }() // it may have gone away; the connection is closed either way
	domains, _, err := manager.ConnectListAllDomains(1, rpc.ConnectListDomainsActive)
	if err != nil {
		return nil, fmt.Errorf("list machines: %w", err)
	}
	found := map[string]account.Workload{}
	for _, w := range about {
		for _, d := range domains {
			if strconv.Itoa(int(d.ID)) != w.Facts[identify.FactMachine] {
				continue
			}
			text, err := manager.DomainGetXMLDesc(d, 0)
			if err != nil {
				return nil, fmt.Errorf("describe %s: %w", d.Name, err)
			}
			if found[w.Key], err = ofDomain(text); err != nil {
				return nil, fmt.Errorf("describe %s: %w", d.Name, err)
			}
		}
	}
	return found, nil
}

// domain is what is used of a machine's description (libvirt's "Domain XML format").
type domain struct {
	Name     string `xml:"name"`
	UUID     string `xml:"uuid"`
	Title    string `xml:"title"`
	VCPU     int    `xml:"vcpu"`
	Metadata struct {
		Any []element `xml:",any"`
	} `xml:"metadata"`
	Memory struct {
		Unit string `xml:"unit,attr"`
		Size int64  `xml:",chardata"`
	} `xml:"memory"`
	Pins []struct {
		VCPU   int    `xml:"vcpu,attr"`
		CPUSet string `xml:"cpuset,attr"`
	} `xml:"cputune>vcpupin"`
	Disks []struct {
		Source struct {
			File string `xml:"file,attr"`
			Dev  string `xml:"dev,attr"`
			Name string `xml:"name,attr"`
		} `xml:"source"`
	} `xml:"devices>disk"`
	Interfaces []struct {
		Target struct {
			Dev string `xml:"dev,attr"`
		} `xml:"target"`
	} `xml:"devices>interface"`
}

// element is any element of the metadata, which a site fills as it likes.
type element struct {
	XMLName xml.Name
	Text    string    `xml:",chardata"`
	Any     []element `xml:",any"`
}

// find collects the texts of elements by local name: owner, project and so on, whatever their namespace.
func (e element) find(into map[string]string) {
	if text := strings.TrimSpace(e.Text); text != "" && len(e.Any) == 0 {
		into[e.XMLName.Local] = text
	}
	for _, x := range e.Any {
		x.find(into)
	}
}

func ofDomain(text string) (account.Workload, error) {
	var d domain
	if err := xml.Unmarshal([]byte(text), &d); err != nil {
		return account.Workload{}, err
	}
	labels := map[string]string{}
	for _, e := range d.Metadata.Any {
		e.find(labels)
	}
	w := account.Workload{Name: d.Name, UID: -1, Owner: labels["owner"], Labels: labels, Facts: map[string]string{
		account.FactUUID: d.UUID, account.FactCPUAsked: strconv.Itoa(d.VCPU), account.FactState: "running",
	}}
	per := map[string]int64{"": 1 << 10, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "b": 1,
		"bytes": 1}[d.Memory.Unit]
	if per > 0 && d.Memory.Size > 0 {
		w.Facts[account.FactMemoryAsked] = strconv.FormatInt(d.Memory.Size*per, 10)
	}
	var pins, disks, taps []string
	for _, p := range d.Pins {
		pins = append(pins, fmt.Sprintf("%d: %s", p.VCPU, p.CPUSet))
	}
	for _, x := range d.Disks {
		for _, source := range []string{x.Source.File, x.Source.Dev, x.Source.Name} {
			if source != "" {
				disks = append(disks, source)
			}
		}
	}
	for _, x := range d.Interfaces {
		if x.Target.Dev != "" {
			taps = append(taps, x.Target.Dev)
		}
	}
	w.Facts[account.FactVCPUPins] = strings.Join(pins, "; ")
	w.Facts[account.FactDisks], w.Facts[account.FactTaps] = strings.Join(disks, ", "), strings.Join(taps, ", ")
	return w, nil
}
