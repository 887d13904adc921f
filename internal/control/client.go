package control

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
)

// Client talks to a larder over its control socket.
type Client struct {
	path string
	http *http.Client
}

// NewClient makes a client for the socket at path. Nothing is sent yet.
func NewClient(path string) *Client {
	return &Client{path: path, http: &http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "unix", path)
		},
	}}}
}

func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	resp, err := c.open(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("the larder's answer to %s is not understood: %w", path, err)
	}
	return nil
}

func (c *Client) open(ctx context.Context, method, path string, in any) (*http.Response, error) {
	body, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	if in == nil {
		body = nil
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://larder"+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("no larder answers at %s: %w", c.path, err)
	}
	if resp.StatusCode == http.StatusOK {
		return resp, nil
	}
	defer resp.Body.Close()
	var p Problem
	if err := json.NewDecoder(resp.Body).Decode(&p); err != nil || p.Problem == "" {
		return nil, fmt.Errorf("the larder answers %s to %s", resp.Status, path)
	}
	return nil, errors.New(p.Problem)
}

// Status asks for the larder as a whole.
func (c *Client) Status(ctx context.Context) (s Status, err error) {
	return s, c.do(ctx, "GET", "/v1/status", nil, &s)
}

// Patterns asks for all patterns, those with the most waiting to be spared first.
func (c *Client) Patterns(ctx context.Context) (p []Pattern, err error) {
	return p, c.do(ctx, "GET", "/v1/patterns", nil, &p)
}

// Pattern asks for one pattern in full.
func (c *Client) Pattern(ctx context.Context, id string) (p Pattern, err error) {
	return p, c.do(ctx, "GET", "/v1/patterns/"+id, nil, &p)
}

// PutRule makes or replaces the rule for a pattern.
func (c *Client) PutRule(ctx context.Context, r Rule) error {
	return c.do(ctx, "PUT", "/v1/rules/"+r.Pattern, r, &Rule{})
}

// RemoveRule removes the rule for a pattern.
func (c *Client) RemoveRule(ctx context.Context, id string) error {
	return c.do(ctx, "DELETE", "/v1/rules/"+id, nil, &struct{}{})
}

// Drop takes results out and gives their number.
func (c *Client) Drop(ctx context.Context, d Drop) (int, error) {
	var out Dropped
	err := c.do(ctx, "POST", "/v1/drop", d, &out)
	return out.Results, err
}

// Hold switches all keeping off, or on again.
func (c *Client) Hold(ctx context.Context, on bool) error {
	return c.do(ctx, "PUT", "/v1/hold", map[string]bool{"on": on}, &struct{}{})
}

// Stream calls f with every event until the context ends or the larder goes; it always gives an error.
func (c *Client) Stream(ctx context.Context, f func(Event)) error {
	resp, err := c.open(ctx, "GET", "/v1/stream", nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<22)
	for lines.Scan() {
		var ev Event
		if err := json.Unmarshal(lines.Bytes(), &ev); err != nil {
			return fmt.Errorf("a line of the larder's stream is not understood: %w", err)
		}
		f(ev)
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return errors.New("the larder ended the stream")
}
