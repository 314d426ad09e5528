package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"echolane/core/markup"
	"echolane/core/weighin"
	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
	"echolane/service/weighing"
)

func weighCommand() *cli.Command {
	return &cli.Command{
		Name: "weigh", Usage: "weigh a page: what its pictures cost, and what they could", ArgsUsage: "PAGE",
		Description: `PAGE is a URL, an HTML file, or a folder with pages. What a file names beside it, or below the folder, goes along, as if it
were served under --at, from where everything else then comes, or by itself. The service opens it in headless
Chromium on a phone, a tablet and a desktop, scrolls it, and makes every picture to fit its place to know what it would weigh. Then
it loads the page over slow 4G on the narrowest screen and over cable on the widest, three times each, to tell when the largest
content and the last picture come. Of a folder's pages that is left out unless --loads asks for it.

With --fix the page is rewritten with Echo Lane markup: nothing but its image tags changes, and every tag keeps what
it was in data-was, from which --undo brings it back. It goes to --out FILE, - for standard output, or into the file itself
with --in-place; --dry-run prints what would change instead.

Examples:
  echolane weigh http://127.0.0.1:8741/ --site kestrel
  echolane weigh https://shop.kestrel.test/ --site kestrel --screens 'phone 360x740@3, wall 2560x1440'
  echolane weigh https://shop.kestrel.test/ --site kestrel --page report.html
  echolane weigh index.html --at http://127.0.0.1:8741/ --site kestrel --map http://127.0.0.1:8741/pictures/=catalogue --fix --dry-run
  echolane weigh public/ --site kestrel --map pictures/=catalogue --fix --in-place
  echolane weigh index.html --undo --in-place`,
		Flags: callFlags(
			&cli.StringFlag{Name: "site", Usage: "the site whose lanes and rules apply; needed where the service has several"},
			&cli.StringFlag{Name: "at", Usage: "the address that a file is served under"},
			&cli.StringFlag{Name: "screens", Usage: "such as 'phone 390x844@3, desktop 1440x900'"},
			&cli.StringSliceFlag{Name: "map", Usage: "URL=LANE or URL=LANE/FOLDER: what lies below the URL lies in the lane too; of a file also a folder beside it, as in pictures/=catalogue"},
			&cli.IntFlag{Name: "loads", Value: 3, Usage: "how often the page is loaded over slow 4G and over cable, to know how soon its pictures are seen; 0: not at all"},
			&cli.BoolFlag{Name: "all", Usage: "print the pictures of all screens"},
			&cli.StringFlag{Name: "page", Usage: "write the report as a page of its own to this file; for a folder, into this folder"},
			&cli.BoolFlag{Name: "fix", Usage: "rewrite the page, and weigh it again"},
			&cli.StringFlag{Name: "base", Usage: "what addresses in the page begin with, such as https://img.kestrel.test; else the service's own"},
			&cli.StringFlag{Name: "out", Usage: "file for the rewritten page"},
			&cli.BoolFlag{Name: "in-place", Usage: "into the file itself"},
			&cli.BoolFlag{Name: "dry-run", Usage: "print what would change in the page, and write nothing"},
			&cli.BoolFlag{Name: "undo", Usage: "restore the file as it was before it was rewritten; no service is needed"}),
		Action: weigh,
	}
}

func weigh(ctx context.Context, c *cli.Command) error {
	page, err := oneArgument(c, "a page, as in: echolane weigh https://shop.example.test/ --site kestrel")
	if err != nil {
		return err
	}
	local := !strings.Contains(page, "://")
	pages := []localPage{{file: page, at: page}}
	if local {
		if pages, err = localPages(page, c.String("at")); err != nil {
			return err
		}
	} else if c.Bool("in-place") {
		return badUsage("--in-place goes with a file; write the page with --out FILE")
	}
	if several := len(pages) > 1; several && c.String("out") != "" {
		return badUsage("--out takes one page, and %s has %d: write them with --in-place", page, len(pages))
	} else if several && c.Bool("undo") && !c.Bool("in-place") {
		return badUsage("%s has %d pages: --undo writes them with --in-place", page, len(pages))
	}
	if c.Bool("undo") {
		for _, p := range pages {
			if err := undo(c, p.file); err != nil {
				return err
			}
		}
		return nil
	}
	ask := api.AskWeighing{Base: c.String("base"), Fix: c.Bool("fix"), Loads: c.Int("loads")}
	if len(pages) > 1 && !c.IsSet("loads") {
		ask.Loads = 0
	}
	if ask.Screens, err = readScreens(c.String("screens")); err != nil {
		return err
	}
	relative := ""
	if local {
		relative = pages[0].rootAt
	}
	if ask.Maps, err = readMaps(c.StringSlice("map"), relative); err != nil {
		return err
	}
	call, err := caller(c)
	if err != nil {
		return err
	}
	site, err := theSite(ctx, c, call)
	if err != nil {
		return err
	}
	if len(pages) > 1 {
		return weighFolder(ctx, c, call, site, ask, pages)
	}
	w, err := weighPage(ctx, c, call, site, ask, pages[0], c.String("page"))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		if err := printJSON(stdout(), w); err != nil {
			return err
		}
	} else {
		printWeighing(w, c.Bool("all"))
	}
	if w.Fixed != nil && w.Fixed.Changed == 0 {
		return fmt.Errorf("nothing of the page was rewritten: each of its images says above why")
	}
	return nil
}

// weighPage weighs one page, and writes its report and what became of it where the flags say.
func weighPage(ctx context.Context, c *cli.Command, call *client.Client, site string, ask api.AskWeighing, p localPage, report string) (w api.Weighing, err error) {
	var before []byte
	ask.Page = p.at
	if p.root != "" {
		if before, err = readFileOrInput(p.file); err != nil {
			return w, err
		}
		ask.HTML, ask.File = before, p.file
		if p.file != "-" {
			names := before
			if was := markup.Restore(before); !bytes.Equal(was, before) { // what was rewritten is weighed as it was, too
				names = append(was, before...)
			}
			if ask.Files, err = besides(p.file, p.at, p.root, p.rootAt, names); err != nil {
				return w, err
			}
		}
	}
	if w, err = weighed(ctx, call, site, ask); err != nil {
		return w, err
	}
	if report != "" {
		text, err := call.WeighingPage(ctx, site, w.ID)
		if err != nil {
			return w, err
		}
		if err := os.WriteFile(report, text, 0o644); err != nil {
			return w, fmt.Errorf("write the report: %w", err)
		}
		say("The report: %s", report)
	}
	if w.Fixed != nil && w.Fixed.Changed > 0 {
		err = writeFixed(c, p.file, before, w)
	}
	return w, err
}

var errStopped = errors.New("stopped")

// theSite is the one that is named, or the only one.
func theSite(ctx context.Context, c *cli.Command, call *client.Client) (string, error) {
	if name := c.String("site"); name != "" {
		return name, nil
	}
	sites, err := call.Sites(ctx)
	if err != nil {
		return "", err
	}
	if len(sites) == 1 {
		return sites[0].Name, nil
	}
	return "", badUsage("say with --site whose lanes and rules hold: the service has %d sites", len(sites))
}

// readScreens reads a list such as: phone 390x844@3, desktop 1440x900.
func readScreens(text string) (list []weighing.Screen, err error) {
	if text == "" {
		return nil, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		bad := badUsage("%q isn't a screen: write it as phone 390x844@3", strings.TrimSpace(part))
		fields := strings.Fields(part)
		if len(fields) == 0 {
			return nil, bad
		}
		size, density, _ := strings.Cut(fields[len(fields)-1], "@")
		wide, high, ok := strings.Cut(size, "x")
		s := weighing.Screen{Name: strings.Join(fields[:len(fields)-1], " "), Density: 1}
		var broke [3]error
		s.Width, broke[0] = strconv.Atoi(wide)
		s.Height, broke[1] = strconv.Atoi(high)
		if density != "" {
			s.Density, broke[2] = strconv.ParseFloat(density, 64)
		}
		if !ok || broke[0] != nil || broke[1] != nil || broke[2] != nil {
			return nil, bad
		}
		if s.Name == "" {
			s.Name = size
		}
		list = append(list, s)
	}
	return list, nil
}

// weighed begins a weigh-in and waits for it. Ctrl-C stops it.
func weighed(ctx context.Context, call *client.Client, site string, ask api.AskWeighing) (api.Weighing, error) {
	w, err := call.Weigh(ctx, site, ask)
	if err != nil {
		return w, err
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	lines := newLines(term.IsTerminal(int(os.Stderr.Fd())))
	bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetWidth(40), progressbar.OptionClearOnFinish(), progressbar.OptionSetVisibility(term.IsTerminal(int(os.Stderr.Fd()))))
	defer bar.Finish()
	for w.State == "running" {
		select {
		case <-ctx.Done():
			call.StopWeighing(context.WithoutCancel(ctx), site, w.ID)
			return w, errStopped
		case <-time.After(400 * time.Millisecond):
		}
		if w, err = call.Weighing(ctx, site, w.ID); err != nil {
			return w, err
		}
		bar.ChangeMax(max(1, w.Of))
		bar.Describe(w.Doing)
		bar.Set(w.Done)
		lines.say(w.Doing, w.Done, w.Of)
	}
	if w.State != "done" {
		return w, fmt.Errorf("%s wasn't weighed: %s", ask.Page, orText(w.Trouble, "it was stopped"))
	}
	return w, nil
}

// lines tell how far something is where there is no terminal: one every few seconds.
type lines struct {
	quiet bool
	next  time.Time
}

const betweenLines = 5 * time.Second

func newLines(terminal bool) *lines {
	return &lines{quiet: terminal, next: time.Now().Add(betweenLines)}
}

func (l *lines) say(doing string, done, of int) {
	if now := time.Now(); !l.quiet && now.After(l.next) {
		l.next = now.Add(betweenLines)
		if of > 0 {
			say("%s: %d of %d", orText(doing, "beginning"), done, of)
		} else {
			say("%s", orText(doing, "beginning"))
		}
	}
}

func orText(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

func undo(c *cli.Command, name string) error {
	data, err := readFileOrInput(name)
	if err != nil {
		return err
	}
	return writePage(c, name, markup.Restore(data))
}

// writePage puts a page where the flags say.
func writePage(c *cli.Command, name string, data []byte) error {
	switch {
	case c.Bool("in-place"):
		return replaceFile(name, data)
	case c.String("out") != "":
		if err := os.WriteFile(c.String("out"), data, 0o644); err != nil {
			return fmt.Errorf("write the page: %w", err)
		}
		return nil
	}
	_, err := stdout().Write(data)
	return err
}

// replaceFile writes beside the file first, so that a full disk loses nothing.
func replaceFile(name string, data []byte) error {
	info, err := os.Stat(name)
	if err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".echolane-*")
	if err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	defer os.Remove(f.Name())
	if _, err := f.Write(data); err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	if err := f.Chmod(info.Mode().Perm()); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	return os.Rename(f.Name(), name)
}

func writeFixed(c *cli.Command, name string, before []byte, w api.Weighing) error {
	after := w.Fixed.HTML
	if c.Bool("dry-run") {
		fmt.Fprintf(stdout(), "--- %s\n", name)
		for _, line := range diffLines(string(markup.Restore(after)), string(after)) {
			fmt.Fprintln(stdout(), line)
		}
		return nil
	}
	if !c.Bool("in-place") && c.String("out") == "" && !c.Bool("json") {
		say("The rewritten page goes to standard output with --out -, to a file with --out FILE, into the file with --in-place.")
		return nil
	}
	if c.String("out") == "-" {
		_, err := stdout().Write(after)
		return err
	}
	if c.Bool("json") && c.String("out") == "" && !c.Bool("in-place") {
		return nil
	}
	if c.Bool("in-place") && bytes.Equal(before, after) {
		say("Nothing changes.")
		return nil
	}
	return writePage(c, name, after)
}

// diffLines are the lines in which two texts differ that are the same but for changes within lines and new lines.
func diffLines(before, after string) (out []string) {
	a, b := strings.Split(before, "\n"), strings.Split(after, "\n")
	for i, j := 0, 0; i < len(a) || j < len(b); {
		if i < len(a) && j < len(b) && a[i] == b[j] {
			i++
			j++
			continue
		}
		// To where both are alike again.
		di, dj := len(a)-i, len(b)-j
		for di > 0 && dj > 0 && a[i+di-1] == b[j+dj-1] { // but for what both end with
			di, dj = di-1, dj-1
		}
	search:
		for d := 1; d < 200; d++ {
			for k := 0; k <= d; k++ {
				if i+k < len(a) && j+d-k < len(b) && a[i+k] == b[j+d-k] && strings.TrimSpace(a[i+k]) != "" {
					di, dj = k, d-k
					break search
				}
			}
		}
		out = append(out, fmt.Sprintf("@@ line %d", i+1))
		for k := range max(di, dj) { // line beside line where as many go as come
			if k < di {
				out = append(out, "- "+a[i+k])
			}
			if k < dj && di == dj {
				out = append(out, "+ "+b[j+k])
			}
		}
		for k := range dj {
			if di != dj {
				out = append(out, "+ "+b[j+k])
			}
		}
		i, j = i+di, j+dj
	}
	return out
}

// printLoads says how the page loads over throttled lines, before and after.
func printLoads(r, after *weighin.Report) {
	if len(r.Loads) == 0 {
		return
	}
	out := stdout()
	rows := [][]string{{"", "on the", "largest paint", "last picture", "jumps", "loads"}}
	add := func(l *weighin.Loading, which string) {
		loads := fmt.Sprint(l.Loads)
		if l.Unfinished > 0 {
			loads = fmt.Sprintf("%d, %d cut off", l.Loads, l.Unfinished)
		}
		rows = append(rows, []string{l.Line + which, l.Screen, l.Time(l.Content), l.Time(l.LastImage), l.Shift.Score(), loads})
	}
	for i := range r.Loads {
		add(&r.Loads[i], "")
		if after != nil && after != r && i < len(after.Loads) {
			add(&after.Loads[i], ", rewritten")
		}
	}
	fmt.Fprintln(out, "\nHow it loads, in medians (least–greatest):")
	table(out, "llrrrr", rows...)
}

func printWeighing(w api.Weighing, all bool) {
	r := w.Report
	out := stdout()
	rows := [][]string{{"screen", "pictures", "now", "made to fit", "saved", "jumps", "largest paint"}}
	if w.After != nil {
		rows = [][]string{{"screen", "pictures", "now", "made to fit", "rewritten", "saved", "jumps", "rewritten", "largest paint", "rewritten"}}
	}
	for _, x := range weighin.Compare(r, w.After) {
		row := []string{x.Name, fmt.Sprint(x.Pictures), wording.Bytes(x.Before), wording.Bytes(x.Predicted)}
		left := x.Predicted
		if w.After != nil {
			row = append(row, wording.Bytes(x.After))
			left = x.After
		}
		saved := "–"
		if x.Before > 0 {
			saved = fmt.Sprintf("%.1f %%", 100*float64(x.Before-left)/float64(x.Before))
		}
		row = append(row, saved, fmt.Sprintf("%.3f", x.ShiftBefore))
		if w.After != nil {
			row = append(row, fmt.Sprintf("%.3f", x.ShiftAfter))
		}
		row = append(row, fmt.Sprintf("%.0f ms", x.ContentMS))
		if w.After != nil {
			row = append(row, fmt.Sprintf("%.0f ms", x.ContentMSAfter))
		}
		rows = append(rows, row)
	}
	table(out, "lrrrrrrrrr", rows...)
	printLoads(r, w.After)
	for n := range r.Views {
		if n > 0 && !all {
			fmt.Fprintf(out, "\nThe pictures of the other screens: --all.\n")
			break
		}
		v := r.Views[n]
		fmt.Fprintf(out, "\nOn the %s:\n", v.Name)
		rows = [][]string{{"picture", "has", "shown", "now", "made to fit", "what to do"}}
		for i := range v.Pictures {
			p := &v.Pictures[i]
			if p.Repeated {
				continue
			}
			measured := "–"
			if p.After != nil {
				measured = wording.Bytes(p.After.Bytes)
			}
			var does []string
			for _, m := range p.Remedies {
				does = append(does, m.What)
			}
			now := wording.Bytes(p.Bytes)
			if p.Failed != "" {
				now = "–"
				does = append([]string{p.Failed}, does...)
			}
			rows = append(rows, []string{wording.Cut(p.Short(), 28), fmt.Sprintf("%d×%d", p.NaturalW, p.NaturalH), fmt.Sprintf("%.0f×%.0f", p.W, p.H), now, measured, strings.Join(does, ", ")})
			if len(rows) == 41 {
				break
			}
		}
		table(out, "lrrrrl", rows...)
		rules := map[string]bool{}
		for _, p := range v.Pictures {
			if p.Rule != "" && !rules[p.Rule] {
				rules[p.Rule] = true
				fmt.Fprintf(out, "\n%s: %s\n", p.Refused, p.Rule)
			}
		}
	}
	for _, n := range r.Notes {
		say("%s", n)
	}
	if w.Fixed != nil {
		fmt.Fprintf(out, "\n%d images were rewritten, %d stay as they are.\n", w.Fixed.Changed, len(w.Fixed.Left))
		for i, l := range w.Fixed.Left {
			if i == 12 {
				fmt.Fprintf(out, "  and %d more\n", len(w.Fixed.Left)-i)
				break
			}
			fmt.Fprintf(out, "  %s: %s\n", wording.Cut(l.Src, 40), l.Why)
		}
	}
}
