package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"golang.org/x/net/http/httpguts"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/connections"
	"echolane/service/delivery"
	"echolane/service/lane"
	"echolane/service/lane/objects"
	"echolane/service/problem"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

// LaneSecret is what PUT …/secrets takes: credentials, or one request header.
type LaneSecret struct {
	AccessKey string `json:"access_key,omitempty"`
	SecretKey string `json:"secret_key,omitempty"`
	Header    string `json:"header,omitempty"`
	Value     string `json:"value,omitempty"`
}

func (a *API) secrets(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	list, err := a.Store.Secrets(c.Context(), s.Name, "lane/"+l.Name+"/")
	if err != nil {
		return refuse(c, failed(err, l.Name))
	}
	return paged(c, list, func(s records.Secret) string { return s.Name })
}

func (a *API) putSecret(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	var in LaneSecret
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	var name, value string
	form := lane.Described.Of(l.Kind).Secrets
	switch {
	case in.Header != "" && in.AccessKey == "" && in.SecretKey == "":
		if !form.Has(&l.Lane, policy.Headers) {
			return refuse(c, badRequest("header", in.Header, "only web lanes send request headers", "access_key and secret_key for this lane"))
		}
		if !httpguts.ValidHeaderFieldName(in.Header) || !httpguts.ValidHeaderFieldValue(in.Value) || in.Value == "" {
			return refuse(c, badRequest("header", in.Header, "that isn't a header field with a value", "a field's name and its value"))
		}
		name, value = policy.HeaderSecret(l.Name, http.CanonicalHeaderKey(in.Header)), in.Value
	case in.AccessKey != "" && in.SecretKey != "" && in.Header == "":
		if !form.Has(&l.Lane, policy.Credentials) {
			return refuse(c, badRequest("access_key", "", "this lane has no bucket", "credentials for lanes with a bucket"))
		}
		text, err := json.Marshal(objects.Credentials{AccessKey: in.AccessKey, SecretKey: in.SecretKey})
		if err != nil {
			return refuse(c, asRefusal(err))
		}
		name, value = policy.CredentialsSecret(l.Name), string(text)
	default:
		return refuse(c, badRequest("body", "", "it's neither credentials nor a header", "access_key and secret_key, or header and value"))
	}
	if err := a.Store.PutSecret(c.Context(), s.Name, name, value, who(c)); err != nil {
		return refuse(c, failed(err, name))
	}
	return a.refreshed(c, name)
}

// refreshed answers a change that has nothing to show.
func (a *API) refreshed(c fiber.Ctx, name string) error {
	if err := a.Settings.Refresh(c.Context()); err != nil {
		return refuse(c, failed(err, name))
	}
	return c.SendStatus(204)
}

func (a *API) removeSecret(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	name := c.Query("name")
	if !strings.HasPrefix(name, "lane/"+l.Name+"/") {
		return refuse(c, badRequest("name", name, "that isn't one of this lane's secrets", "a name that GET …/secrets lists"))
	}
	there, err := a.Store.RemoveSecret(c.Context(), s.Name, name)
	if err != nil {
		return refuse(c, failed(err, name))
	}
	if !there {
		return refuse(c, nothing("secret", name))
	}
	return a.refreshed(c, name)
}

// testLane walks a source through its lane's rules and, where they let it, looks at it.
func (a *API) testLane(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	path := c.Query("source")
	out := TestedLane{Source: path, Steps: []policy.Step{}}
	opened, err := a.Lanes.Of(s, l)
	if err == nil {
		out.Source, no = opened.Check(path, &out.Steps)
		if no == nil && len(out.Steps) == 0 {
			out.Steps = append(out.Steps, policy.Step{Rule: "path", Verdict: "passed", Note: "a plain path below the lane"})
		}
		if err = nil; no != nil {
			err = no
		}
	}
	if err == nil {
		err = a.look(c, opened, path, &out)
	}
	if err != nil {
		out.Refusal = problem.Of(asRefusal(err))
		if n := len(out.Steps); n == 0 || !out.Steps[n-1].Decided || out.Steps[n-1].Verdict == "matched" && strings.HasPrefix(out.Steps[n-1].Rule, "allow ") {
			out.Steps = append(out.Steps, policy.Step{Rule: string(out.Refusal.Reason), Verdict: "refused", Note: out.Refusal.Detail, Decided: true})
		}
	}
	return c.JSON(out)
}

// lookLimit is how long a look at a source may take.
const lookLimit = 30 * time.Second

// look looks at a source anew, whatever is known of it.
func (a *API) look(c fiber.Ctx, from source.Lane, path string, out *TestedLane) error {
	ctx, cancel := context.WithTimeout(c.Context(), lookLimit)
	defer cancel()
	v, content, err := from.Stat(ctx, path, nil)
	if err == nil && content == nil {
		content, err = from.Open(ctx, path, v)
	}
	if err != nil {
		return err
	}
	defer content.Close()
	h, err := a.Workshop.Header(ctx, content)
	if err != nil {
		return err
	}
	out.Bytes, out.Type = v.Bytes, h.Type
	out.Width, out.Height = h.Upright()
	size := fmt.Sprintf("%d × %d pixels, ", out.Width, out.Height)
	if h.W == 0 {
		size = ""
	}
	out.Steps = append(out.Steps, policy.Step{Rule: "source", Verdict: "passed", Note: fmt.Sprintf("%s, %s%d bytes", out.Type, size, out.Bytes)})
	return nil
}

func (a *API) sources(c fiber.Ctx) error {
	s, l, no := a.findLane(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	limit, no := limitOf(c)
	if no != nil {
		return refuse(c, no)
	}
	page := Page[source.Entry]{Items: []source.Entry{}}
	opened, err := a.Lanes.Of(s, l)
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	items, more, err := opened.List(c.Context(), c.Query("after"), limit)
	if errors.Is(err, errors.ErrUnsupported) { // what was asked for so far stands in
		list, err := a.Store.PathsOf(c.Context(), s.Name, l.Name, c.Query("after"), limit+1)
		if err != nil {
			return refuse(c, failed(err, l.Name))
		}
		for i, v := range list {
			if i == limit {
				page.Next = list[i-1].Path
				break
			}
			page.Items = append(page.Items, source.Entry{Path: v.Path, Bytes: int64(v.SourceBytes)})
		}
		return c.JSON(page)
	}
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	if items != nil {
		page.Items = items
	}
	if more {
		page.Next = items[len(items)-1].Path
	}
	return c.JSON(page)
}

func (a *API) facts(c fiber.Ctx) error {
	l, no := a.locate(c)
	if no != nil {
		return refuse(c, no)
	}
	defer l.Close()
	return c.JSON(source.FactsOf(l.Known.Version, l.Known.Header))
}

// original answers the source as it lies there, for comparing beside a variant.
func (a *API) original(c fiber.Ctx) error {
	if c.Query("version") != "" {
		return a.version(c)
	}
	l, no := a.locate(c)
	if no != nil {
		return refuse(c, no)
	}
	defer l.Close()
	content, err := l.Open(c.Context())
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	pictureHead(c, l.Known.Header.Type)
	c.RequestCtx().Response.SetBodyStream(delivery.Stream(c.RequestCtx(), content), int(content.Size()))
	return nil
}

// locate finds the source that the call names, in a format that is read.
func (a *API) locate(c fiber.Ctx) (*source.Located, *policy.Refusal) {
	site, l, no := a.findLane(c, records.MayRead)
	if no != nil {
		return nil, no
	}
	path := c.Query("path")
	no = source.CheckText(path)
	if !l.TakesURL {
		no = source.CheckPath(path)
	}
	if no != nil {
		return nil, no
	}
	located, err := a.Sources.Locate(c.Context(), site, l, path, nil)
	if err != nil {
		no := asRefusal(err)
		if no.Reason == policy.ReasonNoSuchSource { // so that it isn't found any more
			a.Recorder.Gone(c.Context(), site.Name, l.Name, path) // what fails is done the next time: the answer stays what it is
		}
		return nil, no
	}
	if located.Known.Header.W == 0 {
		located.Close()
		return nil, policy.NotRead(located.Known.Header.Type)
	}
	return located, nil
}

// findUploads gives an upload lane.
func (a *API) findUploads(c fiber.Ctx, right string) (*policy.CompiledLane, source.Receiver, *policy.Refusal) {
	s, l, no := a.findLane(c, right)
	if no != nil {
		return nil, nil, no
	}
	opened, err := a.Lanes.Of(s, l)
	if err != nil {
		return nil, nil, asRefusal(err)
	}
	up, ok := opened.(source.Receiver)
	if !ok {
		return nil, nil, badRequest("lane", l.Name, fmt.Sprintf("sources of a %s lane are put where they lie, not through Echo Lane", l.Kind), "a lane of kind upload")
	}
	path := c.Query("path")
	if c.Method() == "POST" { // a folder may be written with its slash; a source's path is looked at again as it's taken in
		path = strings.TrimSuffix(path, "/")
	}
	if path != "" || c.Method() != "POST" {
		if no := source.CheckPath(path); no != nil {
			return nil, nil, no
		}
	}
	return l, up, nil
}

// Uploaded is what an upload is answered with.
type Uploaded struct {
	source.Uploaded
	Facts source.Facts `json:"facts"`
	URL   string       `json:"url"` // where variants of it are
}

// upload takes a source as the body itself, or as the file of a multipart form.
func (a *API) upload(c fiber.Ctx) error {
	l, up, no := a.findUploads(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	body := streamOf(c)
	path := c.Query("path")
	if kind, params, err := mime.ParseMediaType(c.Get("Content-Type")); err == nil && kind == "multipart/form-data" {
		part, err := filePart(multipart.NewReader(body, params["boundary"]))
		if err != nil {
			return refuse(c, brokeOff(err, "the form has no file: "+err.Error(), "multipart/form-data with one file"))
		}
		body = part
		if path == "" {
			path = part.FileName()
		}
	}
	out, no := a.takeIn(c, l, up, path, body)
	if no != nil {
		return refuse(c, no)
	}
	return c.Status(201).JSON(out)
}

// streamOf reads a request's body, however long it is and takes: of somebody who may upload, since others would hold connections.
func streamOf(c fiber.Ctx) io.Reader {
	if s := c.RequestCtx().RequestBodyStream(); s != nil {
		if conn, ok := c.RequestCtx().Conn().(*connections.Conn); ok {
			conn.Body()
		}
		return s
	}
	return bytes.NewReader(c.RequestCtx().PostBody())
}

// takeIn keeps a source that can be decoded.
func (a *API) takeIn(c fiber.Ctx, l *policy.CompiledLane, up source.Receiver, path string, body io.Reader) (out Uploaded, no *policy.Refusal) {
	if no := source.CheckPath(path); no != nil {
		return out, no
	}
	version, content, err := up.Receive(c.Context(), body)
	if err != nil {
		if errors.As(err, &no) {
			return out, no
		}
		return out, brokeOff(err, "the upload broke off", "the whole file")
	}
	defer content.Close()
	ctx := workshop.With(c.Context(), workshop.Ahead, c.Params("site"), "")
	h, err := a.Workshop.Header(ctx, content)
	if err != nil {
		return out, asRefusal(err)
	}
	if h.W == 0 {
		return out, policy.NotRead(h.Type)
	}
	if no := l.Limits.CheckPixels(h.W, h.H); no != nil {
		return out, no
	}
	// Its placeholder is made first: what can't be decoded isn't kept.
	job := delivery.PlaceholderJob(l.Limits)
	tiny, _, err := a.Workshop.Render(ctx, workshop.From(ctx).Takes(job.Estimate([]codec.Header{h}, version.Bytes)), func(context.Context) ([]*held.Content, error) {
		return []*held.Content{content.Share()}, nil
	}, job)
	if err != nil {
		return out, asRefusal(err)
	}
	facts := source.FactsOf(version, h)
	facts.Placeholder = delivery.PlaceholderURL(tiny.Data)
	kept, err := up.Put(c.Context(), path, content, source.Uploaded{Digest: version.Digest, Type: h.Type, Width: facts.Width, Height: facts.Height, At: time.Now().UTC(), By: who(c)})
	if err != nil {
		return out, asRefusal(err)
	}
	return Uploaded{kept, facts, string(declare.AppendPath([]byte("/"+c.Params("site")+"/"+l.Name), path, l.TakesURL))}, nil
}

// Upload is what became of one file of several.
type Upload struct {
	File    string    `json:"file"`              // as its part of the form names it
	Kept    *Uploaded `json:"kept,omitempty"`    // absent where it wasn't taken
	Problem string    `json:"problem,omitempty"` // why it wasn't
	Detail  string    `json:"detail,omitempty"`
}

// mostUploads is how many files one form may have.
const mostUploads = 1000

// uploads takes all files of a multipart form, each below the path, by the name that its part gives. One that isn't taken leaves
// the others as they are.
func (a *API) uploads(c fiber.Ctx) error {
	l, up, no := a.findUploads(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	kind, params, err := mime.ParseMediaType(c.Get("Content-Type"))
	if err != nil || kind != "multipart/form-data" {
		return refuse(c, badRequest("body", wording.Cut(c.Get("Content-Type"), 60), "that isn't a form", "multipart/form-data with a file in each part"))
	}
	below := strings.Trim(c.Query("path"), "/")
	r := multipart.NewReader(streamOf(c), params["boundary"])
	out := Page[Upload]{Items: []Upload{}}
	for {
		part, err := filePart(r)
		if errors.Is(err, errNoFile) && len(out.Items) > 0 {
			return c.JSON(out)
		}
		if err == nil && len(out.Items) >= mostUploads {
			err = fmt.Errorf("it has more than %d", mostUploads)
		}
		if err != nil && len(out.Items) > 0 { // those before it are kept: say so
			out.Items = append(out.Items, Upload{Problem: string(policy.ReasonBadRequest), Detail: "the form breaks off here: " + err.Error()})
			return c.JSON(out)
		}
		if err != nil {
			return refuse(c, brokeOff(err, "the form has no file: "+err.Error(), fmt.Sprintf("multipart/form-data with a file in each part, at most %d", mostUploads)))
		}
		one := Upload{File: wording.Cut(fileName(part), 300)}
		name := fileName(part)
		if below != "" {
			name = below + "/" + name
		}
		kept, no := a.takeIn(c, l, up, name, part)
		if no != nil {
			one.Problem, one.Detail = string(no.Reason), no.Detail
		} else {
			one.Kept = &kept
		}
		out.Items = append(out.Items, one)
	}
}

// fileName is the name of a part with the folders in it, which FileName leaves out.
func fileName(p *multipart.Part) string {
	_, params, err := mime.ParseMediaType(p.Header.Get("Content-Disposition"))
	if err != nil || params["filename"] == "" {
		return p.FileName()
	}
	return params["filename"]
}

var errNoFile = errors.New("it ends before one comes")

func filePart(r *multipart.Reader) (*multipart.Part, error) {
	for {
		p, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			return nil, errNoFile
		}
		if err != nil {
			return nil, err
		}
		if p.FileName() != "" {
			return p, nil
		}
	}
}

// RestoreVersion says which version of an uploaded source is to be the newest again.
type RestoreVersion struct {
	Path    string `json:"path"`
	Version int    `json:"version"`
}

// version answers with an older version of an uploaded source.
func (a *API) version(c fiber.Ctx) error {
	n, no := numberOf(c, "version", 0, 1, 1<<31-1)
	if no != nil {
		return refuse(c, no)
	}
	_, up, no := a.findUploads(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	v, content, err := up.Version(c.Context(), c.Query("path"), n)
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	pictureHead(c, v.Type)
	c.RequestCtx().Response.SetBodyStream(delivery.Stream(c.RequestCtx(), content), int(content.Size()))
	return nil
}

// restoreVersion puts an older version's bytes in again, as the newest version: none is lost.
func (a *API) restoreVersion(c fiber.Ctx) error {
	var in RestoreVersion
	if no := read(c, &in); no != nil {
		return refuse(c, no)
	}
	_, up, no := a.findUploads(c, records.MayEdit)
	if no == nil {
		no = source.CheckPath(in.Path)
	}
	if no != nil {
		return refuse(c, no)
	}
	old, content, err := up.Version(c.Context(), in.Path, in.Version)
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	defer content.Close()
	old.At, old.By = time.Now().UTC(), who(c)
	kept, err := up.Put(c.Context(), in.Path, content, old)
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	return c.JSON(kept)
}

func (a *API) removeSource(c fiber.Ctx) error {
	l, up, no := a.findUploads(c, records.MayEdit)
	if no != nil {
		return refuse(c, no)
	}
	if err := up.Remove(c.Context(), c.Query("path")); err != nil {
		return refuse(c, asRefusal(err))
	}
	if err := a.Recorder.Gone(c.Context(), c.Params("site"), l.Name, c.Query("path")); err != nil {
		return refuse(c, failed(err, c.Query("path")))
	}
	return c.SendStatus(204)
}

func (a *API) versions(c fiber.Ctx) error {
	_, up, no := a.findUploads(c, records.MayRead)
	if no != nil {
		return refuse(c, no)
	}
	list, err := up.Versions(c.Context(), c.Query("path"))
	if err != nil {
		return refuse(c, asRefusal(err))
	}
	return c.JSON(Page[source.Uploaded]{Items: list})
}
