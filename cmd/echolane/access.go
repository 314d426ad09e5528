package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"echolane/service/api"
	"echolane/service/api/client"
)

func number(what, given string) (int64, error) {
	n, err := strconv.ParseInt(given, 10, 64)
	if err != nil {
		return 0, badUsage("%q isn't a %s's number: the list shows them", given, what)
	}
	return n, nil
}

func rightsFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "may", Usage: "read, edit or own", Value: "read"},
		&cli.StringFlag{Name: "sites", Usage: "only these sites, separated by commas"},
	}
}

func ofSites(sites []string) string {
	if len(sites) == 0 {
		return "all"
	}
	return strings.Join(sites, ", ")
}

func tokenCommand() *cli.Command {
	return &cli.Command{
		Name: "token", Usage: "add, list and revoke API tokens", Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "make a token; it is shown this once", ArgsUsage: "NAME",
				Description: "Example:\n  echolane token add 'build server' --may edit --sites kestrel",
				Flags:       callFlags(rightsFlags()...),
				Action: withCall(1, "what the token is for, as in: echolane token add 'build server' --may edit", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					t, err := call.AddToken(ctx, api.NewToken{Name: c.Args().First(), May: c.String("may"), Sites: commas(c.String("sites"))})
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), t)
					}
					fmt.Fprintf(stdout(), "%s\n", t.Secret)
					fmt.Fprintf(stderr(), "Token %d may %s %s. It isn't shown again. Use it as ECHOLANE_TOKEN or with --token.\n", t.ID, t.May, ofSites(t.Sites))
					return nil
				}),
			},
			{
				Name: "list", Usage: "list tokens", Description: "Example:\n  echolane token list", Flags: callFlags(),
				Action: withCall(0, "", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					list, err := call.Tokens(ctx)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), list)
					}
					rows := [][]string{{"token", "name", "may", "sites", "made", "by", "last used"}}
					for _, t := range list {
						used := "never"
						if t.UsedAt != nil {
							used = t.UsedAt.Local().Format("2006-01-02 15:04")
						}
						rows = append(rows, []string{fmt.Sprint(t.ID), t.Name, t.May, ofSites(t.Sites), t.MadeAt.Local().Format("2006-01-02"), t.MadeBy, used})
					}
					table(stdout(), "r", rows...)
					return nil
				}),
			},
			{
				Name: "remove", Usage: "revoke a token", ArgsUsage: "TOKEN", Description: "Example:\n  echolane token remove 3 --yes", Flags: callFlags(yesFlag()),
				Action: withCall(1, "the token's number, as in: echolane token remove 3", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					id, err := number("token", c.Args().First())
					if err != nil {
						return err
					}
					if err := sure(c, fmt.Sprintf("Revoke token %d? Whatever uses it is refused at once.", id)); err != nil {
						return err
					}
					if err := call.RemoveToken(ctx, id); err != nil {
						return err
					}
					return done(c, "revoked", c.Args().First(), "revoked")
				}),
			},
		},
	}
}

func personCommand() *cli.Command {
	return &cli.Command{
		Name: "person", Usage: "add, list and remove people who may sign in at the console", Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a person; the password is asked for, or read from standard input", ArgsUsage: "NAME",
				Description: "Example:\n  echolane person add wren --may edit --sites kestrel < password.txt",
				Flags:       callFlags(rightsFlags()...),
				Action: withCall(1, "the person's name, as in: echolane person add wren --may edit", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					password, err := readPassword()
					if err != nil {
						return err
					}
					p, err := call.AddPerson(ctx, api.NewPerson{Name: c.Args().First(), Password: password, May: c.String("may"), Sites: commas(c.String("sites"))})
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), p)
					}
					fmt.Fprintf(stdout(), "%s may sign in at %s/-/console/ and %s %s\n", p.Name, call.Server, p.May, ofSites(p.Sites))
					return nil
				}),
			},
			{
				Name: "list", Usage: "list the people who may sign in", Description: "Example:\n  echolane person list", Flags: callFlags(),
				Action: withCall(0, "", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					list, err := call.People(ctx)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), list)
					}
					rows := [][]string{{"person", "name", "may", "sites", "added", "by"}}
					for _, p := range list {
						rows = append(rows, []string{fmt.Sprint(p.ID), p.Name, p.May, ofSites(p.Sites), p.MadeAt.Local().Format("2006-01-02"), p.MadeBy})
					}
					table(stdout(), "r", rows...)
					return nil
				}),
			},
			{
				Name: "remove", Usage: "remove a person and end their sessions", ArgsUsage: "PERSON", Description: "Example:\n  echolane person remove 2 --yes", Flags: callFlags(yesFlag()),
				Action: withCall(1, "the person's number, as in: echolane person remove 2", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					id, err := number("person", c.Args().First())
					if err != nil {
						return err
					}
					if err := sure(c, fmt.Sprintf("Remove person %d? Their sessions end at once.", id)); err != nil {
						return err
					}
					if err := call.RemovePerson(ctx, id); err != nil {
						return err
					}
					return done(c, "removed", c.Args().First(), "removed")
				}),
			},
		},
	}
}

func readPassword() (string, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(stderr(), "Password: ")
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		return string(b), err
	}
	var line [512]byte
	n, err := os.Stdin.Read(line[:])
	if n == 0 {
		return "", badUsage("give the password on standard input")
	}
	if err != nil {
		return "", err
	}
	first, _, _ := strings.Cut(string(line[:n]), "\n")
	return strings.TrimSuffix(first, "\r"), nil
}

func keyCommand() *cli.Command {
	return &cli.Command{
		Name: "key", Usage: "add, list and revoke a site's signing keys", Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a key; its secret is shown this once", ArgsUsage: "SITE KEY",
				Description: `Several keys are good at once, so that one can be replaced without breaking links: add the new one, sign
with it, and take the old one back when its links have ended. docs/signing.md says how to sign anywhere.

Example:
  echolane key add kestrel spring-2027`,
				Flags: callFlags(&cli.StringFlag{Name: "secret", Usage: "a secret of your own: 32 bytes or more in base64url"}),
				Action: withCall(2, "the site and the key's name, as in: echolane key add kestrel spring-2027", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					k, err := call.AddKey(ctx, c.Args().First(), api.NewKey{ID: c.Args().Get(1), Secret: c.String("secret")})
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), k)
					}
					fmt.Fprintln(stdout(), k.Secret)
					fmt.Fprintf(stderr(), "Key %s is in force. Its secret isn't shown again.\n", k.ID)
					return nil
				}),
			},
			{
				Name: "list", Usage: "list a site's keys", ArgsUsage: "SITE", Description: "Example:\n  echolane key list kestrel", Flags: callFlags(),
				Action: withCall(1, "the site's name, as in: echolane key list kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					list, err := call.Keys(ctx, c.Args().First())
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), list)
					}
					if len(list) == 0 {
						fmt.Fprintf(stdout(), "There is no key yet. Add one: echolane key add %s NAME\n", c.Args().First())
						return nil
					}
					rows := [][]string{{"key", "made", "by"}}
					for _, k := range list {
						rows = append(rows, []string{k.ID, k.MadeAt.Local().Format("2006-01-02 15:04"), k.MadeBy})
					}
					table(stdout(), "lll", rows...)
					return nil
				}),
			},
			{
				Name: "remove", Usage: "revoke a key: the links that it signed stop working at once", ArgsUsage: "SITE KEY", Description: "Example:\n  echolane key remove kestrel autumn-2026 --yes", Flags: callFlags(yesFlag()),
				Action: withCall(2, "the site and the key's name, as in: echolane key remove kestrel autumn-2026", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, key := c.Args().First(), c.Args().Get(1)
					if err := sure(c, fmt.Sprintf("Revoke key %s of %s? Every link that it signed stops working at once.", key, site)); err != nil {
						return err
					}
					if err := call.RemoveKey(ctx, site, key); err != nil {
						return err
					}
					return done(c, "removed", key, "Key "+key+" is revoked.")
				}),
			},
		},
	}
}
