package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"echolane/core/policy"
	"echolane/core/sheet"
	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
	"echolane/service/lane"
	"echolane/service/records"
)

func siteCommand() *cli.Command {
	return &cli.Command{
		Name:   "site",
		Usage:  "add, list, show, change and remove sites",
		Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a site", ArgsUsage: "NAME",
				Description: `Everything that isn't said is as for every new site; it is shown, and can be changed at any time.

Examples:
  echolane site add kestrel
  echolane site add archive --formats jpeg,png --limit source_pixels=120000000 --sheet archive.css`,
				Flags: callFlags(siteFlags()...),
				Action: withCall(1, "the site's name, as in: echolane site add kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					d := policy.NewDocument(c.Args().First())
					if err := editSite(c, &d); err != nil {
						return err
					}
					site, err := call.AddSite(ctx, d)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), site)
					}
					printSite(site, nil)
					fmt.Fprintf(stdout(), "\nNext: echolane lane add %s/NAME --folder DIR\n", site.Name)
					return nil
				}),
			},
			{
				Name: "list", Usage: "list all sites",
				Description: "Example:\n  echolane site list --json",
				Flags:       callFlags(),
				Action: withCall(0, "", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					sites, err := call.Sites(ctx)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), sites)
					}
					if len(sites) == 0 {
						fmt.Fprintln(stdout(), "There is no site yet. Add one: echolane site add NAME")
						return nil
					}
					rows := [][]string{{"site", "lanes", "version", "formats", "classes"}}
					for _, s := range sites {
						d := s.Document
						rows = append(rows, []string{s.Name, fmt.Sprint(len(d.Lanes)), fmt.Sprint(s.Version), strings.Join(d.Formats, " "), classesText(d.Sheet)})
					}
					table(stdout(), "lrr", rows...)
					return nil
				}),
			},
			{
				Name: "show", Usage: "show one site", ArgsUsage: "NAME",
				Description: "Example:\n  echolane site show kestrel",
				Flags:       callFlags(),
				Action: withCall(1, "the site's name, as in: echolane site show kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, err := call.Site(ctx, c.Args().First())
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), site)
					}
					used, err := call.Usage(ctx, site.Name)
					if err != nil {
						return err
					}
					printSite(site, used)
					return nil
				}),
			},
			{
				Name: "set", Usage: "change a site; in force on every node within a second", ArgsUsage: "NAME",
				Description: `Examples:
  echolane site set kestrel --rungs 320,640,960,1280 --other-widths refuse
  echolane site set kestrel --pages https://www.kestrel.test --pages-silent refuse
  echolane site set kestrel --limit quality_ceiling=90 --limit width=4096 --dry-run`,
				Flags: callFlags(append(siteFlags(), dryRunFlag())...),
				Action: withCall(1, "the site's name, as in: echolane site set kestrel --add-rung 800", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					return changeSite(ctx, c, call, c.Args().First(), func(d *policy.Document) error { return editSite(c, d) })
				}),
			},
			{
				Name: "remove", Usage: "remove a site with its lanes and secrets; sources stay where they are", ArgsUsage: "NAME",
				Description: "Example:\n  echolane site remove archive --yes",
				Flags:       callFlags(yesFlag()),
				Action: withCall(1, "the site's name, as in: echolane site remove archive", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, err := call.Site(ctx, c.Args().First())
					if err != nil {
						return err
					}
					if err := sure(c, fmt.Sprintf("Remove site %s with its %d lanes and %d secrets? Its images stop being served at once.", site.Name, len(site.Document.Lanes), len(site.Secrets))); err != nil {
						return err
					}
					if err := call.RemoveSite(ctx, site.Name, site.Version); err != nil {
						return err
					}
					return done(c, "removed", site.Name, fmt.Sprintf("%s is removed. Its history stays: echolane site history %s", site.Name, site.Name))
				}),
			},
			{
				Name: "history", Usage: "who changed what, and when", ArgsUsage: "NAME",
				Description: "Example:\n  echolane site history kestrel",
				Flags:       callFlags(),
				Action: withCall(1, "the site's name, as in: echolane site history kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					changes, err := call.History(ctx, c.Args().First())
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), changes)
					}
					rows := [][]string{{"version", "when", "who", "what"}}
					for _, ch := range changes {
						rows = append(rows, []string{fmt.Sprint(ch.Version), ch.At.Local().Format("2006-01-02 15:04:05"), ch.By, ch.What})
					}
					table(stdout(), "r", rows...)
					return nil
				}),
			},
			{
				Name: "restore", Usage: "go back to an earlier version", ArgsUsage: "NAME VERSION",
				Description: "The restored settings become a new version, so nothing is lost.\n\nExample:\n  echolane site restore kestrel 3 --dry-run",
				Flags:       callFlags(dryRunFlag()),
				Action: withCall(2, "the site's name and a version, as in: echolane site restore kestrel 3", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					name := c.Args().First()
					v, err := strconv.ParseInt(c.Args().Get(1), 10, 64)
					if err != nil {
						return badUsage("%q isn't a version: `echolane site history %s` lists them", c.Args().Get(1), name)
					}
					site, err := call.Site(ctx, name)
					if err != nil {
						return err
					}
					d, err := call.DocumentAt(ctx, name, v)
					if err != nil {
						return err
					}
					changes := policy.Diff(site.Document, d)
					if c.Bool("dry-run") {
						return printChanges(c, name, changes, nil, false)
					}
					after, err := call.Restore(ctx, name, api.Restore{Version: v}, site.Version)
					if err != nil {
						return err
					}
					return printChanges(c, name, changes, after.Warnings, true)
				}),
			},
			{
				Name: "ladder", Usage: "propose a ladder of widths", ArgsUsage: "NAME",
				Description: `No picture that is delivered at the next rung up has more than the given waste of pixels too many.

Example:
  echolane site ladder kestrel --from 160 --to 2560 --waste 0.5`,
				Flags: callFlags(
					&cli.IntFlag{Name: "from", HideDefault: true, Usage: "the lowest rung, in device pixels"},
					&cli.IntFlag{Name: "to", HideDefault: true, Usage: "the highest"},
					&cli.FloatFlag{Name: "waste", HideDefault: true, Usage: "pixels too many from rung to rung: 0.5 is half as many again"}),
				Action: withCall(1, "the site's name, as in: echolane site ladder kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					for _, name := range []string{"from", "to", "waste"} {
						if c.IsSet(name) && fmt.Sprint(c.Value(name)) == "0" {
							return badUsage("--%s must be more than 0", name)
						}
					}
					p, err := call.Ladder(ctx, c.Args().First(), c.Int("from"), c.Int("to"), c.Float("waste"))
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), p)
					}
					words := make([]string, len(p.Rungs))
					for i, r := range p.Rungs {
						words[i] = strconv.Itoa(r)
					}
					fmt.Fprintf(stdout(), "%d rungs. To take them:\n\n  echolane site set %s --rungs %s\n", len(words), c.Args().First(), strings.Join(words, ","))
					return nil
				}),
			},
		},
	}
}

func dryRunFlag() cli.Flag {
	return &cli.BoolFlag{Name: "dry-run", Usage: "show what would change, and change nothing"}
}
func yesFlag() cli.Flag {
	return &cli.BoolFlag{Name: "yes", Usage: "don't ask"}
}

// sure asks before something is destroyed. Without a terminal to ask on, it must have been said before.
func sure(c *cli.Command, question string) error {
	if c.Bool("yes") {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return badUsage("%s Say --yes to do it.", question)
	}
	fmt.Fprintf(stderr(), "%s [y/N] ", question)
	var answer string
	fmt.Scanln(&answer)
	if answer = strings.ToLower(answer); answer != "y" && answer != "yes" {
		return errors.New("nothing was removed")
	}
	return nil
}

// done reports an action that has nothing to show.
func done(c *cli.Command, what, name, words string) error {
	if c.Bool("json") {
		return printJSON(stdout(), map[string]string{what: name})
	}
	fmt.Fprintln(stdout(), words)
	return nil
}

// siteFlags are a site's settings. Lists replace what is there; those that begin with add put one more in.
func siteFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "sheet", Usage: "a file with the stylesheet for images; - for standard input"},
		&cli.StringFlag{Name: "formats", Usage: "formats it delivers, separated by commas: of those that a client takes the smallest, of equals the first"},
		&cli.StringFlag{Name: "add-format", Usage: "add a format"},
		&cli.StringFlag{Name: "hosts", Usage: "host names of its own, separated by commas"},
		&cli.StringFlag{Name: "rungs", Usage: "the ladder: widths in device pixels, separated by commas; none: any width"},
		&cli.IntFlag{Name: "add-rung", HideDefault: true, Usage: "add a rung"},
		&cli.StringFlag{Name: "other-widths", Usage: "widths beside the ladder: refuse or round-up"},
		&cli.StringFlag{Name: "shapes", Usage: "aspect ratios it delivers, separated by commas; none: any"},
		&cli.StringFlag{Name: "add-shape", Usage: "add a shape"},
		&cli.StringFlag{Name: "effort", Usage: "effort for kept variants: quick, thorough (longer to make, fewer bytes) or predicted (a quarter of the time; quality is less exact)"},
		&cli.StringFlag{Name: "grow", Usage: "who may ask for more pixels than the source has: url or classes"},
		&cli.StringFlag{Name: "paint", Usage: "who may ask for paint: url or classes"},
		&cli.StringFlag{Name: "pages", Usage: "origins whose pages may embed, separated by commas; none: every page"},
		&cli.StringFlag{Name: "add-page", Usage: "add an origin"},
		onlyFlag(),
		&cli.StringFlag{Name: "pages-silent", Usage: "requests that don't say which page they come from: allow or refuse"},
		&cli.StringFlag{Name: "unsigned", Usage: "what may be asked without a signature: anything, ladder or nothing"},
		&cli.StringFlag{Name: "cards", Usage: "who gives the sheet's cards what they show: signed (links), listed (or one of --card-value) or open (everybody)"},
		&cli.StringSliceFlag{Name: "card-value", Usage: "NAME=VALUE: what everybody may give cards where they are listed, such as data-status=\"sold out\"; in the place of those before"},
		&cli.StringSliceFlag{Name: "limit", Usage: "NAME=VALUE: " + strings.Join(numberNames(policy.LimitNumbers), ", ")},
		&cli.StringSliceFlag{Name: "month", Usage: "NAME=VALUE: " + strings.Join(numberNames(policy.MonthNumbers), ", ") + "; 0: no bound"},
	}
}

func numberNames(list []policy.Number) []string {
	names := make([]string, len(list))
	for i, n := range list {
		names[i] = n.Name
	}
	return names
}

func commas(s string) []string {
	if s == "" || s == "none" {
		return []string{}
	}
	parts := strings.Split(s, ",")
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return parts
}

// editSite makes the changes that the flags say.
func editSite(c *cli.Command, d *policy.Document) error {
	if c.IsSet("sheet") {
		text, err := readFileOrInput(c.String("sheet"))
		if err != nil {
			return err
		}
		d.Sheet = string(text)
	}
	for name, to := range map[string]*string{
		"other-widths": &d.Ladder.Other, "effort": &d.Effort, "grow": &d.Grow, "paint": &d.Paint, "pages-silent": &d.Pages.Silent, "unsigned": &d.Signing.Unsigned,
		"cards": &d.Cards.Values,
	} {
		if c.IsSet(name) {
			*to = c.String(name)
		}
	}
	for name, to := range map[string]*[]string{"formats": &d.Formats, "hosts": &d.Hosts, "shapes": &d.Shapes, "pages": &d.Pages.Allow} {
		if c.IsSet(name) {
			*to = commas(c.String(name))
		}
	}
	if c.IsSet("card-value") {
		d.Cards.Listed = c.StringSlice("card-value")
	}
	if !c.Bool("only") {
		for _, name := range []string{"add-page", "add-rung", "add-shape"} {
			if what, others := (policy.Mend{Action: name}).Narrows(*d); c.IsSet(name) && what != "" {
				return badUsage("--%s: the site has no %s, so %s: with this one it would be the only one. Say so with --only, or leave it as it is", name, what, others)
			}
		}
	}
	for name, to := range map[string]*[]string{"add-format": &d.Formats, "add-shape": &d.Shapes, "add-page": &d.Pages.Allow} {
		if v := c.String(name); c.IsSet(name) && !slices.Contains(*to, v) {
			*to = append(*to, v)
		}
	}
	if c.IsSet("rungs") {
		d.Ladder.Rungs = []int{}
		for _, r := range commas(c.String("rungs")) {
			n, err := strconv.Atoi(r)
			if err != nil {
				return badUsage("--rungs: %q isn't a width: write them as 320,640,960", r)
			}
			d.Ladder.Rungs = append(d.Ladder.Rungs, n)
		}
	}
	if c.IsSet("add-rung") && !slices.Contains(d.Ladder.Rungs, int(c.Int("add-rung"))) {
		d.Ladder.Rungs = append(d.Ladder.Rungs, int(c.Int("add-rung")))
		slices.Sort(d.Ladder.Rungs)
	}
	for _, l := range c.StringSlice("limit") {
		if err := setNumber("limit", l, policy.LimitNumbers, &d.Limits); err != nil {
			return err
		}
	}
	for _, m := range c.StringSlice("month") {
		if err := setNumber("month", m, policy.MonthNumbers, &d.Month); err != nil {
			return err
		}
	}
	return nil
}

// setNumber sets the one of the numbers that NAME=VALUE names.
func setNumber(flag, given string, list []policy.Number, in any) error {
	name, text, _ := strings.Cut(given, "=")
	i := slices.IndexFunc(list, func(n policy.Number) bool { return n.Name == name })
	if i < 0 {
		names := numberNames(list)
		if near := wording.Nearest(name, names); near != "" {
			return badUsage("--%s: there is no %q; did you mean %s?", flag, name, near)
		}
		return badUsage("--%s: there is no %q; there are %s", flag, name, strings.Join(names, ", "))
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || list[i].Whole && v != float64(int64(v)) {
		return badUsage("--%s: %q isn't NAME=NUMBER: write it as %s=100", flag, given, name)
	}
	list[i].Set(in, v)
	return nil
}

// changeSite reads a site, changes its document and sends it back; where somebody else was quicker, again.
func changeSite(ctx context.Context, c *cli.Command, call *client.Client, name string, edit func(*policy.Document) error) error {
	for try := 0; ; try++ {
		site, err := call.Site(ctx, name)
		if err != nil {
			return err
		}
		d := site.Document.Clone()
		if err := edit(&d); err != nil {
			return err
		}
		if c.Bool("dry-run") {
			p, err := call.ProposePutSite(ctx, name, d)
			if err != nil {
				return err
			}
			return printChanges(c, name, p.Changes, concerning(p.Warnings, p.Changes, d.Lanes), false)
		}
		after, err := call.PutSite(ctx, name, d, site.Version)
		var no *policy.Refusal
		if errors.As(err, &no) && no.Reason == policy.ReasonChangedMeanwhile && try < 3 {
			continue
		}
		if err != nil {
			return err
		}
		changes := policy.Diff(site.Document, after.Document)
		return printChanges(c, name, changes, concerning(after.Warnings, changes, after.Document.Lanes), true)
	}
}

// onlyFlag is a plain yes to what would shut others out.
func onlyFlag() cli.Flag {
	return &cli.BoolFlag{Name: "only", Usage: "the page, rung or shape that is added may be the only one, where all are allowed now"}
}

// changed is what a change did, or would do.
type changed struct {
	Site     string              `json:"site"`
	Done     bool                `json:"done"`
	Changes  []policy.Difference `json:"changes"`
	Warnings []policy.Trouble    `json:"warnings"`
}

func printChanges(c *cli.Command, site string, changes []policy.Difference, warnings []policy.Trouble, did bool) error {
	if c.Bool("json") {
		return printJSON(stdout(), changed{site, did && len(changes) > 0, changes, warnings})
	}
	switch {
	case len(changes) == 0:
		fmt.Fprintf(stdout(), "%s: nothing changes\n", site)
	case did:
		fmt.Fprintf(stdout(), "%s: changed\n", site)
	default:
		fmt.Fprintf(stdout(), "%s: would change\n", site)
	}
	for _, d := range changes {
		fmt.Fprintf(stdout(), "  %s\n", d)
	}
	warn(warnings)
	return nil
}

var laneAt = regexp.MustCompile(`^lanes\[(\d+)\]`)

// concerning are the warnings about what has changed: what stood there before was warned of then. Warnings name lanes by their place.
func concerning(warnings []policy.Trouble, changes []policy.Difference, lanes []policy.Lane) (some []policy.Trouble) {
	for _, w := range warnings {
		path := w.Path
		if m := laneAt.FindStringSubmatch(path); m != nil {
			if i, err := strconv.Atoi(m[1]); err == nil && i < len(lanes) {
				path = "lanes." + lanes[i].Name + path[len(m[0]):]
			}
		}
		path, _, _ = strings.Cut(path, "[")
		if slices.ContainsFunc(changes, func(d policy.Difference) bool {
			return d.Path == path || strings.HasPrefix(d.Path, path+".") || strings.HasPrefix(path, d.Path+".")
		}) {
			some = append(some, w)
		}
	}
	return some
}

func warn(warnings []policy.Trouble) {
	for _, w := range warnings {
		fmt.Fprintf(stderr(), "warning: %s %s: %s\n", w.Path, w.Given, w.Detail)
	}
}

// withCall is the action of a command that takes n arguments and calls a service.
func withCall(n int, what string, do func(context.Context, *cli.Command, *client.Client) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		switch {
		case c.Args().Len() > n && n == 0:
			return badUsage("%s takes no arguments, and was given %q", strings.TrimPrefix(c.FullName(), "echolane "), c.Args().First())
		case c.Args().Len() < n:
			return badUsage("give %s", what)
		case c.Args().Len() > n:
			return badUsage("%q is one argument too many: give %s", c.Args().Get(n), what)
		}
		call, err := caller(c)
		if err != nil {
			return err
		}
		return do(ctx, c, call)
	}
}

func oneArgument(c *cli.Command, what string) (string, error) {
	switch c.Args().Len() {
	case 0:
		return "", badUsage("give %s", what)
	case 1:
		return c.Args().First(), nil
	}
	return "", badUsage("%q is one argument too many: give %s", c.Args().Get(1), what)
}

// classesText names a sheet's classes.
func classesText(text string) string {
	read, err := sheet.Parse(text)
	if err != nil || len(read.Classes()) == 0 {
		return "none"
	}
	return strings.Join(read.Classes(), ", ")
}

func printSite(s api.Site, used []records.Usage) {
	d, b := s.Document, s.Document.Limits
	or := func(list []string, otherwise string) string {
		if len(list) == 0 {
			return otherwise
		}
		return strings.Join(list, ", ")
	}
	ladder := "any width"
	if len(d.Ladder.Rungs) > 0 {
		ladder = strings.Trim(strings.ReplaceAll(fmt.Sprint(d.Ladder.Rungs), " ", ", "), "[]") + "; other widths: " + d.Ladder.Other
	}
	each := "any number"
	if b.VariantsPerSource > 0 {
		each = fmt.Sprintf("at most %d", b.VariantsPerSource)
	}
	rate := "as often as they like"
	if b.RequestsPerSecond > 0 {
		rate = fmt.Sprintf("at most %g requests a second on one node", b.RequestsPerSecond)
	}
	rows := [][]string{
		{"site", s.Name},
		{"version", fmt.Sprintf("%d, of %s", s.Version, s.ChangedAt.Local().Format("2006-01-02 15:04"))},
		{"hosts", or(d.Hosts, "none of its own: paths begin with /"+s.Name+"/")},
		{"sheet", "below; classes: " + classesText(d.Sheet)},
		{"formats", strings.Join(d.Formats, ", ") + fmt.Sprintf(" (of those that the client takes the smallest, of equals the first; %d are tried at most)", b.FormatsTried)},
		{"effort", d.Effort},
		{"ladder", ladder},
		{"shapes", or(d.Shapes, "any")},
		{"grow, paint", fmt.Sprintf("by %s, by %s", d.Grow, d.Paint)},
		{"sources", fmt.Sprintf("at most %s, %.0f megapixels, %d frames", wording.Bytes(b.SourceBytes), float64(b.SourcePixels)/1e6, b.SourceFrames)},
		{"variants", fmt.Sprintf("at most %d × %d, %.0f megapixels; quality %d to %d; %s of one source", b.Width, b.Height, float64(b.Pixels)/1e6, b.QualityFloor, b.QualityCeiling, each)},
		{"rendering", fmt.Sprintf("at most %g s a variant", float64(b.RenderMS)/1000)},
		{"clients", rate},
		{"pages", or(d.Pages.Allow, "every page may embed") + silent(d.Pages)},
		{"unsigned", map[string]string{"anything": "may ask for anything", "ladder": "may ask for the ladder's widths, without paint", "nothing": "get nothing"}[d.Signing.Unsigned]},
		{"cards", map[string]string{"signed": "show what signed links give them", "listed": fmt.Sprintf("show what signed links give them, and from everybody one of %d listed values", len(d.Cards.Listed)), "open": "show what any URL gives them"}[d.Cards.Values]},
		{"month", monthText(d.Month, used)},
	}
	for i, l := range d.Lanes {
		head := ""
		if i == 0 {
			head = "lanes"
		}
		rows = append(rows, []string{head, fmt.Sprintf("%s (%s, %s) %s", l.Name, l.Kind, l.Visibility, laneWhere(l))})
	}
	if len(d.Lanes) == 0 {
		rows = append(rows, []string{"lanes", "none yet"})
	}
	table(stdout(), "ll", rows...)
	fmt.Fprintf(stdout(), "\n%s\n", strings.TrimRight(d.Sheet, "\n"))
	warn(s.Warnings)
}

func silent(p policy.Pages) string {
	if len(p.Allow) == 0 {
		return ""
	}
	return "; requests that don't say: " + p.Silent
}

func monthText(m policy.Month, used []records.Usage) string {
	var u records.Usage
	if len(used) > 0 {
		u = used[0]
	}
	of := func(have, most int64, text func(int64) string) string {
		if most == 0 {
			return text(have)
		}
		return text(have) + " of " + text(most)
	}
	count := func(n int64) string { return fmt.Sprint(n) }
	return fmt.Sprintf("%s renders, %s served, %s stored", of(u.Renders, m.Renders, count), of(u.BytesServed, m.BytesServed, wording.Bytes), of(u.BytesStored, m.BytesStored, wording.Bytes))
}

// laneWhere is where a lane's sources are.
func laneWhere(l policy.Lane) string {
	if k := lane.Described.Of(l.Kind); k != nil {
		return k.Source(&l)
	}
	return ""
}
