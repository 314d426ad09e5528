package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/net/html"
	"golang.org/x/term"

	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
)

func warmCommand() *cli.Command {
	return &cli.Command{
		Name: "warm", Usage: "make variants before somebody asks for them", ArgsUsage: "SITE[/LANE[/PATH]]",
		Description: `Of a lane, or of the sources below a path, every width of the site's ladder is made in every format that it delivers; --widths,
--formats and --declarations say otherwise. --list reads addresses from a file, one a line (- for standard input); --page finds
them in a page, --sitemap in the pages that a site map names. An address with declarations is made as it is. --facts looks at the sources
instead, so that echolane lane list --find finds them by what is in them.

Visitors go first. The work is spread over all nodes and outlives them: Ctrl-C leaves it running.

Examples:
  echolane warm kestrel/catalogue --widths 320,640,1280 --dry-run
  echolane warm kestrel/catalogue/summer/ --widths 320,640 --formats avif,webp
  echolane warm kestrel/catalogue --facts
  echolane warm kestrel --list addresses.txt
  echolane warm kestrel --page https://shop.kestrel.test/
  echolane warm kestrel --sitemap https://shop.kestrel.test/sitemap.xml --pages 200
  echolane warm list kestrel
  echolane warm pause kestrel 3`,
		Flags: callFlags(dryRunFlag(),
			&cli.StringFlag{Name: "widths", Usage: "widths, such as 320,640,1280; else the site's ladder"},
			&cli.StringFlag{Name: "formats", Usage: "formats, such as avif,webp; else those that the site delivers"},
			&cli.StringFlag{Name: "declarations", Usage: "further declarations, such as 'object-fit=cover&aspect-ratio=1'"},
			&cli.StringFlag{Name: "list", Usage: "a file of addresses, one a line"},
			&cli.StringSliceFlag{Name: "page", Usage: "a page whose images are made (repeat for more)"},
			&cli.StringFlag{Name: "sitemap", Usage: "a site map whose pages' images are made"},
			&cli.IntFlag{Name: "pages", Usage: "how many pages of a site map are read at most", Value: 500},
			&cli.BoolFlag{Name: "facts", Usage: "look at a lane's sources, so that they are found by what is in them"},
			&cli.BoolFlag{Name: "no-wait", Usage: "start it and return at once"}),
		Action: withCall(1, "what to make ahead, as in: echolane warm kestrel/catalogue", warm),
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list warmings, under way and done", ArgsUsage: "SITE", Description: "Example:\n  echolane warm list kestrel", Flags: callFlags(),
				Action: withCall(1, "a site, as in: echolane warm list kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					list, err := call.Warmings(ctx, c.Args().First())
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), list)
					}
					if len(list) == 0 {
						fmt.Fprintf(stdout(), "Nothing of %s was made ahead.\n", c.Args().First())
						return nil
					}
					rows := [][]string{{"warming", "what", "state", "of", "made", "there", "left out", "bytes", "begun", "left"}}
					for _, w := range list {
						left := ""
						if w.LeftS > 0 {
							left = time.Duration(w.LeftS * 1e9).String()
						}
						rows = append(rows, []string{fmt.Sprint(w.ID), wording.Cut(w.What, 40), w.State, fmt.Sprint(w.Variants), fmt.Sprint(w.Made), fmt.Sprint(w.Kept), fmt.Sprint(w.LeftOut), wording.Bytes(w.Bytes), w.BegunAt.Local().Format("2 Jan 15:04"), left})
					}
					table(stdout(), "rllrrrrr", rows...)
					return nil
				}),
			},
			warmState("pause", "paused", "pause a warming"), warmState("resume", "running", "resume a paused warming"), warmState("stop", "stopped", "stop a warming; what is made stays"),
			{
				Name: "show", Usage: "show how far a warming is, and why sources were left out", ArgsUsage: "SITE NUMBER", Description: "Example:\n  echolane warm show kestrel 3", Flags: callFlags(),
				Action: withCall(2, "a site and a warming's number, as in: echolane warm show kestrel 3", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					if _, err := number("warming", c.Args().Get(1)); err != nil {
						return err
					}
					w, err := call.Warming(ctx, c.Args().First(), c.Args().Get(1))
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), w)
					}
					printWarming(w)
					return nil
				}),
			},
		},
	}
}

// warmState is a command that changes a warming's state.
func warmState(name, state, usage string) *cli.Command {
	return &cli.Command{
		Name: name, Usage: usage, ArgsUsage: "SITE NUMBER", Description: "Example:\n  echolane warm " + name + " kestrel 3", Flags: callFlags(),
		Action: withCall(2, "a site and a warming's number, as in: echolane warm "+name+" kestrel 3", func(ctx context.Context, c *cli.Command, call *client.Client) error {
			if _, err := number("warming", c.Args().Get(1)); err != nil {
				return err
			}
			w, err := call.SetWarming(ctx, c.Args().First(), c.Args().Get(1), api.SetWarming{State: state})
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(stdout(), w)
			}
			fmt.Fprintf(stdout(), "warming %d of %s is %s\n", w.ID, w.Site, w.State)
			return nil
		}),
	}
}

func warm(ctx context.Context, c *cli.Command, call *client.Client) error {
	site, what := whatOf(c.Args().First())
	ask := api.AskWarm{Lane: what.Lane, Below: what.Path, Formats: commas(c.String("formats")), Declarations: c.String("declarations"), Facts: c.Bool("facts"), DryRun: c.Bool("dry-run")}
	for _, text := range commas(c.String("widths")) {
		n, err := strconv.Atoi(text)
		if err != nil {
			return badUsage("--widths: %q isn't a number of pixels: write them as 320,640,1280", text)
		}
		ask.Widths = append(ask.Widths, n)
	}
	if what.Address != "" {
		ask.Addresses = []string{what.Address}
	}
	more, err := warmAddresses(ctx, c, call, site)
	if err != nil {
		return err
	}
	if ask.Addresses = append(ask.Addresses, more...); ask.Lane == "" && len(ask.Addresses) == 0 {
		return badUsage("say what of %s to make ahead: a lane, as in echolane warm %s/LANE, or --list, --page or --sitemap", site, site)
	}
	if ask.Lane != "" && len(ask.Addresses) > 0 {
		return badUsage("give a lane, or --list, --page or --sitemap with the site alone")
	}
	w, err := call.Warm(ctx, site, ask)
	if err != nil {
		return err
	}
	if f := w.Forecast; f != nil {
		if c.Bool("json") {
			return printJSON(stdout(), w)
		}
		if ask.Facts {
			fmt.Fprintf(stdout(), "would look at %s: about %s with %s\n", wording.Number(w.Sources, "source"), time.Duration(f.Seconds*1e9).Round(time.Second/10), wording.Number(int64(f.Workers), "worker"))
			return nil
		}
		fmt.Fprintf(stdout(), "would make %s of %s, of which about %d are there: about %s in %s with %s\n", wording.Number(f.Variants, "variant"), wording.Number(w.Sources, "source"), f.Kept,
			wording.Bytes(f.Bytes), time.Duration(f.Seconds*1e9).Round(time.Second/10), wording.Number(int64(f.Workers), "worker"))
		return nil
	}
	if !c.Bool("no-wait") {
		if w, err = followWarming(ctx, call, w); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return printJSON(stdout(), w)
	}
	printWarming(w)
	return nil
}

func printWarming(w api.Warming) {
	rows := [][]string{
		{"warming", fmt.Sprintf("%d of %s: %s, %s", w.ID, w.Site, w.What, w.State)},
		{"variants", fmt.Sprintf("%d of %s", w.Variants, wording.Number(w.Sources, "source"))},
		{"made", fmt.Sprintf("%d, %s", w.Made, wording.Bytes(w.Bytes))}, {"there", fmt.Sprint(w.Kept)}, {"left out", fmt.Sprint(w.LeftOut)},
	}
	if w.PerSecond > 0 {
		rows = append(rows, []string{"rate", fmt.Sprintf("%g a second", w.PerSecond)})
	}
	if w.LeftS > 0 {
		rows = append(rows, []string{"left", time.Duration(w.LeftS * 1e9).String()})
	}
	for i, t := range w.Troubles {
		name := ""
		if i == 0 {
			name = "why"
		}
		rows = append(rows, []string{name, fmt.Sprintf("%s, such as %s: %s", wording.Number(t.Sources, "source"), wording.Cut(t.Sample, 60), t.Trouble)})
	}
	table(stdout(), "ll", rows...)
}

// followWarming waits for a warming to end, and shows how far it is.
func followWarming(ctx context.Context, call *client.Client, w api.Warming) (api.Warming, error) {
	var bar *progressbar.ProgressBar
	if term.IsTerminal(int(os.Stderr.Fd())) {
		bar = progressbar.NewOptions64(w.Variants, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetDescription("making ahead"), progressbar.OptionShowCount(),
			progressbar.OptionSetWidth(40), progressbar.OptionClearOnFinish())
		defer bar.Finish()
	}
	left, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	for w.State == "running" {
		select {
		case <-left.Done():
			say("The warming goes on: echolane warm show %s %d; echolane warm stop %s %d ends it.", w.Site, w.ID, w.Site, w.ID)
			return w, nil
		case <-time.After(300 * time.Millisecond):
		}
		now, err := call.Warming(ctx, w.Site, fmt.Sprint(w.ID))
		if err != nil {
			return w, err
		}
		if w = now; bar != nil {
			bar.Set64(w.Made + w.Kept + w.LeftOut)
		}
	}
	return w, nil
}

// warmAddresses gathers the addresses of a list, of pages, and of the pages of a site map.
func warmAddresses(ctx context.Context, c *cli.Command, call *client.Client, site string) (all []string, err error) {
	pages := c.StringSlice("page")
	if c.String("list") == "" && len(pages) == 0 && c.String("sitemap") == "" {
		return nil, nil
	}
	settings, err := call.Site(ctx, site)
	if err != nil {
		return nil, err
	}
	own := ownAddresses{site: site, hosts: settings.Document.Hosts}
	if u, err := url.Parse(c.String("server")); err == nil {
		own.server = u.Host
	}
	seen := map[string]bool{}
	add := func(list []string) {
		for _, a := range list {
			if !seen[a] {
				seen[a] = true
				all = append(all, a)
			}
		}
	}
	if name := c.String("list"); name != "" {
		text, err := readFileOrInput(name)
		if err != nil {
			return nil, err
		}
		for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
			line := strings.TrimSpace(lines.Text())
			if line == "" || strings.HasPrefix(line, "#") {
				continue
			}
			address, ok := own.of(line)
			if !ok {
				return nil, fmt.Errorf("%s: %s is no image of site %s", name, wording.Cut(line, 100), site)
			}
			add([]string{address})
		}
	}
	if at := c.String("sitemap"); at != "" {
		found, err := siteMap(ctx, at, c.Int("pages"))
		if err != nil {
			return nil, err
		}
		pages = append(pages, found...)
	}
	for _, page := range pages {
		text, err := fetchText(ctx, page)
		if err != nil {
			return nil, err
		}
		list, err := own.in(page, text)
		if err != nil {
			return nil, err
		}
		add(list)
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("no image of site %s was found: its addresses begin with http://%s/%s/%s", site, own.server, site, map[bool]string{true: ", or are on " + strings.Join(own.hosts, ", ")}[len(own.hosts) > 0])
	}
	return all, nil
}

// ownAddresses tells images of a site from others.
type ownAddresses struct {
	site, server string
	hosts        []string // the site's own
}

// of gives an image's address as /site/lane/path?declarations.
func (o *ownAddresses) of(text string) (string, bool) {
	u, err := url.Parse(text)
	if err != nil {
		return "", false
	}
	path := u.EscapedPath()
	switch {
	case slices.Contains(o.hosts, u.Hostname()):
		path = "/" + o.site + path
	case u.Host != "" && u.Host != o.server:
		return "", false
	}
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}
	if rest, ok := strings.CutPrefix(path, "/"+o.site+"/"); !ok || !strings.Contains(rest, "/") {
		return "", false
	}
	if u.RawQuery != "" {
		path += "?" + u.RawQuery
	}
	return path, true
}

// in finds the images of the site in a page.
func (o *ownAddresses) in(page string, text []byte) (all []string, err error) {
	base, err := url.Parse(page)
	if err != nil {
		return nil, fmt.Errorf("read the page's address: %w", err)
	}
	add := func(text string) {
		u, err := base.Parse(strings.TrimSpace(text))
		if err != nil {
			return
		}
		if address, ok := o.of(u.String()); ok && !slices.Contains(all, address) {
			all = append(all, address)
		}
	}
	for t := html.NewTokenizer(bytes.NewReader(text)); ; {
		switch t.Next() {
		case html.ErrorToken:
			if errors.Is(t.Err(), io.EOF) {
				return all, nil
			}
			return all, t.Err()
		case html.StartTagToken, html.SelfClosingTagToken:
			for _, a := range t.Token().Attr {
				switch a.Key {
				case "src", "href", "poster", "data-src":
					add(a.Val)
				case "srcset", "imagesrcset", "data-srcset":
					for _, one := range srcset(a.Val) {
						add(one)
					}
				}
			}
		}
	}
}

// srcset lists the URLs of a srcset attribute (HTML, section 4.8.4.2.2).
func srcset(text string) (all []string) {
	const space = " \t\n\f\r"
	for {
		text = strings.TrimLeft(text, space+",")
		if text == "" {
			return all
		}
		end := strings.IndexAny(text, space)
		if end < 0 {
			end = len(text)
		}
		one := text[:end]
		text = text[end:]
		if bare := strings.TrimRight(one, ","); bare != one {
			all = append(all, bare)
			continue
		}
		all = append(all, one)
		// The descriptors go up to a comma that stands in no parentheses.
		depth := 0
		end = strings.IndexFunc(text, func(c rune) bool {
			switch c {
			case '(':
				depth++
			case ')':
				depth--
			}
			return c == ',' && depth <= 0
		})
		if end < 0 {
			return all
		}
		text = text[end:]
	}
}

const (
	largestPageText = 16 << 20
	mostSiteMaps    = 50
)

// fetchText gets a page or a site map.
func fetchText(ctx context.Context, at string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", at, nil)
	if err != nil || r.URL.Host == "" {
		return nil, badUsage("%s isn't a page's URL: write it as https://shop.example.test/", at)
	}
	a, err := http.DefaultClient.Do(r)
	if err != nil {
		return nil, fmt.Errorf("get %s: %w", at, err)
	}
	defer a.Body.Close()
	if a.StatusCode != 200 {
		return nil, fmt.Errorf("get %s: it answers %s", at, a.Status)
	}
	text, err := io.ReadAll(io.LimitReader(a.Body, largestPageText+1))
	if err == nil && len(text) > largestPageText {
		err = fmt.Errorf("it has more than %d MiB", largestPageText>>20)
	}
	if err != nil {
		return nil, fmt.Errorf("get %s: %w", at, err)
	}
	return text, nil
}

// siteMap lists the pages that a site map, and those that it names, name (sitemaps.org, protocol 0.9).
func siteMap(ctx context.Context, at string, most int) (pages []string, err error) {
	maps := []string{at}
	for i := 0; i < len(maps) && i < mostSiteMaps && len(pages) < most; i++ {
		text, err := fetchText(ctx, maps[i])
		if err != nil {
			return nil, err
		}
		var m struct {
			Pages []string `xml:"url>loc"`
			Maps  []string `xml:"sitemap>loc"`
		}
		if err := xml.Unmarshal(text, &m); err != nil {
			return nil, fmt.Errorf("read the site map %s: %w", maps[i], err)
		}
		for _, p := range m.Pages {
			if p = strings.TrimSpace(p); len(pages) < most && !slices.Contains(pages, p) {
				pages = append(pages, p)
			}
		}
		for _, m := range m.Maps {
			if m = strings.TrimSpace(m); !slices.Contains(maps, m) {
				maps = append(maps, m)
			}
		}
	}
	if len(pages) == 0 {
		return nil, fmt.Errorf("the site map %s names no pages", at)
	}
	return pages, nil
}
