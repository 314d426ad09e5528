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
	"echolane/service/records"
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

func site(name string) string       { return "/sites/" + url.PathEscape(name) }
func lane(name, lane string) string { return site(name) + "/lanes/" + url.PathEscape(lane) }
func version(v int64) string        { return fmt.Sprintf(`"%d"`, v) }

// Sites lists all sites.
func (c *Client) Sites(ctx context.Context) ([]api.Site, error) {
	return all[api.Site](ctx, c, "/sites")
}

// Site gives one site.
func (c *Client) Site(ctx context.Context, name string) (out api.Site, err error) {
	err = c.call(ctx, "GET", site(name), nil, &out)
	return out, err
}

// AddSite adds a site.
func (c *Client) AddSite(ctx context.Context, d policy.Document) (out api.Site, err error) {
	err = c.call(ctx, "POST", "/sites", d, &out)
	return out, err
}

// ProposeSite says what adding a site, or giving it this document, would change.
func (c *Client) ProposeSite(ctx context.Context, d policy.Document, there bool) (out api.Proposal, err error) {
	if there {
		err = c.call(ctx, "PUT", site(d.Site)+"?dry_run=true", d, &out)
		return out, err
	}
	err = c.call(ctx, "POST", "/sites?dry_run=true", d, &out)
	return out, err
}

// PutSite gives a site another document; from is the version that was read.
func (c *Client) PutSite(ctx context.Context, d policy.Document, from int64) (out api.Site, err error) {
	err = c.call(ctx, "PUT", site(d.Site), d, &out, "If-Match", version(from))
	return out, err
}

// RemoveSite removes a site as it was read.
func (c *Client) RemoveSite(ctx context.Context, name string, from int64) error {
	return c.call(ctx, "DELETE", site(name), nil, nil, "If-Match", version(from))
}

// History lists a site's changes, newest first.
func (c *Client) History(ctx context.Context, name string) ([]records.Change, error) {
	return all[records.Change](ctx, c, site(name)+"/history")
}

// DocumentAt is a site's document as a version had it.
func (c *Client) DocumentAt(ctx context.Context, name string, v int64) (out policy.Document, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("%s/history/%d", site(name), v), nil, &out)
	return out, err
}

// Sheet gives a site's stylesheet and its draft.
func (c *Client) Sheet(ctx context.Context, name string) (out api.Sheet, err error) {
	err = c.call(ctx, "GET", site(name)+"/sheet", nil, &out)
	return out, err
}

// CheckSheet says what is wrong with a sheet, and what publishing it would do.
func (c *Client) CheckSheet(ctx context.Context, name, text string) (out api.CheckedSheet, err error) {
	err = c.call(ctx, "POST", site(name)+"/sheet/check", api.SheetText{Text: text}, &out)
	return out, err
}

// PublishSheet gives a site another sheet; from is the version that was read.
func (c *Client) PublishSheet(ctx context.Context, name string, in api.PublishSheet, from int64) (out api.Sheet, err error) {
	err = c.call(ctx, "PUT", site(name)+"/sheet", in, &out, "If-Match", version(from))
	return out, err
}

// PutDraft keeps a draft of a site's sheet.
func (c *Client) PutDraft(ctx context.Context, name, text string) (out api.Sheet, err error) {
	err = c.call(ctx, "PUT", site(name)+"/sheet/draft", api.SheetText{Text: text}, &out)
	return out, err
}

// SheetHistory lists the changes in which a site's sheet changed, newest first.
func (c *Client) SheetHistory(ctx context.Context, name string) ([]records.Change, error) {
	return all[records.Change](ctx, c, site(name)+"/sheet/history")
}

// RestoreSheet publishes the sheet of a version again.
func (c *Client) RestoreSheet(ctx context.Context, name string, in api.RestoreSheet, from int64) (out api.Sheet, err error) {
	err = c.call(ctx, "POST", site(name)+"/sheet/restore", in, &out, "If-Match", version(from))
	return out, err
}

// Markup writes the HTML for a source in a slot.
func (c *Client) Markup(ctx context.Context, name string, in api.AskMarkup) (out api.Markup, err error) {
	err = c.call(ctx, "POST", site(name)+"/markup", in, &out)
	return out, err
}

// Weigh begins to weigh a page.
func (c *Client) Weigh(ctx context.Context, name string, in api.AskWeighing) (out api.Weighing, err error) {
	err = c.call(ctx, "POST", site(name)+"/weighings", in, &out)
	return out, err
}

// Weighing says how far a weigh-in is, or what it came to.
func (c *Client) Weighing(ctx context.Context, name string, id int64) (out api.Weighing, err error) {
	err = c.call(ctx, "GET", fmt.Sprintf("%s/weighings/%d", site(name), id), nil, &out)
	return out, err
}

// StopWeighing stops one, or forgets it.
func (c *Client) StopWeighing(ctx context.Context, name string, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("%s/weighings/%d", site(name), id), nil, nil)
}

// Restore goes back to a version's document.
func (c *Client) Restore(ctx context.Context, name string, to, from int64) (out api.Site, err error) {
	err = c.call(ctx, "POST", site(name)+"/restore", api.Restore{Version: to}, &out, "If-Match", version(from))
	return out, err
}

// Usage lists what a site used, by month.
func (c *Client) Usage(ctx context.Context, name string) ([]records.Usage, error) {
	return all[records.Usage](ctx, c, site(name)+"/usage")
}

// Ladder proposes a ladder; query as the API takes it.
func (c *Client) Ladder(ctx context.Context, name string, query url.Values) (out api.LadderProposal, err error) {
	err = c.call(ctx, "GET", site(name)+"/ladder?"+query.Encode(), nil, &out)
	return out, err
}

// AddLane adds a lane.
func (c *Client) AddLane(ctx context.Context, name string, l policy.Lane) (out api.Site, err error) {
	err = c.call(ctx, "POST", site(name)+"/lanes", l, &out)
	return out, err
}

// PutSecret keeps a lane's secret.
func (c *Client) PutSecret(ctx context.Context, name, l string, in api.LaneSecret) error {
	return c.call(ctx, "PUT", lane(name, l)+"/secrets", in, nil)
}

// RemoveSecret forgets one of a lane's secrets.
func (c *Client) RemoveSecret(ctx context.Context, name, l, secret string) error {
	return c.call(ctx, "DELETE", lane(name, l)+"/secrets?name="+url.QueryEscape(secret), nil, nil)
}

// TestLane walks a source through a lane's rules.
func (c *Client) TestLane(ctx context.Context, name, l, source string) (out api.TestedLane, err error) {
	err = c.call(ctx, "GET", lane(name, l)+"/test?source="+url.QueryEscape(source), nil, &out)
	return out, err
}

// Sources lists a lane's sources.
func (c *Client) Sources(ctx context.Context, name, l string) ([]source.Entry, error) {
	return all[source.Entry](ctx, c, lane(name, l)+"/sources")
}

// Upload puts a source into an upload lane.
func (c *Client) Upload(ctx context.Context, name, l, path string, data io.Reader) (out api.Uploaded, err error) {
	err = c.call(ctx, "POST", lane(name, l)+"/sources?path="+url.QueryEscape(path), data, &out)
	return out, err
}

// RemoveSource removes an uploaded source.
func (c *Client) RemoveSource(ctx context.Context, name, l, path string) error {
	return c.call(ctx, "DELETE", lane(name, l)+"/sources?path="+url.QueryEscape(path), nil, nil)
}

// Versions lists an uploaded source's versions.
func (c *Client) Versions(ctx context.Context, name, l, path string) ([]source.Uploaded, error) {
	var out api.Page[source.Uploaded]
	err := c.call(ctx, "GET", lane(name, l)+"/versions?path="+url.QueryEscape(path), nil, &out)
	return out.Items, err
}

// Original gives a source's bytes.
func (c *Client) Original(ctx context.Context, name, l, path string) (out []byte, err error) {
	err = c.call(ctx, "GET", lane(name, l)+"/original?path="+url.QueryEscape(path), nil, &out)
	return out, err
}

// Facts gives what a source's header says.
func (c *Client) Facts(ctx context.Context, name, l, path string) (out source.Facts, err error) {
	err = c.call(ctx, "GET", lane(name, l)+"/facts?path="+url.QueryEscape(path), nil, &out)
	return out, err
}

// Keys lists a site's signing keys.
func (c *Client) Keys(ctx context.Context, name string) ([]api.Key, error) {
	return all[api.Key](ctx, c, site(name)+"/keys")
}

// AddKey adds a signing key.
func (c *Client) AddKey(ctx context.Context, name string, in api.NewKey) (out api.MadeKey, err error) {
	err = c.call(ctx, "POST", site(name)+"/keys", in, &out)
	return out, err
}

// RemoveKey takes a signing key back.
func (c *Client) RemoveKey(ctx context.Context, name, id string) error {
	return c.call(ctx, "DELETE", site(name)+"/keys/"+url.PathEscape(id), nil, nil)
}

// Sign signs an address.
func (c *Client) Sign(ctx context.Context, name string, in api.ToSign) (out api.Signed, err error) {
	err = c.call(ctx, "POST", site(name)+"/sign", in, &out)
	return out, err
}

// Refusals lists what was turned down, of one site or ("") of all.
func (c *Client) Refusals(ctx context.Context, name string) ([]api.Refusal, error) {
	return all[api.Refusal](ctx, c, "/refusals?site="+url.QueryEscape(name))
}

// Mend makes the change that would have let a refused request through, or says what it would do.
func (c *Client) Mend(ctx context.Context, id int64, try, only bool) (out api.Mended, err error) {
	err = c.call(ctx, "POST", fmt.Sprintf("/refusals/%d/mend?dry_run=%v&only=%v", id, try, only), nil, &out, "If-Match", "*")
	return out, err
}

// ForgetRefusal takes a refusal off the list.
func (c *Client) ForgetRefusal(ctx context.Context, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("/refusals/%d", id), nil, nil)
}

// Tokens lists all tokens.
func (c *Client) Tokens(ctx context.Context) ([]records.Token, error) {
	return all[records.Token](ctx, c, "/tokens")
}

// AddToken makes a token.
func (c *Client) AddToken(ctx context.Context, in api.NewToken) (out api.MadeToken, err error) {
	err = c.call(ctx, "POST", "/tokens", in, &out)
	return out, err
}

// RemoveToken revokes a token.
func (c *Client) RemoveToken(ctx context.Context, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("/tokens/%d", id), nil, nil)
}

// People lists everybody who may sign in.
func (c *Client) People(ctx context.Context) ([]records.Person, error) {
	return all[records.Person](ctx, c, "/people")
}

// AddPerson adds somebody.
func (c *Client) AddPerson(ctx context.Context, in api.NewPerson) (out records.Person, err error) {
	err = c.call(ctx, "POST", "/people", in, &out)
	return out, err
}

// RemovePerson removes somebody.
func (c *Client) RemovePerson(ctx context.Context, id int64) error {
	return c.call(ctx, "DELETE", fmt.Sprintf("/people/%d", id), nil, nil)
}
