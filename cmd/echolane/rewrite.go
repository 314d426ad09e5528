package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/markup"
	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
	"echolane/service/weighing"
)

// rewriter writes pages again by their HTML alone: slots are what tags say, or what --slot says of all others.
type rewriter struct {
	ctx   context.Context
	call  *client.Client
	site  api.Site
	maps  []weighing.Map
	slot  string
	base  string
	made  map[string]madeMarkup // by source and slot
	lanes map[string]string     // URL → source, "" where no lane has it
	err   error                 // that ends it: the service is gone
}

type madeMarkup struct {
	markup markup.Markup
	why    string
}

// rewritePages is markup --rewrite.
func rewritePages(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() == 0 {
		return badUsage("give HTML files or folders, or - for standard input, as in: echolane markup --rewrite site/ --site kestrel --at https://shop.example.test/")
	}
	if c.Bool("undo") {
		return eachPage(c, func(_ string, page []byte) ([]byte, []string, error) { return markup.Restore(page), nil, nil })
	}
	call, err := caller(c)
	if err != nil {
		return err
	}
	name, err := theSite(ctx, c, call)
	if err != nil {
		return err
	}
	r := &rewriter{ctx: ctx, call: call, slot: c.String("slot"), base: c.String("base"), made: map[string]madeMarkup{}, lanes: map[string]string{}}
	if r.site, err = call.Site(ctx, name); err != nil {
		return err
	}
	if r.maps, err = readMaps(c.StringSlice("map"), ""); err != nil {
		return err
	}
	at, err := url.Parse(c.String("at"))
	if err != nil || at.Host == "" {
		return badUsage("say with --at under which address the pages are served, such as --at https://shop.example.test/")
	}
	if r.slot != "" {
		if _, err := markup.ParseSlot(r.slot); err != nil {
			return badUsage("--slot: %v", err)
		}
	}
	return eachPage(c, func(path string, page []byte) ([]byte, []string, error) {
		base := *at
		if path != "" {
			base.Path = strings.TrimSuffix(base.Path, "/") + "/" + filepath.ToSlash(path)
		}
		return r.page(&base, page)
	})
}

func readMaps(list []string, page string) (maps []weighing.Map, err error) {
	base, err := url.Parse(page)
	if err != nil {
		return nil, badUsage("%q isn't a page's address", page)
	}
	for _, m := range list {
		i := strings.LastIndexByte(m, '=')
		if i <= 0 || !strings.Contains(m[:i], "://") && page == "" {
			return nil, badUsage("--map %s isn't URL=LANE: write it as https://shop.example.test/pictures/=catalogue", m)
		}
		from, err := base.Parse(m[:i])
		if err != nil {
			return nil, badUsage("--map %s: %q is neither a URL nor a folder beside the page", m, m[:i])
		}
		if !strings.Contains(m[:i], "://") && !strings.HasSuffix(from.Path, "/") { // a folder
			from.Path += "/"
		}
		maps = append(maps, weighing.Map{From: from.String(), To: m[i+1:]})
	}
	return maps, nil
}

// pagesIn are the pages below a folder, by their paths from there, in order. What is hidden, or a package of others, isn't the site's.
func pagesIn(folder string) (pages []string, err error) {
	err = filepath.WalkDir(folder, func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name := d.Name(); d.IsDir() {
			if file != folder && (strings.HasPrefix(name, ".") || name == "node_modules") {
				return filepath.SkipDir
			}
			return nil
		} else if !slices.Contains([]string{".html", ".htm", ".xhtml"}, strings.ToLower(filepath.Ext(name))) {
			return nil
		}
		path, err := filepath.Rel(folder, file)
		pages = append(pages, path)
		return err
	})
	if err == nil && len(pages) == 0 {
		err = fmt.Errorf("%s has no .html, .htm or .xhtml file", folder)
	}
	return pages, err
}

// eachPage does something to every page that is named, and puts it where it belongs: standard input's to standard
// output, files' into the files, or to a diff.
func eachPage(c *cli.Command, do func(path string, page []byte) ([]byte, []string, error)) error {
	one := func(file, path string) error {
		page, err := readFileOrInput(file)
		if err != nil {
			return err
		}
		after, left, err := do(path, page)
		if err != nil {
			return err
		}
		for _, l := range left {
			say("%s: %s", file, l)
		}
		switch {
		case file == "-":
			_, err = stdout().Write(after)
			return err
		case c.Bool("dry-run"):
			if string(page) != string(after) {
				fmt.Fprintf(stdout(), "--- %s\n", file)
			}
			for _, line := range diffLines(string(page), string(after)) {
				fmt.Fprintln(stdout(), line)
			}
			return nil
		case string(page) == string(after):
			say("%s: nothing changes", file)
			return nil
		}
		if err := replaceFile(file, after); err != nil {
			return err
		}
		did := "rewritten"
		if c.Bool("undo") {
			did = "as it was before"
		}
		fmt.Fprintf(stdout(), "%s: %s\n", file, did)
		return nil
	}
	for _, name := range c.Args().Slice() {
		info, err := os.Stat(name)
		if name == "-" || err == nil && !info.IsDir() {
			if err := one(name, ""); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return fmt.Errorf("read the page: %w", err)
		}
		pages, err := pagesIn(name)
		if err != nil {
			return err
		}
		for _, path := range pages {
			if err := one(filepath.Join(name, path), path); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *rewriter) page(at *url.URL, page []byte) (out []byte, left []string, err error) {
	images := 0
	out = markup.Rewrite(page, func(i *markup.Image) *markup.Change {
		if r.err != nil {
			return nil
		}
		if i.Tag == "source" {
			return nil // what it says is kept: it wins over the image, and may be another picture
		}
		images++
		change, why := r.image(at, i)
		if why != "" {
			src, _ := i.Attr("src")
			left = append(left, fmt.Sprintf("%s stays as it is: %s", wording.Cut(src, 60), why))
		}
		return change
	})
	return out, left, r.err
}

func (r *rewriter) image(at *url.URL, i *markup.Image) (*markup.Change, string) {
	src, _ := i.Attr("src")
	if data, ok := i.Attr("data-src"); ok && (src == "" || strings.HasPrefix(src, "data:")) {
		src = data // what a script would have put there
	}
	switch {
	case i.InPicture:
		return nil, "it stands in a <picture>, which says more than a tag alone: weigh --fix sees which it shows"
	case src == "":
		return nil, "it has no src"
	case strings.HasPrefix(src, "data:"):
		return nil, "it stands in the page itself"
	}
	u, err := at.Parse(src)
	if err != nil {
		return nil, "its src isn't a URL"
	}
	source := r.source(u.String())
	if source == "" {
		return nil, fmt.Sprintf("no lane of %s has it; --map %s=LANE says which does", r.site.Name, u.Scheme+"://"+u.Host+"/")
	}
	slot := r.slotOf(i)
	if slot == "" {
		return nil, "nothing says how wide it is shown: give --slot, or let weigh --fix measure it"
	}
	m, why := r.markup(source, slot)
	if why != "" {
		return nil, why
	}
	c := &markup.Change{Drop: []string{"srcset", "sizes", "data-src", "data-srcset", "data-sizes"}}
	for _, a := range m.Attributes() {
		switch a.Name {
		case "src", "srcset", "sizes":
			c.Set = append(c.Set, markup.Attribute{Name: a.Name, Value: strings.TrimPrefix(a.Value, "auto, ")})
		}
	}
	if _, said := i.Attr("loading"); !said && !i.First {
		c.Set = append(c.Set, markup.Attribute{Name: "loading", Value: "lazy"})
	}
	if _, said := i.Attr("decoding"); !said {
		c.Set = append(c.Set, markup.Attribute{Name: "decoding", Value: "async"})
	}
	return c, ""
}

// slotOf is what a tag says of its place.
func (r *rewriter) slotOf(i *markup.Image) string {
	if sizes, ok := i.Attr("sizes"); ok {
		if _, err := markup.ParseSlot(sizes); err == nil && strings.TrimSpace(sizes) != "auto" {
			return sizes
		}
	}
	if r.slot != "" {
		return r.slot
	}
	if w, ok := i.Attr("width"); ok {
		if n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimSpace(w), "px")); err == nil && n > 0 && n <= 65535 {
			return fmt.Sprintf("width: %dpx", n)
		}
	}
	return ""
}

// source is the lane/path of an address.
func (r *rewriter) source(address string) string {
	if s, ok := r.lanes[address]; ok {
		return s
	}
	found := ""
	for _, m := range r.maps {
		if rest, ok := strings.CutPrefix(address, m.From); ok {
			rest, _, _ = strings.Cut(rest, "?")
			if plain, err := url.PathUnescape(rest); err == nil && rest != "" {
				found = strings.TrimSuffix(m.To, "/") + "/" + plain
				break
			}
		}
	}
	for _, l := range r.site.Document.Lanes {
		if found != "" {
			break
		}
		if len(l.Allow) == 0 { // it has no sources by their URLs
			continue
		}
		path := address
		if l.Base != "" {
			rest, ok := strings.CutPrefix(address, l.Base)
			if !ok {
				continue
			}
			path = rest
		}
		if tested, err := r.call.TestLane(r.ctx, r.site.Name, l.Name, address); err == nil && tested.Refusal == nil {
			found = l.Name + "/" + path
		}
	}
	r.lanes[address] = found
	return found
}

func (r *rewriter) markup(source, slot string) (markup.Markup, string) {
	key := source + "\n" + slot
	if m, ok := r.made[key]; ok {
		return m.markup, m.why
	}
	out, err := r.call.Markup(r.ctx, r.site.Name, api.AskMarkup{Source: source, Slot: slot, Decorative: true, Base: r.base, Modelled: true})
	m := madeMarkup{markup: out.Markup}
	var no *policy.Refusal
	if errors.As(err, &no) {
		m.why = no.Detail
	} else if err != nil {
		r.err = err
		return m.markup, err.Error()
	}
	r.made[key] = m
	return m.markup, m.why
}
