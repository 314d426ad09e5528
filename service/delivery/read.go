package delivery

import (
	"bytes"
	"fmt"
	"net/url"
	"strings"
	"unsafe"

	"github.com/valyala/fasthttp"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/sheet"
	"echolane/core/wording"
	"echolane/service/source"
)

// The step read: a request's text, taken apart.

// request is one image request as far as its text and the settings go.
type request struct {
	settings *policy.Settings
	uri      string
	fields   Fields
	accepted policy.Accepted
	client   sheet.Client         // what a sheet may ask of who asks
	trusted  bool                 // the service itself asks
	atOnce   bool                 // it is searched for before it is given
	hosted   *policy.SiteSettings // the site whose host name was asked, nil for a site in the path
	site     *policy.SiteSettings
	lane     *policy.CompiledLane
	path     string
	declared declare.Declarations
	resolved declare.Resolved
	trace    *[]policy.Step // of what is decided; nil unless it is to be explained
}

// Target is the request's path and query as they were sent, also where a client sends the absolute form
// (RFC 9112, section 3.2.2).
func Target(c *fasthttp.RequestCtx) []byte {
	uri := c.RequestURI()
	if len(uri) > 0 && uri[0] != '/' {
		if _, rest, ok := bytes.Cut(uri, []byte("://")); ok {
			if i := bytes.IndexByte(rest, '/'); i >= 0 {
				return rest[i:]
			}
			return []byte("/")
		}
	}
	return uri
}

// Fields are those of a request's fields that its answer may depend on, as far as they are there: most of them seldom are, and
// looking for each costs more than one look at all.
type Fields struct {
	Hosts int // lines of Host

	has uint8
}

const (
	hasAccept = 1 << iota
	hasLoop
	hasSaves
	hasStill
	hasMatch
	hasSince
	hasRange
)

const (
	loopField  = "CDN-Loop"
	matchField = "If-None-Match"
	sinceField = "If-Modified-Since"

	// Fields that sheets ask for.
	savesField = "Save-Data"
	stillField = "Sec-CH-Prefers-Reduced-Motion" // a user preference media feature as a client hint
)

var known = [...]struct {
	name []byte
	has  uint8
}{
	{[]byte("Accept"), hasAccept}, {[]byte(loopField), hasLoop}, {[]byte(savesField), hasSaves}, {[]byte(stillField), hasStill},
	{[]byte(matchField), hasMatch}, {[]byte(sinceField), hasSince}, {[]byte("Range"), hasRange},
}

var hostField = []byte("Host")

// FieldsOf looks which there are.
func FieldsOf(h *fasthttp.RequestHeader) (f Fields) {
	for raw := h.RawHeaders(); len(raw) > 0; {
		line, rest, _ := bytes.Cut(raw, newline)
		raw = rest
		colon := bytes.IndexByte(line, ':')
		if colon < 0 {
			continue
		}
		name := line[:colon]
		if bytes.EqualFold(name, hostField) {
			f.Hosts++
			continue
		}
		for i := range known {
			if len(known[i].name) == len(name) && bytes.EqualFold(known[i].name, name) {
				f.has |= known[i].has
			}
		}
	}
	return f
}

var newline = []byte("\n")

// conditional reports whether there may be a condition.
func (f Fields) conditional() bool { return f.has&(hasMatch|hasSince) != 0 }

// accepts reads Accept; several lines are one list (RFC 9110, section 5.3).
func (f Fields) accepts(h *fasthttp.RequestHeader) (a policy.Accepted) {
	if f.has&hasAccept == 0 {
		return policy.ReadAccept("")
	}
	lines := h.PeekAll("Accept")
	if len(lines) == 1 { // as nearly always
		return policy.ReadAccept(text(lines[0]))
	}
	return policy.ReadAccept(string(bytes.Join(lines, []byte(","))))
}

// client reads what sheets ask for.
func (f Fields) client(h *fasthttp.RequestHeader) (c sheet.Client) {
	if f.has&hasSaves != 0 {
		c.Saves = text(h.Peek(savesField)) == "on"
	}
	if f.has&hasStill != 0 {
		c.Still = strings.Trim(text(h.Peek(stillField)), `" `) == "reduce"
	}
	return c
}

// text is b as a string without a copy, for looking up and reading only.
func text(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

// raw is s as bytes without a copy, which nobody may write to.
func raw(s string) []byte { return unsafe.Slice(unsafe.StringData(s), len(s)) }

// appendHotKey appends what a hot entry is looked up by: all of a request's text that its answer depends on.
func appendHotKey(b, uri []byte, accepted policy.Accepted, client sheet.Client, hosted *policy.SiteSettings) []byte {
	b = append(append(b, uri...), byte(accepted), byte(accepted>>8))
	if client.Saves {
		b = append(b, 's')
	}
	if client.Still {
		b = append(b, 'm')
	}
	if hosted != nil {
		b = append(append(b, ' '), hosted.Name...)
	}
	return b
}

func (r *request) siteName() string {
	if r.site == nil {
		return ""
	}
	return r.site.Name
}

// asked is what was asked for, in few words: where the refusal itself doesn't say.
func (r *request) asked() string {
	if r.lane == nil {
		return ""
	}
	return r.lane.Name + "/" + r.path
}

// original reports whether the source itself is asked for: as a download, with nothing declared beside it, of
// a lane that gives it.
func (r *request) original() bool {
	d := &r.declared
	return d.Download.Declared && r.lane.Original == "download" && (d.As == declare.AsUnset || d.As == declare.Explain) && d.WithoutDelivery() == declare.Declarations{}
}

// read takes the request's text apart.
func (s *Service) read(r *request, uri string) *policy.Refusal {
	r.uri = uri
	path, query, _ := strings.Cut(uri, "?")
	if strings.Contains(query, "as=explain") { // what is wrong is explained too
		r.declared.As = declare.Explain
		r.trace = &[]policy.Step{}
	}
	rest := strings.TrimPrefix(path, "/")
	if r.site = r.hosted; r.site == nil {
		var name string
		name, rest, _ = strings.Cut(rest, "/")
		if r.site = r.settings.Site(name); r.site == nil {
			return noSite(r.settings, name)
		}
	}
	laneName, sourcePath, _ := strings.Cut(rest, "/")
	if r.lane = r.site.Lane(laneName); r.lane == nil {
		return NoLane(r.site, laneName)
	}
	var no *policy.Refusal
	if r.path, no = SourcePath(r.lane, sourcePath); no != nil {
		return no
	}
	declared, err := declare.Parse(query)
	if err != nil {
		return policy.BadDeclarations(err.(declare.Problems))
	}
	if r.declared = declared; declared.As != declare.Explain {
		r.trace = nil
	}
	return nil
}

// SourcePath is what the rest of an address, as it was sent, names in the lane.
func SourcePath(lane *policy.CompiledLane, sent string) (string, *policy.Refusal) {
	decoded, err := url.PathUnescape(sent)
	if err != nil {
		return "", policy.No(policy.Refusal{
			Reason: policy.ReasonBadPath, Detail: "the path isn't percent-encoded as it must be", Parameter: "path", Given: wording.Cut(sent, 60),
			Allowed: "percent-encoded UTF-8", Remedy: "write % itself as %25",
		})
	}
	if lane.TakesURL {
		if strings.Contains(sent, "/") {
			return "", policy.No(policy.Refusal{
				Reason: policy.ReasonBadSourceURL, Parameter: "source", Given: wording.Cut(sent, 60), Detail: "the lane takes the source's whole URL as one element of the path",
				Allowed: "the URL as encodeURIComponent writes it", Remedy: "write it as " + string(declare.AppendSegment(nil, wording.Cut(decoded, 60))),
			})
		}
		return decoded, source.CheckText(decoded)
	}
	return decoded, source.CheckPath(decoded)
}

// CheckSourcePath says whether a source of a lane may have this path, as it is without percent-encoding.
func CheckSourcePath(lane *policy.CompiledLane, path string) *policy.Refusal {
	if lane.TakesURL {
		return source.CheckText(path)
	}
	return source.CheckPath(path)
}

func noSite(all *policy.Settings, name string) *policy.Refusal {
	names := make([]string, len(all.Sites))
	for i := range all.Sites {
		names[i] = all.Sites[i].Name
	}
	no := policy.Refusal{Reason: policy.ReasonNoSuchSite, Parameter: "site", Given: wording.Cut(name, 60), Detail: fmt.Sprintf("there is no site %q", wording.Cut(name, 60)),
		Remedy: "begin the path with a site's name: /site/lane/path"}
	if near := wording.Nearest(name, names); near != "" {
		no.Remedy = fmt.Sprintf("write %s instead of %s", near, wording.Cut(name, 60))
	}
	return policy.No(no)
}

// NoLane is the refusal for a lane that the site doesn't have.
func NoLane(site *policy.SiteSettings, name string) *policy.Refusal {
	names := make([]string, len(site.Lanes))
	for i := range site.Lanes {
		names[i] = site.Lanes[i].Name
	}
	no := policy.Refusal{Reason: policy.ReasonNoSuchLane, Parameter: "lane", Given: wording.Cut(name, 60), Allowed: strings.Join(names, ", "),
		Detail: fmt.Sprintf("site %s has no lane %q", site.Name, wording.Cut(name, 60)),
		Remedy: fmt.Sprintf("use one of its lanes, or add one: echolane lane add %s/NAME --folder DIR", site.Name)}
	if near := wording.Nearest(name, names); near != "" {
		no.Remedy = fmt.Sprintf("write %s instead of %s", near, wording.Cut(name, 60))
	}
	return policy.No(no)
}
