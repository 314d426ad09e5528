// Command echolane is the service, its demo, and the tools that talk to it.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"regexp"
	"strings"
	"syscall"
	"unicode/utf8"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/problem"
	"echolane/service/records"
	"echolane/service/weighing"
	"echolane/service/workshop"
)

// Exit codes.
const (
	exitFailed = 1
	exitUsage  = 2
)

// usage is an error of whoever called the command.
type usage struct{ error }

// Unwrap is what was wrong with the call.
func (u usage) Unwrap() error { return u.error }

func badUsage(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// browserCommand is how the service starts Chromium for the pages that it weighs, under limits. It isn't for people.
const browserCommand = "page-browser"

// hashCommand is how it hashes passwords, beside itself.
const hashCommand = "password-hash"

func main() {
	if workshop.IsWorker() {
		if err := workshop.Work(); err != nil {
			fmt.Fprintln(stderr(), "render worker:", err)
			os.Exit(exitFailed)
		}
		return
	}
	if len(os.Args) > 2 && os.Args[1] == browserCommand {
		fmt.Fprintln(stderr(), "page browser:", weighing.Launch(os.Args[2:])) // it comes back only where it failed
		os.Exit(exitFailed)
	}
	if len(os.Args) == 2 && os.Args[1] == hashCommand {
		if err := records.HashWork(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(stderr(), "password hash:", err)
			os.Exit(exitFailed)
		}
		return
	}
	os.Exit(run(os.Args))
}

func run(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	go func() {
		<-ctx.Done()
		stop() // a second signal ends the process at once
	}()
	err := root().Run(ctx, args)
	if err == nil {
		return 0
	}
	code := exitFailed
	var wrong usage
	if errors.As(err, &wrong) {
		code = exitUsage
	}
	var no *policy.Refusal
	isRefusal := errors.As(err, &no)
	if isRefusal && problem.Status(no.Reason) == http.StatusBadRequest { // what was given isn't right, whoever found it out
		code = exitUsage
	}
	switch {
	case asksJSON(args):
		printTrouble(err, no, code)
	case isRefusal:
		printRefusal(no)
	default:
		fmt.Fprintf(stderr(), "echolane: %v\n", err)
	}
	return code
}

// asksJSON reports whether results are printed as JSON, so that what went wrong is too.
func asksJSON(args []string) bool {
	for _, a := range args {
		switch a {
		case "--":
			return false
		case "--json", "-json", "--json=true":
			return true
		}
	}
	return false
}

// A trouble is what went wrong, for programs.
type trouble struct {
	Error  string          `json:"error"`
	Exit   int             `json:"exit"`
	Status int             `json:"status,omitempty"` // of a refusal: as HTTP has it
	No     *policy.Refusal `json:"refusal,omitempty"`
}

func printTrouble(err error, no *policy.Refusal, code int) {
	t := trouble{Error: err.Error(), Exit: code, No: no}
	if no != nil {
		t.Status = problem.Status(no.Reason)
	}
	printJSON(stderr(), t)
}

func printRefusal(no *policy.Refusal) {
	fmt.Fprintf(stderr(), "echolane: %s (%d, %s)\n", no.Title, problem.Status(no.Reason), no.Reason)
	for _, l := range []struct{ name, text string }{{"what", no.Detail}, {"given", no.Given}, {"allowed", no.Allowed}, {"way out", no.Remedy}} {
		if l.text != "" {
			var lines []string
			for line := range strings.SplitSeq(l.text, "\n") {
				if strings.HasPrefix(line, " ") { // as it was laid out
					lines = append(lines, line)
					continue
				}
				lines = append(lines, wrapped(line, terminalWidth(os.Stderr)-11)...)
			}
			fmt.Fprintf(stderr(), "  %-8s %s\n", l.name, strings.Join(lines, "\n           "))
		}
	}
	if len(no.Problems) > 1 {
		for _, p := range no.Problems[1:] {
			fmt.Fprintf(stderr(), "  also     %s\n", p)
		}
	}
}

func root() *cli.Command {
	c := &cli.Command{
		Name:                  "echolane",
		Usage:                 "images as CSS would have painted them, at the size the page needs",
		Version:               version(),
		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden, c.Usage = false, "the script that completes commands and options in bash, zsh or fish"
			c.Description = `Examples:
  source <(echolane completion bash)
  source <(echolane completion zsh)
  echolane completion fish > ~/.config/fish/completions/echolane.fish`
			c.Action = nothingAsked
			for _, shell := range c.Commands {
				shell.Usage = "for " + shell.Name
			}
		},
		Commands: []*cli.Command{
			demoCommand(), serveCommand(), siteCommand(), laneCommand(), tokenCommand(), personCommand(), keyCommand(), applyCommand(), exportCommand(), sheetCommand(),
			linkCommand(), cssCommand(), fetchCommand(), explainCommand(), renderCommand(), likenessCommand(), sweepCommand(), markupCommand(), cardsCommand(), weighCommand(), uploadCommand(), warmCommand(), purgeCommand(), stockCommand(), usageCommand(), refusalsCommand(), setAsideCommand(), doctorCommand(), manCommand(),
		},
		Action: nothingAsked,
	}
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintln(c.Root().Writer, "echolane", c.Version) }
	cli.HelpPrinter = printHelp
	for _, s := range c.Commands {
		prepare(s)
	}
	prepareOne(c)
	return c
}

// printHelp prints help at the terminal's width, 100 columns where there is none. Examples stay on their lines, to be copied.
func printHelp(w io.Writer, text string, data any) {
	width := terminalWidth(os.Stdout)
	names := 0 // how wide the column of options is
	if c, ok := data.(*cli.Command); ok {
		for _, f := range c.VisibleFlags() {
			name, _, _ := strings.Cut(f.String(), "\t")
			names = max(names, utf8.RuneCountInString(name)+2)
		}
	}
	cli.HelpPrinterCustom(w, text, data, map[string]any{"wrap": func(text string, offset int) string { return reflowed(text, offset, names, width) }})
}

// terminalWidth is how many columns a terminal has, 100 where it is none.
func terminalWidth(f *os.File) int {
	if n, _, err := term.GetSize(int(f.Fd())); err == nil && n >= 40 {
		return n
	}
	return 100
}

// reflowed fits paragraphs into a width, from the second line on behind an offset. The template's columns stay columns.
func reflowed(text string, offset, names, width int) string {
	var lines, paragraph []string
	flush := func() {
		if len(paragraph) > 0 {
			lines = append(lines, wrapped(strings.Join(paragraph, " "), max(20, width-offset))...)
		}
		paragraph = nil
	}
	for line := range strings.SplitSeq(text, "\n") {
		name, says, column := strings.Cut(line, "\t")
		switch {
		case column:
			flush()
			for i, part := range wrapped(says, max(20, width-offset-names)) {
				if i > 0 {
					name = ""
				}
				lines = append(lines, name+"\t"+part)
			}
		case strings.HasPrefix(line, "  "), line == "":
			flush()
			lines = append(lines, line)
		default:
			paragraph = append(paragraph, line)
		}
	}
	flush()
	for i := range lines {
		if i > 0 && lines[i] != "" {
			lines[i] = strings.Repeat(" ", offset) + lines[i]
		}
	}
	return strings.Join(lines, "\n")
}

// prepare makes every command report wrong calls the same way, with exit code 2.
func prepare(c *cli.Command) {
	prepareOne(c)
	c.HideHelpCommand = true
	for _, s := range c.Commands {
		prepare(s)
	}
}

func prepareOne(c *cli.Command) {
	c.ExitErrHandler = func(context.Context, *cli.Command, error) {}
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		text := err.Error()
		if _, name, ok := strings.Cut(text, "flag provided but not defined: -"); ok {
			text = "there is no option --" + strings.TrimLeft(name, "-")
			var names []string
			for _, f := range c.Flags {
				names = append(names, f.Names()[0])
			}
			if near := wording.Nearest(strings.TrimLeft(name, "-"), names); near != "" {
				text += "; did you mean --" + near + "?"
			}
		}
		if given, name, ok := wrongDuration(text); ok {
			text = fmt.Sprintf("--%s %s isn't a time: give a number with its unit, such as 24h, 30m or 45s", name, given)
		}
		return badUsage("%s (see echolane %s --help)", text, strings.TrimPrefix(c.FullName(), "echolane "))
	}
}

var durationError = regexp.MustCompile(`invalid value "(.*)" for flag -(\S+): time: `)

// wrongDuration finds out of an error that a time wasn't one.
func wrongDuration(text string) (given, name string, ok bool) {
	m := durationError.FindStringSubmatch(text)
	if m == nil {
		return "", "", false
	}
	return m[1], m[2], true
}

// nothingAsked runs where a subcommand should have been named.
func nothingAsked(_ context.Context, c *cli.Command) error {
	var names []string
	for _, s := range c.Commands {
		names = append(names, s.Name)
	}
	if c.Args().Len() == 0 {
		if err := cli.ShowSubcommandHelp(c); err != nil {
			return err
		}
		return badUsage("name a command: %s", strings.Join(names, ", "))
	}
	word := c.Args().First()
	text := fmt.Sprintf("there is no command %q", word)
	if near := wording.Nearest(word, names); near != "" {
		text += "; did you mean " + near + "?"
	}
	return badUsage("%s (there are %s)", text, strings.Join(names, ", "))
}
