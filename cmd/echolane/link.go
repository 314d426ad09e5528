package main

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/service/api"
	"echolane/service/api/client"
	"echolane/service/source"
)

func linkCommand() *cli.Command {
	return &cli.Command{
		Name: "link", Usage: "compose an image URL, and sign it if asked", ArgsUsage: "SITE/LANE/PATH [NAME=VALUE …]",
		Description: `Writes the address form: names in their order, values in one spelling. Mistakes are named before they
are published.

Examples:
  echolane link kestrel/catalogue/delta-red.jpg width=350 aspect-ratio=3/2
  echolane link kestrel/catalogue/mark.png height=64 format=png --server https://img.example.test
  echolane link kestrel/archive/1962.jpg width=800 --sign spring-2027 --lasts 24h`,
		Flags: callFlags(
			&cli.StringFlag{Name: "base", Usage: "what the address begins with, such as https://img.example.test; else the site's own host, or the service's address"},
			&cli.StringFlag{Name: "sign", Usage: "name of the site's key to sign with"},
			&cli.DurationFlag{Name: "lasts", Usage: "how long the link is valid, such as 24h; the link says so itself"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return badUsage("give the source as SITE/LANE/PATH, as in: echolane link kestrel/catalogue/delta-red.jpg width=350")
			}
			call, err := caller(c)
			if err != nil {
				return err
			}
			path, err := imagePath(c.Args().First())
			if err != nil {
				return err
			}
			d, err := readDeclarations(c.Args().Tail())
			if err != nil {
				return err
			}
			if c.IsSet("lasts") && c.String("sign") == "" {
				return badUsage("--lasts without --sign: anybody may take the end off a link that isn't signed; sign it too: --sign KEY")
			}
			if lasts := c.Duration("lasts"); lasts > 0 {
				d.Expires = time.Now().Add(lasts).Unix()
			}
			site, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
			base := cmp.Or(strings.TrimSuffix(c.String("base"), "/"), siteBase(ctx, call, site))
			hosted := hostIsOf(ctx, call, site, base)
			if hosted { // where paths begin with the lane
				path = strings.TrimPrefix(path, "/"+site)
			}
			link := base + path
			if form := d.AddressForm(); form != "" {
				link += "?" + form
			}
			if key := c.String("sign"); key != "" {
				signed, err := call.Sign(ctx, site, api.ToSign{Address: strings.TrimPrefix(link, base), Key: key})
				if err != nil {
					return err
				}
				link = base + signed.Address
			}
			if c.Bool("json") {
				return printJSON(stdout(), map[string]string{"url": link, "address_form": strings.TrimPrefix(link, base)})
			}
			fmt.Fprintln(stdout(), link)
			return nil
		},
	}
}

// siteBase is what a site's image addresses begin with: the first of its own host names, or the service's own address, if that is
// one of them, the site has none, or the service can't be asked.
func siteBase(ctx context.Context, call *client.Client, site string) string {
	hosts := hostsOf(ctx, call, site)
	u, err := url.Parse(call.Server)
	if err != nil || len(hosts) == 0 || slices.ContainsFunc(hosts, func(h string) bool { return strings.EqualFold(h, u.Hostname()) }) {
		return call.Server
	}
	return "https://" + hosts[0]
}

// hostIsOf reports whether addresses that begin with base are at one of the site's own host names. Loopback and plain addresses are
// nobody's own; of others the service is asked.
func hostIsOf(ctx context.Context, call *client.Client, site, base string) bool {
	u, err := url.Parse(base)
	if err != nil || u.Hostname() == "localhost" {
		return false
	}
	if _, err := netip.ParseAddr(u.Hostname()); err == nil {
		return false
	}
	hosts, err := call.Site(ctx, site)
	if err != nil {
		fmt.Fprintf(stderr(), "note: whether %s is the site's own host isn't known (%v)\n", u.Hostname(), err)
		return false
	}
	return slices.ContainsFunc(hosts.Document.Hosts, func(h string) bool { return strings.EqualFold(h, u.Hostname()) })
}

// hostsOf are the site's own host names, none where the service can't be asked.
func hostsOf(ctx context.Context, call *client.Client, site string) []string {
	if s, err := call.Site(ctx, site); err == nil {
		return s.Document.Hosts
	}
	return nil
}

// imagePath turns SITE/LANE/PATH, as people write it, into a URL's path.
func imagePath(given string) (string, error) {
	parts := strings.SplitN(strings.TrimPrefix(given, "/"), "/", 3)
	if len(parts) < 3 || parts[0] == "" || parts[1] == "" || parts[2] == "" {
		return "", badUsage("%q isn't SITE/LANE/PATH: write it as kestrel/catalogue/delta-red.jpg", given)
	}
	isURL := strings.Contains(parts[2], "://") // a web lane's source: it is one element
	if no := source.CheckPath(parts[2]); no != nil && !isURL {
		return "", usage{no}
	}
	return string(declare.AppendPath(declare.AppendPath(nil, parts[0]+"/"+parts[1], false), parts[2], isURL)), nil
}

// readDeclarations takes declarations as arguments, each name=value as in a URL but not encoded.
func readDeclarations(args []string) (declare.Declarations, error) {
	pieces := make([]string, len(args))
	for i, a := range args {
		name, value, ok := strings.Cut(a, "=")
		if !ok {
			return declare.Declarations{}, badUsage("%q isn't NAME=VALUE: write it as width=350", a)
		}
		pieces[i] = url.QueryEscape(name) + "=" + url.QueryEscape(value)
	}
	d, err := declare.Parse(strings.Join(pieces, "&"))
	if err != nil {
		return d, usage{policy.BadDeclarations(err.(declare.Problems))}
	}
	return d, nil
}

// imageURL is the whole URL for what a person gave: a URL, or SITE/LANE/PATH with an optional query. As in any
// URL the path may be encoded, such as the samples of refusals are.
func imageURL(call *client.Client, given string) (*url.URL, error) {
	if i := strings.Index(given, "://"); i >= 0 && !strings.Contains(given[:i], "/") {
		u, err := url.Parse(given)
		if err != nil {
			return nil, badUsage("%q isn't a URL", given)
		}
		return u, nil
	}
	path, query, _ := strings.Cut(given, "?")
	if plain, err := url.PathUnescape(path); err == nil {
		path = plain
	}
	encoded, err := imagePath(path)
	if err != nil {
		return nil, err
	}
	u, err := url.Parse(call.Server + encoded)
	if err != nil {
		return nil, badUsage("%q isn't a URL", given)
	}
	u.RawQuery = query
	return u, nil
}
