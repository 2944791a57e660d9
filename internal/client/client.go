// Package client calls the service's network interface, for the commands and the collector.
//
// It imports nothing of the project but internal/wire. Start with New.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"vinescale/internal/wire"
)

// Client calls one service.
type Client struct {
	base  *url.URL
	token string
	http  *http.Client
	more  url.Values // of every question
}

// Problem is an error the service answered, by RFC 9457.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
	} `json:"errors"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if s == "" {
		s = p.Title
	}
	for _, e := range p.Errors {
		s += "\n  " + e.Location + ": " + e.Message
	}
	return s
}

// New makes a client of the service at a URL such as http://127.0.0.1:7470.
func New(service, token string) (*Client, error) {
	u, err := url.Parse(service)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("service address %q: write it as http://HOST:PORT or https://HOST", service)
	}
	return &Client{base: u, token: token, http: &http.Client{Timeout: 60 * time.Second}}, nil
}

// Transport makes the client send by something else than the network, as tests do.
func (c *Client) Transport(t http.RoundTripper) { c.http.Transport = t }

// Always adds parameters to the query of whatever is asked with Get.
func (c *Client) Always(query url.Values) { c.more = query }

// Get asks for path with a query and decodes the answer into out.
func (c *Client) Get(ctx context.Context, path string, query url.Values, out any) error {
	_, err := c.GetBeside(ctx, path, query, out)
	return err
}

// GetBeside is Get, and also returns what the answer says by its headers.
func (c *Client) GetBeside(ctx context.Context, path string, query url.Values, out any) (http.Header, error) {
	if len(c.more) > 0 {
		all := maps.Clone(c.more)
		maps.Copy(all, query)
		query = all
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return c.do(ctx, http.MethodGet, path, "", "", nil, out)
}

// Send sends body as JSON (none for nil) and decodes the answer into out (not for nil).
func (c *Client) Send(ctx context.Context, method, path string, body, out any) error {
	var b []byte
	if body != nil {
		var err error
		if b, err = json.Marshal(body); err != nil {
			return err
		}
	}
	_, err := c.do(ctx, method, path, "application/json", "", b, out)
	return err
}

// SendBatch sends an encoded batch.
func (c *Client) SendBatch(ctx context.Context, encoded []byte, out any) error {
	_, err := c.do(ctx, http.MethodPost, "/api/v1/intervals", wire.TypeProtobuf, "zstd", encoded, out)
	return err
}

// SendNotices sends news of a host's workloads, as protobuf.
func (c *Client) SendNotices(ctx context.Context, encoded []byte) error {
	_, err := c.do(ctx, http.MethodPost, "/api/v1/notices", wire.TypeProtobuf, "", encoded, nil)
	return err
}

// SendFrame sends an encoded frame: a batch of one interval, which is one tick.
func (c *Client) SendFrame(ctx context.Context, encoded []byte, out any) error {
	_, err := c.do(ctx, http.MethodPost, "/api/v1/frames", wire.TypeProtobuf, "zstd", encoded, out)
	return err
}

// Orders asks for orders to this host, and waits for some seconds where there are none. The nonce is to be a new one
// for each call.
func (c *Client) Orders(ctx context.Context, nonce string, wait time.Duration, out any) error {
	q := url.Values{"nonce": {nonce}, "wait": {strconv.Itoa(int(wait.Seconds()))}}
	_, err := c.do(ctx, http.MethodGet, "/api/v1/orders?"+q.Encode(), "", "", nil, out)
	return err
}

// Report says what came of an order.
func (c *Client) Report(ctx context.Context, id string, report any) error {
	return c.Send(ctx, http.MethodPost, "/api/v1/orders/"+url.PathEscape(id), report, nil)
}

func (c *Client) do(ctx context.Context, method, path, contentType, encoding string, body []byte,
	out any) (http.Header, error) {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimRight(c.base.String(), "/")+path,
		bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	if body != nil {
		req.Header.Set("Content-Type", contentType)
	}
	if encoding != "" {
		req.Header.Set("Content-Encoding", encoding)
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, c.unreachable(err)
	}
	defer resp.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(resp.Body, 256<<20))
	if err != nil {
		return nil, fmt.Errorf("the answer of %s broke off: %w", c.base.Host, err)
	}
	if resp.StatusCode >= 300 {
		p := &Problem{Status: resp.StatusCode, Title: resp.Status}
		if json.Unmarshal(answer, p) != nil || p.Detail == "" && p.Title == "" {
			p.Detail = fmt.Sprintf("%s answered %s: is a vinescale service there?", c.base.Host, resp.Status)
		}
		return nil, p
	}
	if out == nil || len(answer) == 0 {
		return resp.Header, nil
	}
	if err := json.Unmarshal(answer, out); err != nil {
		return nil, fmt.Errorf(
			"the answer of %s is not what this client expects (%w): is it a vinescale service of the same version?",
			c.base.Host, err)
	}
	return resp.Header, nil
}

func (c *Client) unreachable(err error) error {
	var op *net.OpError
	if errors.As(err, &op) && op.Op == "dial" {
		return fmt.Errorf(
			"no service answers at %s (%w): is \"vinescale serve\" running there? Name another with --service",
			c.base.Host, op.Err)
	}
	return fmt.Errorf("call %s: %w", c.base.Host, err)
}
