// Package client calls a running service's API from Go.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"time"

	"echolane/core/policy"
	"echolane/service/api"
)

// Client calls one service. Safe for concurrent use.
type Client struct {
	Server string // such as http://127.0.0.1:8740
	Token  string // "" for none
	HTTP   *http.Client
}

// New makes a client. server may leave its scheme out.
func New(server, token string) (*Client, error) {
	if !strings.Contains(server, "://") {
		server = "http://" + server
	}
	u, err := url.Parse(server)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q isn't a server's address: write it as http://127.0.0.1:8740", server)
	}
	return &Client{Server: u.Scheme + "://" + u.Host, Token: token, HTTP: &http.Client{Timeout: 60 * time.Second}}, nil
}

// Introduce sends the token along with a request for an image, so that a refusal says all; only to the service that the
// token is for, which is at server.
func (c *Client) Introduce(r *http.Request, server string) {
	own, err := New(server, c.Token)
	if err == nil && c.Token != "" && own.Server == r.URL.Scheme+"://"+r.URL.Host {
		r.Header.Set("Authorization", "Bearer "+c.Token)
	}
}

// Unreachable wraps the error of a service that doesn't answer.
type Unreachable struct {
	Server string
	Err    error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("no service answers at %s: start one with `echolane serve` or `make demo`, or say where it is with --server (%v)", e.Server, e.Err)
}

func (e *Unreachable) Unwrap() error { return e.Err }

// call sends in as JSON (an io.Reader goes as it is) and reads the answer into out, unless that is nil.
func (c *Client) call(ctx context.Context, method, path string, in, out any, fields ...string) error {
	var body io.Reader
	kind := "application/json"
	switch v := in.(type) {
	case nil:
	case io.Reader:
		body, kind = v, "application/octet-stream"
	default:
		data, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, method, c.Server+"/-/api/v1"+path, body)
	if err != nil {
		return err
	}
	if in != nil {
		r.Header.Set("Content-Type", kind)
	}
	r.Header.Set("Accept", "application/json, application/problem+json")
	if c.Token != "" {
		r.Header.Set("Authorization", "Bearer "+c.Token)
	}
	for i := 0; i+1 < len(fields); i += 2 {
		r.Header.Set(fields[i], fields[i+1])
	}
	answer, err := c.HTTP.Do(r)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return &Unreachable{c.Server, err}
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, 1<<30))
	if err != nil {
		return fmt.Errorf("read the answer of %s: %w", c.Server, err)
	}
	if answer.StatusCode >= 400 {
		return Problem(answer, data)
	}
	if out == nil {
		return nil
	}
	if raw, ok := out.(*[]byte); ok {
		*raw = data
		return nil
	}
	if err := json.Unmarshal(data, out); err != nil {
		return fmt.Errorf("%s doesn't answer as an Echo Lane service does: %w", c.Server, err)
	}
	return nil
}

// Problem turns a failed answer into its *policy.Refusal, or into an error with its status.
func Problem(answer *http.Response, body []byte) error {
	var no policy.Refusal
	if strings.HasPrefix(answer.Header.Get("Content-Type"), "application/problem+json") && json.Unmarshal(body, &no) == nil && no.Reason != "" {
		return &no
	}
	return fmt.Errorf("%s answered %s", answer.Request.URL, answer.Status)
}

// all reads a list to its end, page by page.
func all[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	list := []T{}
	joint := "?"
	if strings.Contains(path, "?") {
		joint = "&"
	}
	for after := ""; ; {
		at := path + joint + "limit=1000"
		if after != "" {
			at += "&after=" + url.QueryEscape(after)
		}
		var page api.Page[T]
		if err := c.call(ctx, "GET", at, nil, &page); err != nil {
			return nil, err
		}
		list = append(list, page.Items...)
		if page.Next == "" {
			return list, nil
		}
		after = page.Next
	}
}

// escaped is a part of a path.
func escaped(part any) string { return url.PathEscape(fmt.Sprint(part)) }

// query writes names and values in turn, but for values that say nothing: "", 0 and false.
func query(pairs ...any) string {
	v := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if !reflect.ValueOf(pairs[i+1]).IsZero() {
			v.Set(pairs[i].(string), fmt.Sprint(pairs[i+1]))
		}
	}
	if len(v) == 0 {
		return ""
	}
	return "?" + v.Encode()
}

// Whatever, as the version that a change is made from, makes it whichever there is.
const Whatever = -1

func etag(version int64) string {
	if version == Whatever {
		return "*"
	}
	return fmt.Sprintf(`"%d"`, version)
}
