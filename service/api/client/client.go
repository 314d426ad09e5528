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
	"strings"
	"time"

	"echolane/core/policy"
	"echolane/service/api"
	"echolane/service/source"
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

// Unreachable wraps the error of a service that doesn't answer.
type Unreachable struct {
	Server string
	Err    error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("no service answers at %s: start one with `echolane serve` or `make demo`, or say where it is with --server (%v)", e.Server, e.Err)
}

func (e *Unreachable) Unwrap() error { return e.Err }

func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	if in != nil {
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
		r.Header.Set("Content-Type", "application/json")
	}
	r.Header.Set("Accept", "application/json, application/problem+json")
	if c.Token != "" {
		r.Header.Set("Authorization", "Bearer "+c.Token)
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
	data, err := io.ReadAll(io.LimitReader(answer.Body, 64<<20))
	if err != nil {
		return fmt.Errorf("read the answer of %s: %w", c.Server, err)
	}
	if answer.StatusCode >= 400 {
		return Problem(answer, data)
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

type list[T any] struct {
	Items []T `json:"items"`
}

// Sites lists all sites.
func (c *Client) Sites(ctx context.Context) ([]api.Site, error) {
	var out list[api.Site]
	err := c.call(ctx, "GET", "/sites", nil, &out)
	return out.Items, err
}

// Site gives one site.
func (c *Client) Site(ctx context.Context, name string) (api.Site, error) {
	var out api.Site
	err := c.call(ctx, "GET", "/sites/"+url.PathEscape(name), nil, &out)
	return out, err
}

// AddSite adds a site.
func (c *Client) AddSite(ctx context.Context, in api.NewSite) (api.Site, error) {
	var out api.Site
	err := c.call(ctx, "POST", "/sites", in, &out)
	return out, err
}

// Lanes lists a site's lanes.
func (c *Client) Lanes(ctx context.Context, site string) ([]api.Lane, error) {
	var out list[api.Lane]
	err := c.call(ctx, "GET", "/sites/"+url.PathEscape(site)+"/lanes", nil, &out)
	return out.Items, err
}

// AddLane adds a lane.
func (c *Client) AddLane(ctx context.Context, site string, in api.NewLane) (api.Lane, error) {
	var out api.Lane
	err := c.call(ctx, "POST", "/sites/"+url.PathEscape(site)+"/lanes", in, &out)
	return out, err
}

// Facts gives what a source's header says.
func (c *Client) Facts(ctx context.Context, site, lane, path string) (source.Facts, error) {
	var out source.Facts
	err := c.call(ctx, "GET", "/sites/"+url.PathEscape(site)+"/lanes/"+url.PathEscape(lane)+"/facts?path="+url.QueryEscape(path), nil, &out)
	return out, err
}
