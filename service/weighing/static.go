package weighing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"golang.org/x/net/html"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/weighin"
	"echolane/service/source/held"
)

const (
	mostHTML    = 8 << 20
	mostImages  = 1000
	staticFetch = 60 * time.Second
)

// get fetches something through the proxy's own way out, redirects included, five at most.
func (p *proxy) get(ctx context.Context, address string, most int64) (data []byte, header http.Header, err error) {
	client := &http.Client{Transport: p.client, Timeout: 20 * time.Second, CheckRedirect: func(_ *http.Request, via []*http.Request) error {
		if len(via) > 5 {
			return errors.New("it is sent from place to place")
		}
		return nil
	}}
	r, err := http.NewRequestWithContext(ctx, "GET", address, nil)
	if err != nil {
		return nil, nil, err
	}
	r.Header.Set("Accept", "text/html,"+declare.AcceptAll())
	answer, err := client.Do(r)
	if err != nil {
		return nil, nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 400 {
		return nil, answer.Header, answeredError{answer.StatusCode, answer.Status}
	}
	data, err = io.ReadAll(io.LimitReader(answer.Body, most+1))
	if int64(len(data)) > most {
		return nil, answer.Header, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "page", Given: address, Detail: fmt.Sprintf("it has more than %d bytes", most), Allowed: fmt.Sprintf("at most %d bytes", most), Remedy: "weigh a smaller page"})
	}
	return data, answer.Header, err
}

// answeredError is an answer that says no.
type answeredError struct {
	code   int
	status string
}

func (e answeredError) Error() string { return "it answered " + e.status }

// busy reports whether the same may be answered when it's asked again (RFC 9110, section 15.6.4; RFC 6585, section 4).
func (e answeredError) busy() bool {
	return e.code >= 500 || e.code == http.StatusTooManyRequests
}

// static weighs a page by its HTML alone.
func (w *Weigher) static(ctx context.Context, a *Ask, progress Progress) (*weighin.Report, error) {
	begin := time.Now()
	p, err := w.proxy(a)
	if err != nil {
		return nil, err
	}
	defer p.close()
	page := a.HTML
	if page == nil {
		if page, _, err = p.get(ctx, a.Page, mostHTML); err != nil {
			return nil, w.cantOpen(p, a, err)
		}
	}
	report := &weighin.Report{Page: a.Page, At: begin.UTC(), Static: true, Notes: []string{
		"there is no Chromium on the machine that the service runs on: this is from the HTML alone",
		"not known: how large pictures are shown where their tags don't say so, backgrounds, what scripts load, what jumps, and what is seen first",
	}}
	pictures, title := fromHTML(page, a.Page)
	report.Title = title
	if len(pictures) > mostImages {
		report.Notes = append(report.Notes, fmt.Sprintf("the first %d of %d images were looked at", mostImages, len(pictures)))
		pictures = pictures[:mostImages]
	}
	bodies, size := map[string][]byte{}, int64(0)
	for i := range pictures {
		q := &pictures[i]
		progress(i, len(pictures), "fetching the pictures")
		w.find(a, q)
		if q.Inline || q.URL == "" || ctx.Err() != nil || time.Since(begin) > staticFetch {
			continue
		}
		body, ok := bodies[q.URL]
		if !ok && size > mostHeld {
			continue
		}
		if !ok {
			data, header, err := a.given(ctx, p, q.URL)
			if err != nil {
				q.Failed = err.Error()
				continue
			}
			body = data
			bodies[q.URL] = data
			size += int64(len(data))
			q.Cache = header.Get("Cache-Control")
			q.Type, _, _ = mime.ParseMediaType(header.Get("Content-Type"))
		}
		q.Bytes = int64(len(body))
		if h, err := w.Workshop.Header(ctx, held.InMemory(body, nil)); err == nil {
			q.NaturalW, q.NaturalH = h.Upright()
			q.Type = h.Type
			if q.W == 0 {
				q.W = float64(q.NaturalW)
			}
			if q.H == 0 {
				q.H = q.W * float64(q.NaturalH) / float64(q.NaturalW)
			}
		}
	}
	for _, s := range a.Screens {
		v := weighin.View{Name: s.Name, Width: s.Width, Height: s.Height, Density: s.Density, Requests: 1 + len(bodies), Bytes: int64(len(page)), Shifts: []weighin.Shift{}}
		for _, body := range bodies {
			v.Bytes += int64(len(body))
		}
		for _, q := range pictures {
			if most := float64(s.Width); q.W > most { // no picture is wider than its screen, as most pages have it
				q.H *= most / q.W
				q.W = most
			}
			v.Pictures = append(v.Pictures, q)
		}
		report.Views = append(report.Views, v)
	}
	if err := w.measureAll(ctx, a, report, bodies, progress); err != nil {
		return nil, err
	}
	report.Finish(time.Since(begin))
	return report, nil
}

// given fetches a picture, or takes it from what came with the page.
func (a *Ask) given(ctx context.Context, p *proxy, address string) ([]byte, http.Header, error) {
	for _, f := range a.Files {
		if f.URL == address {
			return f.Data, http.Header{"Content-Type": {f.Type}}, nil
		}
	}
	return p.get(ctx, address, mostBody)
}

// fromHTML finds a page's images as its tags have them.
func fromHTML(page []byte, address string) (list []weighin.Picture, title string) {
	base, err := url.Parse(address)
	if err != nil {
		return nil, ""
	}
	z := html.NewTokenizer(bytes.NewReader(page))
	inTitle, inPicture := false, false
	for {
		switch z.Next() {
		case html.ErrorToken:
			return list, title
		case html.TextToken:
			if inTitle {
				title += string(z.Text())
			}
		case html.EndTagToken:
			name, _ := z.TagName()
			if string(name) == "picture" {
				inPicture = false
			}
			inTitle = false
		case html.StartTagToken, html.SelfClosingTagToken:
			t := z.Token()
			get := func(name string) (string, bool) {
				for _, a := range t.Attr {
					if a.Key == name {
						return a.Val, true
					}
				}
				return "", false
			}
			switch t.Data {
			case "title":
				inTitle = title == ""
			case "picture":
				inPicture = true
			case "base":
				if href, ok := get("href"); ok {
					if u, err := base.Parse(href); err == nil {
						base = u
					}
				}
			case "img":
				p := weighin.Picture{Kind: "img", Element: fmt.Sprintf("img %d", len(list)+1), Fit: "fill", Remedies: []weighin.Remedy{}}
				if inPicture {
					p.Kind = "picture"
				}
				p.Src, _ = get("src")
				p.Srcset, _ = get("srcset")
				p.Sizes, _ = get("sizes")
				if alt, ok := get("alt"); ok {
					p.Alt = &alt
				}
				loading, _ := get("loading")
				p.Lazy = strings.EqualFold(loading, "lazy")
				number := func(name string) float64 {
					v, _ := get(name)
					n, err := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(v), "px"), 64)
					if err != nil || n < 0 || n > 65535 {
						return 0
					}
					return n
				}
				p.W, p.H = number("width"), number("height")
				p.Sized = p.W > 0 && p.H > 0
				if p.Src != "" {
					if strings.HasPrefix(p.Src, "data:") {
						p.Inline, p.URL, p.Bytes = true, shortened(p.Src), int64(len(p.Src))
					} else if u, err := base.Parse(p.Src); err == nil {
						p.URL = u.String()
					}
				}
				list = append(list, p)
			}
		}
	}
}
