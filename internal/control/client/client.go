package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os/user"
	"strconv"
	"strings"
	"time"

	"jollylarder/internal/control"
	"jollylarder/internal/core/ledger"
	"jollylarder/internal/trial"
)

// Client talks to a larder over its control socket, or over TLS.
type Client struct {
	where, base, token string
	http               *http.Client
}

// NewClient makes a client for the socket at path. Nothing is sent yet.
func NewClient(path string) *Client {
	return &Client{where: path, base: "http://larder", http: &http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "unix", path)
		},
	}}}
}

// NewTLSClient makes a client for a larder at a URL such as https://larder:7433, that knows its token; roots are the
// authorities it trusts, nil for the system's.
func NewTLSClient(base, token string, roots *x509.CertPool) *Client {
	return &Client{
		where: base,
		base:  strings.TrimSuffix(base, "/"),
		token: token,
		http: &http.Client{Transport: &http.Transport{
			TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12},
		}},
	}
}

// cause takes off what a client of HTTP puts around the cause of an error, which is nothing to those who ask by a socket.
func cause(err error) error {
	if u := (*url.Error)(nil); errors.As(err, &u) {
		err = u.Err
	}
	if o := (*net.OpError)(nil); errors.As(err, &o) {
		err = o.Err
	}
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: is it running, and was it started with this path?", fs.ErrNotExist)
	}
	return err
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
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
		if u, err := user.Current(); err == nil {
			req.Header.Set(control.WhoHeader, u.Username)
		}
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return nil, fmt.Errorf("no larder answers at %s: %w", c.where, cause(err))
	}
	if resp.StatusCode == http.StatusOK {
		return resp, nil
	}
	defer resp.Body.Close()
	var p control.Problem
	if err := json.NewDecoder(resp.Body).Decode(&p); err != nil || p.Detail == "" {
		return nil, fmt.Errorf("the larder answers %s to %s", resp.Status, path)
	}
	return nil, &RefusedError{resp.StatusCode, p.Detail}
}

// Status asks for the larder as a whole.
func (c *Client) Status(ctx context.Context) (s control.Status, err error) {
	return s, c.do(ctx, "GET", "/v1/status", nil, &s)
}

// Patterns asks for the patterns that match a filter, in an order: spareable, waited, calls, slowest, drops or rows.
func (c *Client) Patterns(ctx context.Context, filter, order string, reversed bool) (p control.PatternList, err error) {
	q := url.Values{"filter": {filter}, "order": {order}, "reverse": {strconv.FormatBool(reversed)}}
	return p, c.do(ctx, "GET", "/v1/patterns?"+q.Encode(), nil, &p)
}

// Pattern asks for one pattern in full.
func (c *Client) Pattern(ctx context.Context, id string) (p control.Pattern, err error) {
	return p, c.do(ctx, "GET", "/v1/patterns/"+id, nil, &p)
}

// Plan gives how the origin runs a pattern's statements.
func (c *Client) Plan(ctx context.Context, id string) (p control.Plan, err error) {
	return p, c.do(ctx, "GET", "/v1/patterns/"+id+"/plan", nil, &p)
}

// RefusedError is what the larder says it did not do, and why.
type RefusedError struct {
	Code    int
	Problem string
}

func (e *RefusedError) Error() string { return e.Problem }

// Conflict says whether it was because of what is, or has been changed, and not because of how it was asked.
func (e *RefusedError) Conflict() bool { return e.Code == http.StatusConflict }

// Missing says whether what was asked for is not there.
func (e *RefusedError) Missing() bool { return e.Code == http.StatusNotFound }

// Rules asks for the rules in force.
func (c *Client) Rules(ctx context.Context) (b control.RuleBook, err error) {
	return b, c.do(ctx, "GET", "/v1/rules", nil, &b)
}

// RulesWithHour asks for the same, and for the last hour of the rule of a name.
func (c *Client) RulesWithHour(ctx context.Context, name string) (b control.RuleBook, err error) {
	return b, c.do(ctx, "GET", "/v1/rules?"+url.Values{"hour": {name}}.Encode(), nil, &b)
}

// PutRule makes or replaces the rule of a name at once.
func (c *Client) PutRule(ctx context.Context, name string, r control.Rule) (e control.Entry, err error) {
	return e, c.do(ctx, "PUT", "/v1/rules/"+url.PathEscape(name), r, &e)
}

// RemoveRule removes a rule at once.
func (c *Client) RemoveRule(ctx context.Context, name, why string) (e control.Entry, err error) {
	return e, c.do(ctx, "DELETE", "/v1/rules/"+url.PathEscape(name)+"?"+url.Values{"why": {why}}.Encode(), nil, &e)
}

// Pause has a rule paused at once, or in force again.
func (c *Client) Pause(ctx context.Context, name string, on bool, why string) (e control.Entry, err error) {
	return e, c.do(ctx, "PUT", "/v1/rules/"+url.PathEscape(name)+"/pause", map[string]any{"on": on, "why": why}, &e)
}

// Choices asks what the larder has chosen within advised rules, or within one of them.
func (c *Client) Choices(ctx context.Context, rule string) (x control.Choices, err error) {
	return x, c.do(ctx, "GET", "/v1/choices?"+url.Values{"rule": {rule}}.Encode(), nil, &x)
}

// Refuse has the larder never choose a pattern within an advised rule, at once, or lets it choose it again.
func (c *Client) Refuse(ctx context.Context, rule string, r control.Refusal) (e control.Entry, err error) {
	return e, c.do(ctx, "PUT", "/v1/rules/"+url.PathEscape(rule)+"/refuse", r, &e)
}

// Adopt makes a rule of its own, at once, of what the larder chose within an advised rule.
func (c *Client) Adopt(ctx context.Context, rule string, a control.Adoption) (e control.Entry, err error) {
	return e, c.do(ctx, "POST", "/v1/rules/"+url.PathEscape(rule)+"/adopt", a, &e)
}

// Check says what is wrong with a rules file's text, and what it would change.
func (c *Client) Check(ctx context.Context, text string) (out control.Checked, err error) {
	return out, c.do(ctx, "POST", "/v1/check", map[string]string{"text": text}, &out)
}

// Draft asks for the caller's draft.
func (c *Client) Draft(ctx context.Context) (d control.Draft, err error) {
	return d, c.do(ctx, "GET", "/v1/draft", nil, &d)
}

// Edit makes one edit of the caller's draft, and gives what it has become.
func (c *Client) Edit(ctx context.Context, e control.Edit) (d control.Draft, err error) {
	return d, c.do(ctx, "POST", "/v1/draft/edit", e, &d)
}

// Discard gives the caller's draft up, and gives the empty one.
func (c *Client) Discard(ctx context.Context) (d control.Draft, err error) {
	return d, c.do(ctx, "DELETE", "/v1/draft", nil, &d)
}

// Renew makes the changes of the caller's draft anew on the rules as they are now.
func (c *Client) Renew(ctx context.Context) (d control.Draft, err error) {
	return d, c.do(ctx, "POST", "/v1/draft/renew", struct{}{}, &d)
}

// Forecast asks what a text, or the caller's draft if there is none, would do. Progress is told how much is done; the
// forecast stops when the context ends.
func (c *Client) Forecast(ctx context.Context, text *string, progress func(done float64)) (*control.Forecast, error) {
	resp, err := c.open(ctx, "POST", "/v1/forecast", map[string]*string{"text": text})
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	dec := json.NewDecoder(resp.Body)
	for {
		var line control.ForecastLine
		if err := dec.Decode(&line); err != nil {
			return nil, fmt.Errorf("the forecast was interrupted: %w", err)
		}
		switch {
		case line.Problem != "":
			return nil, errors.New(line.Problem)
		case line.Forecast != nil:
			return line.Forecast, nil
		case progress != nil:
			progress(line.Done)
		}
	}
}

// Apply puts a text in force.
func (c *Client) Apply(ctx context.Context, a control.Apply) (e control.Entry, err error) {
	return e, c.do(ctx, "POST", "/v1/apply", a, &e)
}

// Undo puts earlier rules in force again.
func (c *Client) Undo(ctx context.Context, u control.Undo) (e control.Entry, err error) {
	return e, c.do(ctx, "POST", "/v1/undo", u, &e)
}

// Redo puts rules in force again that were undone.
func (c *Client) Redo(ctx context.Context, u control.Undo) (e control.Entry, err error) {
	return e, c.do(ctx, "POST", "/v1/redo", u, &e)
}

// History asks for the latest changes of the rules, the last first.
func (c *Client) History(ctx context.Context, most int) (list []control.Entry, err error) {
	return list, c.do(ctx, "GET", fmt.Sprintf("/v1/history?limit=%d", most), nil, &list)
}

// Drop takes results out and gives their number.
func (c *Client) Drop(ctx context.Context, d control.Drop) (int, error) {
	var out control.Dropped
	err := c.do(ctx, "POST", "/v1/drop", d, &out)
	return out.Results, err
}

// Succeed has another process take over from the larder, and gives the process. Status tells what becomes of it.
func (c *Client) Succeed(ctx context.Context) (x control.Successor, err error) {
	return x, c.do(ctx, http.MethodPost, "/v1/successor", nil, &x)
}

// SetCaching switches all caching off, or on again.
func (c *Client) SetCaching(ctx context.Context, on bool) error {
	return c.do(ctx, "PUT", "/v1/caching", map[string]bool{"on": on}, &struct{}{})
}

// Stream calls f with every event that matches a filter until the context ends or the larder goes; it always gives an
// error. With values, literals and parameters come too, where the larder allows it.
func (c *Client) Stream(ctx context.Context, filter string, values bool, f func(control.Event)) error {
	return c.stream(ctx, url.Values{"filter": {filter}, "values": {fmt.Sprint(values)}}, f)
}

// StreamAll is Stream with as good as all statements, up to some 200,000 a second, which costs them more.
func (c *Client) StreamAll(ctx context.Context, filter string, values bool, f func(control.Event)) error {
	return c.stream(ctx, url.Values{"filter": {filter}, "values": {fmt.Sprint(values)}, "all": {"true"}}, f)
}

func (c *Client) stream(ctx context.Context, q url.Values, f func(control.Event)) error {
	resp, err := c.open(ctx, "GET", "/v1/stream?"+q.Encode(), nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<22)
	for lines.Scan() {
		var ev control.Event
		if err := json.Unmarshal(lines.Bytes(), &ev); err != nil {
			return fmt.Errorf("a line of the larder's stream is not understood: %w", err)
		}
		f(ev)
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return errors.New("the larder ended the stream: start it again, or watch again when it answers")
}

// Guard gives what is known of whether anything old may be answered.
func (c *Client) Guard(ctx context.Context) (g control.Guard, err error) {
	return g, c.do(ctx, http.MethodGet, "/v1/guard", nil, &g)
}

// GuardWithHour gives the same, and the last hour of a table's writes.
func (c *Client) GuardWithHour(ctx context.Context, table string) (g control.Guard, err error) {
	return g, c.do(ctx, http.MethodGet, "/v1/guard?"+url.Values{"hour": {table}}.Encode(), nil, &g)
}

// Stock gives what memory is used for.
func (c *Client) Stock(ctx context.Context) (s control.Stock, err error) {
	return s, c.do(ctx, http.MethodGet, "/v1/stock", nil, &s)
}

// MemoryCurve asks what memories of several sizes would do, and one more of so many bytes unless that is 0. Progress is
// told how much is done; it stops when the context ends.
func (c *Client) MemoryCurve(
	ctx context.Context,
	also int64,
	progress func(done float64),
) (*control.MemoryCurve, error) {
	resp, err := c.open(ctx, "POST", "/v1/stock/curve", map[string]int64{"also_bytes": also})
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	dec := json.NewDecoder(resp.Body)
	for {
		var line control.CurveLine
		if err := dec.Decode(&line); err != nil {
			return nil, fmt.Errorf("the forecast was interrupted: %w", err)
		}
		switch {
		case line.Problem != "":
			return nil, errors.New(line.Problem)
		case line.Curve != nil:
			return line.Curve, nil
		case progress != nil:
			progress(line.Done)
		}
	}
}

// SetLimit sets another limit of memory.
func (c *Client) SetLimit(ctx context.Context, l control.Limit) error {
	return c.do(ctx, http.MethodPut, "/v1/stock/limit", l, &struct{}{})
}

// Prove gives what was spared since "start", in the last "minute", or over a length such as 24h.
func (c *Client) Prove(ctx context.Context, since string) (p control.Proof, err error) {
	return p, c.do(ctx, http.MethodGet, "/v1/prove?"+url.Values{"since": {since}}.Encode(), nil, &p)
}

// Trial makes a live trial. Progress is told how far it is; it ends, with what its completed rounds came to, when the
// context does.
func (c *Client) Trial(
	ctx context.Context,
	t control.Trial,
	progress func(done float64, what string),
) (*trial.Result, error) {
	resp, err := c.open(context.WithoutCancel(ctx), "POST", "/v1/trial", t)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	defer context.AfterFunc(ctx, func() {
		short, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if c.do(short, "DELETE", "/v1/trial", nil, &struct{}{}) != nil {
			resp.Body.Close()
		}
	})()
	dec := json.NewDecoder(resp.Body)
	for {
		var line control.TrialLine
		if err := dec.Decode(&line); err != nil {
			return nil, fmt.Errorf("the trial was interrupted, and caching is on again: %w", err)
		}
		switch {
		case line.Problem != "":
			return nil, errors.New(line.Problem)
		case line.Result != nil:
			return line.Result, nil
		case progress != nil:
			progress(line.Done, line.Doing)
		}
	}
}

// CountOf gives what the larder has counted of an application: its statements by outcome, what hits took, what was
// spared, and the control samples.
func (c *Client) CountOf(ctx context.Context, application string) (sums ledger.Sums, err error) {
	st, err := c.Status(ctx)
	for _, a := range st.Applications {
		if a.Name == application {
			sums = a.Total.Counted()
		}
	}
	return sums, err
}
