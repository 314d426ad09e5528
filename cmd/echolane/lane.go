package main

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
	"echolane/service/lane"
)

func laneCommand() *cli.Command {
	return &cli.Command{
		Name:   "lane",
		Usage:  "add, list, show, change, remove and test the ways to a site's sources",
		Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a lane", ArgsUsage: "SITE/LANE",
				Description: `The kind follows from what is said: --folder makes a folder lane, --allow a web lane, --bucket a bucket
lane; --upload with a folder or a bucket makes one that sources are put into.

Examples:
  echolane lane add kestrel/catalogue --folder /srv/kestrel/catalogue
  echolane lane add kestrel/press --base https://photos.kestrel.test/press/ --allow 'https://photos.kestrel.test/press/*'
  echolane lane add kestrel/archive --bucket kites --endpoint https://store.kestrel.test --region north
  echolane lane add kestrel/incoming --upload --folder /srv/kestrel/incoming`,
				Flags: callFlags(laneFlags()...),
				Action: withCall(1, "the lane as SITE/LANE, as in: echolane lane add kestrel/catalogue --folder DIR", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, name, err := laneName(c.Args().First())
					if err != nil {
						return err
					}
					l := policy.Lane{Name: name, Kind: kindOf(c)}
					if l.Kind == "" {
						return badUsage("say where the sources are: --folder DIR, --allow PATTERN, --bucket NAME, or --upload with a folder or bucket")
					}
					if err := editLane(c, &l); err != nil {
						return err
					}
					after, err := call.AddLane(ctx, site, l)
					if err != nil {
						return err
					}
					l = *after.Document.Lane(name)
					if c.Bool("json") {
						return printJSON(stdout(), l)
					}
					from := "from " + laneWhere(l)
					if k := lane.Described.Of(l.Kind); k != nil && k.Holds != "" {
						from = k.Holds
					}
					fmt.Fprintf(stdout(), "%s/%s delivers %s, from now on:\n  %s/%s/%s/%s?width=640\n", site, name, from, call.Server, site, name, pathHint(l))
					if l.Bucket != "" {
						fmt.Fprintf(stdout(), "\nIf the bucket isn't public: echolane lane secret %s/%s --access-key … --secret-key …\n", site, name)
					}
					warn(concerning(after.Warnings, []policy.Difference{{Path: "lanes." + name}}, after.Document.Lanes))
					return nil
				}),
			},
			{
				Name: "list", Usage: "list lanes, or find sources by what is in them", ArgsUsage: "[SITE[/LANE]]",
				Description: `--find lists sources that were analysed: by as=facts, by the console, or all of a lane by echolane warm SITE/LANE --facts. Its terms
all hold:
  name:delta       in the path; a word without a colon, too
  colour:red       among the main ones: black, white, grey, red, orange, yellow, green, cyan, blue, purple, pink, brown
  faces:>0         so many; also width, height, bytes (1MB), frames, sharpness (0 to 1, out of focus below 0.4)
  kind:photograph  or graphic, or drawing
  text:yes         some of it looks like text
  type:jpeg

Examples:
  echolane lane list kestrel
  echolane lane list kestrel --find 'colour:red faces:>0 width:>2000 name:delta'
  echolane lane list kestrel/catalogue --find 'kind:photograph sharpness:<0.4'`,
				Flags: callFlags(&cli.StringFlag{Name: "find", Usage: "find sources by what is in them, such as 'colour:red faces:>0'"}, &cli.IntFlag{Name: "count", Usage: "how many sources at most", Value: 1000}),
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() > 1 {
						return badUsage("%q is one argument too many: lane list takes a site's name or nothing", c.Args().Get(1))
					}
					call, err := caller(c)
					if err != nil {
						return err
					}
					if c.IsSet("find") {
						return listFound(ctx, c, call)
					}
					if strings.Contains(c.Args().First(), "/") {
						return badUsage("%s is a lane: find sources in it by --find, or see it with: echolane lane show %s", c.Args().First(), c.Args().First())
					}
					return listLanes(ctx, c, call)
				},
			},
			{
				Name: "show", Usage: "show one lane, and which secrets it has", ArgsUsage: "SITE/LANE",
				Description: "Example:\n  echolane lane show kestrel/press",
				Flags:       callFlags(),
				Action: withCall(1, "the lane as SITE/LANE, as in: echolane lane show kestrel/press", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, name, err := laneName(c.Args().First())
					if err != nil {
						return err
					}
					s, err := call.Site(ctx, site)
					if err != nil {
						return err
					}
					l := s.Document.Lane(name)
					if l == nil {
						return noLane(&s.Document, name)
					}
					showing := shownLane{Site: site, Lane: *l, Secrets: []string{}}
					for _, secret := range s.Secrets {
						if rest, its := strings.CutPrefix(secret, "lane/"+name+"/"); its {
							showing.Secrets = append(showing.Secrets, rest)
						}
					}
					if c.Bool("json") {
						return printJSON(stdout(), showing)
					}
					printLane(showing, s.Document.Limits)
					return nil
				}),
			},
			{
				Name: "set", Usage: "change a lane; in force on every node within a second", ArgsUsage: "SITE/LANE",
				Description: `Rules and networks are added; --no-… takes one away. The kind stays.

Examples:
  echolane lane set kestrel/press --allow 'https://photos.kestrel.test/summer/*'
  echolane lane set kestrel/press --no-deny 'https://photos.kestrel.test/private/*' --dry-run
  echolane lane set kestrel/archive --visibility signed --original download`,
				Flags: callFlags(append(laneFlags(), dryRunFlag())...),
				Action: withCall(1, "the lane as SITE/LANE, as in: echolane lane set kestrel/press --allow PATTERN", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, name, err := laneName(c.Args().First())
					if err != nil {
						return err
					}
					if c.IsSet("upload") {
						return badUsage("a lane keeps its kind: remove it and add it anew")
					}
					return changeSite(ctx, c, call, site, func(d *policy.Document) error {
						l := d.Lane(name)
						if l == nil {
							return noLane(d, name)
						}
						return editLane(c, l)
					})
				}),
			},
			{
				Name: "remove", Usage: "remove a lane; its sources stay where they are", ArgsUsage: "SITE/LANE",
				Description: "Example:\n  echolane lane remove kestrel/press --yes",
				Flags:       callFlags(yesFlag(), dryRunFlag()),
				Action: withCall(1, "the lane as SITE/LANE, as in: echolane lane remove kestrel/press", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, name, err := laneName(c.Args().First())
					if err != nil {
						return err
					}
					if !c.Bool("dry-run") {
						if err := sure(c, fmt.Sprintf("Remove lane %s/%s? Its images stop being served at once.", site, name)); err != nil {
							return err
						}
					}
					return changeSite(ctx, c, call, site, func(d *policy.Document) error {
						if d.Lane(name) == nil {
							return noLane(d, name)
						}
						d.Lanes = slices.DeleteFunc(d.Lanes, func(l policy.Lane) bool { return l.Name == name })
						return nil
					})
				}),
			},
			{
				Name: "test", Usage: "check whether a source is allowed, and by which rule", ArgsUsage: "SITE/LANE SOURCE",
				Description: `SOURCE is a path below the lane, or for a web lane without a base the source's URL.

Examples:
  echolane lane test kestrel/press https://photos.kestrel.test/summer/crowd.jpg
  echolane lane test kestrel/catalogue delta-red.jpg`,
				Flags: callFlags(),
				Action: withCall(2, "the lane and a source, as in: echolane lane test kestrel/press https://photos.kestrel.test/crowd.jpg", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, name, err := laneName(c.Args().First())
					if err != nil {
						return err
					}
					out, err := call.TestLane(ctx, site, name, c.Args().Get(1))
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), out)
					}
					fmt.Fprintf(stdout(), "%s\n\n", out.Source)
					printSteps(out.Steps)
					if out.Refusal != nil {
						return out.Refusal.Refusal
					}
					fmt.Fprintf(stdout(), "\nallowed\n")
					return nil
				}),
			},
			laneFocusCommand(),
			{
				Name: "secret", Usage: "keep a lane's credentials or request header, encrypted; never shown again", ArgsUsage: "SITE/LANE",
				Description: `Examples:
  echolane lane secret kestrel/archive --access-key KITES --secret-key "$STORE_SECRET"
  echolane lane secret kestrel/press --header 'Authorization: Bearer …'
  echolane lane secret kestrel/press --forget 'Authorization'`,
				Flags: callFlags(
					&cli.StringFlag{Name: "access-key", Usage: "access key of the bucket"},
					&cli.StringFlag{Name: "secret-key", Usage: "secret key of the bucket"},
					&cli.StringFlag{Name: "header", Usage: "NAME: VALUE, sent to the lane's origin alone"},
					&cli.StringFlag{Name: "forget", Usage: "header to remove, by its name, or credentials"}),
				Action: withCall(1, "the lane as SITE/LANE, as in: echolane lane secret kestrel/archive --access-key … --secret-key …", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, name, err := laneName(c.Args().First())
					if err != nil {
						return err
					}
					if f := c.String("forget"); f != "" {
						secret := policy.HeaderSecret(name, f)
						if f == "credentials" {
							secret = policy.CredentialsSecret(name)
						}
						if err := call.RemoveSecret(ctx, site, name, secret); err != nil {
							return err
						}
						return done(c, "forgotten", secret, f+" is forgotten")
					}
					in := api.LaneSecret{AccessKey: c.String("access-key"), SecretKey: c.String("secret-key")}
					if h := c.String("header"); h != "" {
						field, value, ok := strings.Cut(h, ":")
						if !ok {
							return badUsage("--header %q isn't NAME: VALUE", h)
						}
						in.Header, in.Value = strings.TrimSpace(field), strings.TrimSpace(value)
					}
					if in == (api.LaneSecret{}) {
						return badUsage("say what to keep: --access-key with --secret-key, or --header")
					}
					if err := call.PutSecret(ctx, site, name, in); err != nil {
						return err
					}
					return done(c, "kept", site+"/"+name, "kept, and in force from now on")
				}),
			},
		},
	}
}

func laneName(given string) (site, lane string, err error) {
	site, lane, ok := strings.Cut(given, "/")
	if !ok || site == "" || lane == "" || strings.Contains(lane, "/") {
		return "", "", badUsage("%q isn't SITE/LANE: write it as kestrel/catalogue", given)
	}
	return site, lane, nil
}

func noLane(d *policy.Document, name string) error {
	var names []string
	for _, l := range d.Lanes {
		names = append(names, l.Name)
	}
	return fmt.Errorf("site %s has no lane %s; it has %s", d.Site, name, strings.Join(names, ", "))
}

func pathHint(l policy.Lane) string {
	if k := lane.Described.Of(l.Kind); k != nil && k.TakesURL(&l) {
		return "https%3A%2F%2F…"
	} else if k != nil && k.Path != "" {
		return k.Path
	}
	return "PATH"
}

// laneFlags are the options that every lane has, and those of each kind.
func laneFlags() []cli.Flag {
	flags := []cli.Flag{
		&cli.Int64Flag{Name: "source-bytes", Usage: "the largest source of this lane"},
		&cli.IntFlag{Name: "fresh", HideDefault: true, Usage: "seconds that a source counts as fresh where its origin doesn't say"},
		&cli.IntFlag{Name: "missing", HideDefault: true, Usage: "seconds before a source that is missing or fails is asked for again (-1: 5, or --fresh where that is less)"},
		&cli.IntFlag{Name: "max-age", HideDefault: true, Usage: "seconds that browsers and caches keep a variant"},
		&cli.IntFlag{Name: "cdn-max-age", HideDefault: true, Usage: "seconds that caches in front keep one (-1: as browsers do)"},
		&cli.StringFlag{Name: "visibility", Usage: "public, or signed: signed links only"},
		&cli.StringFlag{Name: "original", Usage: "the source itself: no, or download"},
		&cli.StringFlag{Name: "metadata", Usage: "metadata of a downloaded source: strip or keep"},
		&cli.StringFlag{Name: "svg", Usage: "drawings in SVG: draw (to pixels), untouched (as they are, in a sandbox), or refuse"},
	}
	for _, f := range lane.Described.Fields() {
		if !f.IsList() {
			flags = append(flags, &cli.StringFlag{Name: optionOf(f), Usage: f.Usage})
			continue
		}
		flags = append(flags, &cli.StringSliceFlag{Name: optionOf(f), Usage: f.Usage}, &cli.StringSliceFlag{Name: "no-" + optionOf(f), Usage: "remove this one"})
	}
	for _, k := range lane.Described {
		if k.Option != "" {
			flags = append(flags, &cli.BoolFlag{Name: k.Option, Usage: k.OptionUsage})
		}
	}
	return flags
}

// optionOf is the option that sets a lane's field.
func optionOf(f policy.LaneField) string { return strings.ReplaceAll(f.Name, "_", "-") }

// kindOf is the kind of lane that the options tell of, "" for none. Of several the last in their order counts: it is the
// more particular one.
func kindOf(c *cli.Command) string {
	for _, k := range slices.Backward(lane.Described) {
		if slices.ContainsFunc(k.Told, c.IsSet) {
			return k.Name
		}
	}
	return ""
}

func editLane(c *cli.Command, l *policy.Lane) error {
	for name, to := range map[string]*string{"visibility": &l.Visibility, "original": &l.Original, "metadata": &l.Metadata, "svg": &l.SVG} {
		if c.IsSet(name) {
			*to = c.String(name)
		}
	}
	for _, f := range lane.Described.Fields() {
		name := optionOf(f)
		if !f.IsList() {
			if !c.IsSet(name) {
				continue
			}
			text := c.String(name)
			if f.Path {
				var err error
				if text, err = filepath.Abs(text); err != nil {
					return fmt.Errorf("find %s: %w", c.String(name), err)
				}
			}
			l.SetField(f.Name, text, nil)
			continue
		}
		_, list := l.Field(f.Name)
		for _, v := range c.StringSlice(name) {
			if !slices.Contains(list, v) {
				list = append(list, v)
			}
		}
		for _, v := range c.StringSlice("no-" + name) {
			i := slices.Index(list, v)
			if i < 0 {
				return badUsage("--no-%s: the lane has no %q; it has %s", name, v, strings.Join(list, ", "))
			}
			list = slices.Delete(list, i, i+1)
		}
		l.SetField(f.Name, "", list)
	}
	if c.IsSet("source-bytes") {
		l.SourceBytes = c.Int64("source-bytes")
	}
	if c.IsSet("fresh") {
		n := int(c.Int("fresh"))
		l.FreshS = &n
	}
	if c.IsSet("missing") {
		n := int(c.Int("missing"))
		if l.MissingS = &n; n < 0 {
			l.MissingS = nil
		}
	}
	if c.IsSet("max-age") {
		n := int(c.Int("max-age"))
		l.MaxAgeS = &n
	}
	if c.IsSet("cdn-max-age") {
		n := int(c.Int("cdn-max-age"))
		if l.CDNMaxAgeS = &n; n < 0 {
			l.CDNMaxAgeS = nil
		}
	}
	return nil
}

func listLanes(ctx context.Context, c *cli.Command, call *client.Client) error {
	var sites []api.Site
	if name := c.Args().First(); name != "" {
		site, err := call.Site(ctx, name)
		if err != nil {
			return err
		}
		sites = []api.Site{site}
	} else {
		var err error
		if sites, err = call.Sites(ctx); err != nil {
			return err
		}
	}
	type row struct {
		Site string `json:"site"`
		policy.Lane
	}
	list := []row{}
	for _, s := range sites {
		for _, l := range s.Document.Lanes {
			list = append(list, row{s.Name, l})
		}
	}
	if c.Bool("json") {
		return printJSON(stdout(), list)
	}
	if len(list) == 0 {
		fmt.Fprintln(stdout(), "There is no lane yet. Add one: echolane lane add SITE/LANE --folder DIR")
		return nil
	}
	rows := [][]string{{"lane", "kind", "visibility", "where"}}
	for _, l := range list {
		rows = append(rows, []string{l.Site + "/" + l.Name, l.Kind, l.Visibility, laneWhere(l.Lane)})
	}
	table(stdout(), "llll", rows...)
	return nil
}

// shownLane is what lane show says.
type shownLane struct {
	Site string `json:"site"`
	policy.Lane
	Secrets []string `json:"secrets"` // which are kept; never what they say
}

func printLane(l shownLane, limits policy.Bounds) {
	rows := [][]string{
		{"lane", l.Site + "/" + l.Name},
		{"kind", l.Kind},
		{"where", laneWhere(l.Lane)},
	}
	also := func(name string, values ...string) {
		for i, v := range values {
			if i > 0 {
				name = ""
			}
			if v != "" {
				rows = append(rows, []string{name, v})
			}
		}
	}
	kind := lane.Described.Of(l.Kind)
	if kind == nil { // of a newer service
		kind = &policy.LaneKind{}
	}
	for _, f := range kind.Fields {
		if f.Place && f.Name != kind.URLWithout || f.Common { // where it is says it already; or it's put into words below
			continue
		}
		text, list := l.Field(f.Name)
		also(f.Name, append(list, text)...)
	}
	most := l.SourceBytes
	if most == 0 {
		most = limits.SourceBytes
	}
	also("sources", fmt.Sprintf("at most %s; taken to be unchanged for %d s", wording.Bytes(most), *l.FreshS))
	if l.MissingS != nil {
		also("missing", fmt.Sprintf("not asked for again for %d s", *l.MissingS))
	}
	if l.CDNMaxAgeS == nil {
		also("variants", fmt.Sprintf("kept by browsers and caches for %d s", *l.MaxAgeS))
	} else {
		also("variants", fmt.Sprintf("kept by browsers for %d s, by caches in front for %d s", *l.MaxAgeS, *l.CDNMaxAgeS))
	}
	also("visibility", map[string]string{"public": "public", "signed": "signed links only"}[l.Visibility])
	if kind.Field("unshared") != nil {
		also("unshared", map[string]string{"forget": "what the origin marks no-store or private isn't kept", "keep": "kept, also what the origin marks no-store or private"}[l.Unshared])
	}
	also("svg", map[string]string{"refuse": "refused", "untouched": "as it is, in a sandbox", "draw": "drawn to pixels"}[l.SVG])
	also("original", map[string]string{"no": "never delivered", "download": "as download; metadata: " + l.Metadata}[l.Original])
	also("secrets", l.Secrets...)
	table(stdout(), "ll", rows...)
}

// printSteps shows how a decision was walked.
func printSteps(steps []policy.Step) {
	rows := [][]string{}
	for _, s := range steps {
		mark := " "
		if s.Decided {
			mark = "→"
		}
		rows = append(rows, []string{mark, s.Rule, s.Verdict, s.Note})
	}
	table(stdout(), "llll", rows...)
}
