package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/wording"
	"echolane/service/api/client"
	"echolane/service/source"
)

var defaultAccept = declare.AcceptAll()

// fetched is what fetch finds out.
type fetched struct {
	URL     string        `json:"url"`
	Natural *source.Facts `json:"natural,omitempty"` // nil where the API doesn't say
	Width   int           `json:"width"`
	Height  int           `json:"height"`
	Bytes   int64         `json:"bytes"`
	Type    string        `json:"type"`
	Cache   string        `json:"cache_status"`
	Timing  string        `json:"server_timing"`
	FirstMS float64       `json:"first_byte_ms"`
	TotalMS float64       `json:"total_ms"`
	Saved   string        `json:"saved_to,omitempty"`
}

func fetchCommand() *cli.Command {
	return &cli.Command{
		Name: "fetch", Usage: "fetch a variant, and print its pixels, bytes, cache answer and times", ArgsUsage: "URL",
		Description: `URL may also be SITE/LANE/PATH?declarations of the service at --server.

Examples:
  echolane fetch 'kestrel/catalogue/delta-red.jpg?width=640'
  echolane fetch 'http://127.0.0.1:8740/kestrel/catalogue/mark.png?height=64' --accept image/png -o mark.png`,
		Flags: callFlags(
			&cli.StringFlag{Name: "accept", Usage: "the Accept field to send", Value: defaultAccept},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "file to save the variant in"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			given, err := oneArgument(c, "an image's URL, as in: echolane fetch 'kestrel/catalogue/delta-red.jpg?width=640'")
			if err != nil {
				return err
			}
			call, err := caller(c)
			if err != nil {
				return err
			}
			u, err := imageURL(call, given)
			if err != nil {
				return err
			}
			if call.Server, err = serverOf(u); err != nil {
				return err
			}
			f, data, err := fetch(ctx, call, u, c.String("accept"), c.String("server"))
			if err != nil {
				return err
			}
			if to := c.String("output"); to != "" {
				if err := os.WriteFile(to, data, 0o644); err != nil {
					return fmt.Errorf("save the variant: %w", err)
				}
				f.Saved = to
			}
			if c.Bool("json") {
				return printJSON(stdout(), f)
			}
			printFetched(f)
			return nil
		},
	}
}

func serverOf(u *url.URL) (string, error) {
	if u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return "", badUsage("%q isn't an http or https URL", u)
	}
	return u.Scheme + "://" + u.Host, nil
}

func fetch(ctx context.Context, call *client.Client, u *url.URL, accept, server string) (*fetched, []byte, error) {
	r, err := http.NewRequestWithContext(ctx, "GET", u.String(), nil)
	if err != nil {
		return nil, nil, badUsage("%q isn't a URL", u)
	}
	r.Header.Set("Accept", accept)
	call.Introduce(r, server)
	var first time.Time
	r = r.WithContext(httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotFirstResponseByte: func() { first = time.Now() }}))
	start := time.Now()
	answer, err := call.HTTP.Do(r)
	if err != nil {
		var e *url.Error
		if errors.As(err, &e) {
			err = e.Err
		}
		return nil, nil, &client.Unreachable{Server: call.Server, Err: err}
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		return nil, nil, fmt.Errorf("read %s: %w", u, err)
	}
	end := time.Now()
	if answer.StatusCode != 200 {
		return nil, nil, client.Problem(answer, data)
	}
	info, err := render.Probe(data)
	if err != nil {
		return nil, nil, fmt.Errorf("%s answered with something that isn't an image that is read here (%s)", u, answer.Header.Get("Content-Type"))
	}
	f := &fetched{
		URL: u.String(), Bytes: int64(len(data)), Type: answer.Header.Get("Content-Type"),
		Cache: answer.Header.Get("Cache-Status"), Timing: answer.Header.Get("Server-Timing"),
		FirstMS: float64(first.Sub(start)) / 1e6, TotalMS: float64(end.Sub(start)) / 1e6,
	}
	f.Width, f.Height = info.Upright()
	parts := strings.SplitN(strings.TrimPrefix(u.Path, "/"), "/", 3)
	if len(parts) == 3 {
		facts, err := call.Facts(ctx, parts[0], parts[1], parts[2])
		var no *policy.Refusal
		if err == nil {
			f.Natural = &facts
		} else if !errors.As(err, &no) {
			return nil, nil, err
		}
	}
	return f, data, nil
}

func printFetched(f *fetched) {
	u, err := url.Parse(f.URL)
	if err == nil {
		fmt.Fprintf(stdout(), "%s\n\n", path.Base(u.Path))
	}
	rows := [][]string{{"", "natural", "delivered", ""}}
	pixels, size, kind := []string{"pixels", "?"}, []string{"bytes", "?"}, []string{"type", "?"}
	saving, fewer := "", ""
	if n := f.Natural; n != nil {
		pixels[1], size[1], kind[1] = pixelsText(n.Width, n.Height), wording.Bytes(n.Bytes), n.Type
		saving = savedText(n.Bytes, f.Bytes)
		fewer = savedText(int64(n.Width)*int64(n.Height), int64(f.Width)*int64(f.Height))
	}
	rows = append(rows, append(pixels, pixelsText(f.Width, f.Height), fewer), append(size, wording.Bytes(f.Bytes), saving), append(kind, f.Type, ""))
	table(stdout(), "lrrr", rows...)
	fmt.Fprintln(stdout())
	table(stdout(), "ll",
		[]string{"cache", strings.TrimPrefix(f.Cache, "Echo-Lane; ")},
		[]string{"time", fmt.Sprintf("first byte %s, whole %s", msText(time.Duration(f.FirstMS*1e6)), msText(time.Duration(f.TotalMS*1e6)))},
		[]string{"server", serverTiming(f.Timing)},
	)
	if f.Natural == nil {
		fmt.Fprintln(stdout(), "\nThe natural size isn't known: the service's API says it only to a --token that may read the site.")
	}
	if f.Saved != "" {
		fmt.Fprintf(stdout(), "\nsaved in %s\n", f.Saved)
	}
}

// serverTiming shows a Server-Timing field (its names and durations) for reading.
func serverTiming(field string) string {
	var parts []string
	for part := range strings.SplitSeq(field, ",") {
		name, params, _ := strings.Cut(strings.TrimSpace(part), ";")
		text := name
		for p := range strings.SplitSeq(params, ";") {
			key, value, _ := strings.Cut(strings.TrimSpace(p), "=")
			switch key {
			case "dur":
				text += " " + value + " ms"
			case "desc":
				text += " " + strings.Trim(value, `"`)
			}
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " · ")
}
