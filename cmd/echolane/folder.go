package main

import (
	"bytes"
	"fmt"
	"mime"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"golang.org/x/net/html"

	"echolane/service/weighing"
)

// mostBesides is how many bytes may go along with a page.
const mostBesides = 64 << 20

var inStyle = regexp.MustCompile(`url\(\s*["']?([^"')]+)["']?\s*\)`)

// besides gathers the files that a page names and that lie in its folder: pictures, style sheets and what these name,
// scripts. at is the address that the page is taken to have.
func besides(page, at, root, rootAt string, text []byte) ([]weighing.File, error) {
	base, err := url.Parse(at)
	if err != nil {
		return nil, badUsage("--at %s isn't a URL", at)
	}
	rootURL, err := url.Parse(rootAt)
	if err != nil {
		return nil, badUsage("--at %s isn't a URL", rootAt)
	}
	folder := rootURL.Path[:strings.LastIndexByte(rootURL.Path, '/')+1]
	if folder == "" {
		folder = "/"
	}
	var list []weighing.File
	seen := map[string]bool{}
	total := 0
	var broke error
	var add func(from *url.URL, named string)
	add = func(from *url.URL, named string) {
		u, err := from.Parse(strings.TrimSpace(named))
		if err != nil || u.Host != base.Host || seen[u.Path] || broke != nil {
			return
		}
		seen[u.Path] = true
		below, ok := strings.CutPrefix(u.Path, folder)
		file := filepath.Join(root, filepath.FromSlash(below))
		if rel, err := filepath.Rel(root, file); !ok || err != nil || rel == ".." || strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
			return
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return // it comes from where the page is served, or is missing there too
		}
		if total += len(data); total > mostBesides {
			broke = fmt.Errorf("what %s names beside it has more than %d MB: weigh it where it is served", page, mostBesides>>20)
			return
		}
		kind := mime.TypeByExtension(filepath.Ext(file))
		u.RawQuery, u.Fragment = strings.TrimPrefix(u.RawQuery, "?"), ""
		list = append(list, weighing.File{URL: u.String(), Type: kind, Data: data})
		if strings.HasPrefix(kind, "text/css") {
			for _, m := range inStyle.FindAllSubmatch(data, -1) {
				add(u, string(m[1]))
			}
		}
	}
	if base.Path == "" {
		base.Path = "/"
	}
	z := html.NewTokenizer(bytes.NewReader(text))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return list, broke
		case html.TextToken:
			for _, m := range inStyle.FindAllSubmatch(z.Text(), -1) {
				add(base, string(m[1]))
			}
		case html.StartTagToken, html.SelfClosingTagToken:
			t := z.Token()
			for _, a := range t.Attr {
				switch a.Key {
				case "src", "poster", "data-src":
					add(base, a.Val)
				case "href":
					if t.Data == "link" || t.Data == "image" {
						add(base, a.Val)
					}
				case "srcset", "imagesrcset":
					for part := range strings.SplitSeq(a.Val, ",") {
						if fields := strings.Fields(part); len(fields) > 0 {
							add(base, fields[0])
						}
					}
				case "style":
					for _, m := range inStyle.FindAllStringSubmatch(a.Val, -1) {
						add(base, m[1])
					}
				}
			}
		}
	}
}
