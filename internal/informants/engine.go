package informants

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"

	"vinescale/core/account"
	"vinescale/core/amount"
)

// engine asks a container engine that keeps labels behind its own local API: the HTTP interface on a unix socket that
// several engines serve alike (GET /containers/json), and where there is one the wider form (GET
// /libpod/containers/json).
type engine struct {
	socket string
	http   *http.Client
}

func newEngine(socket string) *engine { return &engine{socket, EngineClient(socket)} }

// EngineClient calls the HTTP interface of an engine on its socket, whatever host an address names.
func EngineClient(socket string) *http.Client {
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", socket)
	}
	return &http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true}}
}

func (e *engine) Name() string { return "the container engine at " + e.socket }

func (e *engine) Knows(w account.Workload) bool { return w.Kind == amount.Container }

// engineContainer is one entry of the list, in both forms.
type engineContainer struct {
	ID       string            `json:"Id"`
	Names    []string          `json:"Names"`
	Image    string            `json:"Image"`
	Labels   map[string]string `json:"Labels"`
	State    string            `json:"State"`
	ExitCode *int              `json:"ExitCode"`
	Pod      string            `json:"Pod"`
	PodName  string            `json:"PodName"`
	Restarts int               `json:"Restarts"`
}

func (e *engine) Ask(ctx context.Context, about []account.Workload) (map[string]account.Workload, error) {
	list, err := e.list(ctx, "/v4.0.0/libpod/containers/json?all=true")
	if err != nil {
		if list, err = e.list(ctx, "/containers/json?all=1"); err != nil {
			return nil, err
		}
	}
	byID := map[string]*engineContainer{}
	pods := map[string]string{}
	for i := range list {
		byID[list[i].ID] = &list[i]
		pods[list[i].Pod] = list[i].PodName
	}
	found := map[string]account.Workload{}
	for _, w := range about {
		if pod := strings.TrimPrefix(w.Key, "pod:"); pod != w.Key && pods[pod] != "" {
			found[w.Key] = account.Workload{Name: "pod " + pods[pod], UID: -1,
				Facts: map[string]string{account.FactPod: pods[pod]}}
		} else if c := byID[ContainerID(w.Key)]; c != nil {
			found[w.Key] = c.workload()
		}
	}
	return found, nil
}

func (c *engineContainer) workload() account.Workload {
	w := account.Workload{UID: -1, Labels: c.Labels, Owner: c.Labels["org.vinescale.owner"], Facts: map[string]string{
		account.FactImage: c.Image, account.FactState: strings.ToLower(c.State), account.FactPod: c.PodName,
	}}
	if len(c.Names) > 0 {
		w.Name = strings.TrimPrefix(c.Names[0], "/")
	}
	if c.Pod != "" {
		w.Outer = "pod:" + c.Pod
	}
	if c.Restarts > 0 {
		w.Facts[account.FactRestarts] = strconv.Itoa(c.Restarts)
	}
	if c.ExitCode != nil && (c.State == "exited" || c.State == "stopped") {
		w.Facts[account.FactExit] = ending(*c.ExitCode, "")
	}
	return w
}

// longestAnswer bounds what is read of an engine: ten thousand containers take about 20 MB.
const longestAnswer = 64 << 20

func (e *engine) list(ctx context.Context, path string) ([]engineContainer, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://engine"+path, nil)
	if err != nil {
		return nil, err
	}
	resp, err := e.http.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("list containers: %s", resp.Status)
	}
	var list []engineContainer
	if err := json.NewDecoder(io.LimitReader(resp.Body, longestAnswer)).Decode(&list); err != nil {
		return nil, fmt.Errorf("list containers: %w", err)
	}
	return list, nil
}
