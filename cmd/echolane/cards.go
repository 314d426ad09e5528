package main

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"unicode"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"echolane/core/declare"
	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
)

func cardsCommand() *cli.Command {
	return &cli.Command{
		Name: "cards", Usage: "make the cards of a table: one for each row", ArgsUsage: "FILE",
		Description: `FILE is CSV with a row of names, or JSON: a list of objects (- for standard input). What a class's layers take stands in columns of
their names, with data- or without: title is data-title. The column picture is the source that a card lies over, as LANE/PATH; name is
what its file is called. An empty cell gives nothing.

With --to the cards are saved in a folder. What is there already stays, so that a run that was cut short goes on where it was. Without
it they are made, and their addresses are printed. The API takes the addresses as a warming: POST /-/api/v1/sites/{site}/warmings.

Examples:
  echolane cards offers.csv --class card --picture catalogue/delta-red.jpg
  echolane cards offers.csv --class 'card square' --to cards/ --sign spring-2027
  echolane cards festival.json --class card --format png --json`,
		Flags: callFlags(
			&cli.StringFlag{Name: "class", Usage: "the classes of the sheet that make the card"},
			&cli.StringFlag{Name: "picture", Usage: "LANE/PATH of the picture where a row names none"},
			&cli.StringFlag{Name: "format", Usage: "avif, jxl, webp, jpeg or png", Value: "jpeg"},
			&cli.StringFlag{Name: "to", Usage: "the folder to save the cards in"},
			&cli.StringFlag{Name: "sign", Usage: "name of the site's key to sign with"},
			&cli.StringFlag{Name: "site", Usage: "the site whose sheet holds; needed where the service has several"}),
		Action: withCall(1, "a table, as in: echolane cards offers.csv --class card", makeCards),
	}
}

// cardMade is what came of one row.
type cardMade struct {
	Row     int    `json:"row"` // from 1, without the row of names
	Name    string `json:"name"`
	URL     string `json:"url,omitempty"`
	Width   int    `json:"width,omitempty"`
	Height  int    `json:"height,omitempty"`
	Bytes   int64  `json:"bytes,omitempty"`
	Saved   string `json:"saved_to,omitempty"`
	There   bool   `json:"there,omitempty"` // it was saved before
	Trouble string `json:"trouble,omitempty"`
}

const (
	mostCards    = 100_000
	cardsAtATime = 4
)

func makeCards(ctx context.Context, c *cli.Command, call *client.Client) error {
	if c.String("class") == "" {
		return badUsage("say with --class what makes the card, as in: echolane cards offers.csv --class card")
	}
	rows, err := readTable(c.Args().First())
	if err != nil {
		return err
	}
	format := declare.ParseFormat(c.String("format"))
	if format == declare.FormatUnset {
		return badUsage("--format: %q is none: write avif, jxl, webp, jpeg or png", c.String("format"))
	}
	site, err := theSite(ctx, c, call)
	if err != nil {
		return err
	}
	if to := c.String("to"); to != "" {
		if err := os.MkdirAll(to, 0o755); err != nil {
			return fmt.Errorf("make the folder: %w", err)
		}
	}
	made := make([]cardMade, len(rows))
	names := map[string]int{}
	for i, row := range rows {
		made[i] = cardMade{Row: i + 1, Name: row["name"]}
		if made[i].Name == "" {
			made[i].Name = fmt.Sprintf("%0*d", len(fmt.Sprint(len(rows))), i+1)
		}
		if name := made[i].Name; name != filepath.Base(name) || name == "." || name == ".." || strings.ContainsFunc(name, unicode.IsControl) {
			return badUsage("row %d: %q can't be a file's name: write one without slashes", i+1, name)
		}
		if before, twice := names[made[i].Name]; twice {
			return badUsage("rows %d and %d are both called %q: give each a name of its own, or leave the column out", before, i+1, made[i].Name)
		}
		names[made[i].Name] = i + 1
	}
	var bar *progressbar.ProgressBar
	if term.IsTerminal(int(os.Stderr.Fd())) {
		bar = progressbar.NewOptions(len(rows), progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetDescription("making cards"), progressbar.OptionShowCount(), progressbar.OptionSetWidth(40), progressbar.OptionClearOnFinish())
		defer bar.Finish()
	}
	running, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	next := make(chan int)
	var workers sync.WaitGroup
	for range cardsAtATime {
		workers.Go(func() {
			for i := range next {
				if err := makeCard(running, c, call, site, format, rows[i], &made[i]); err != nil {
					made[i].Trouble = err.Error()
				}
				if bar != nil {
					bar.Add(1)
				}
			}
		})
	}
	for i := range rows {
		select {
		case next <- i:
		case <-running.Done():
			made[i].Trouble = "not begun"
		}
	}
	close(next)
	workers.Wait()
	if c.Bool("json") {
		if err := printJSON(stdout(), made); err != nil {
			return err
		}
	} else {
		printCards(made)
	}
	wrong := slices.DeleteFunc(slices.Clone(made), func(m cardMade) bool { return m.Trouble == "" })
	switch {
	case running.Err() != nil:
		return fmt.Errorf("%d of %d cards weren't made: run it again, and it goes on", len(wrong), len(rows))
	case len(wrong) > 0:
		return fmt.Errorf("%d of %d cards couldn't be made: row %d: %s", len(wrong), len(rows), wrong[0].Row, wording.Cut(wrong[0].Trouble, 300))
	}
	return nil
}

func printCards(made []cardMade) {
	rows := [][]string{{"card", "pixels", "bytes", "where"}}
	for _, m := range made {
		switch {
		case m.Trouble != "":
			rows = append(rows, []string{m.Name, "", "", "no: " + wording.Cut(m.Trouble, 100)})
		case m.There:
			rows = append(rows, []string{m.Name, "", wording.Bytes(m.Bytes), m.Saved + " (there already)"})
		default:
			where := m.URL
			if m.Saved != "" {
				where = m.Saved
			}
			rows = append(rows, []string{m.Name, fmt.Sprintf("%d × %d", m.Width, m.Height), wording.Bytes(m.Bytes), where})
		}
	}
	table(stdout(), "lrrl", rows...)
}

// makeCard makes one row's card.
func makeCard(ctx context.Context, c *cli.Command, call *client.Client, site string, format declare.Format, row map[string]string, m *cardMade) error {
	to := c.String("to")
	if to != "" {
		ending := strings.Replace(format.String(), "jpeg", "jpg", 1)
		m.Saved = filepath.Join(to, m.Name+"."+ending)
		if info, err := os.Stat(m.Saved); err == nil && info.Size() > 0 {
			m.There, m.Bytes = true, info.Size()
			return nil
		}
	}
	picture := row["picture"]
	if picture == "" {
		picture = c.String("picture")
	}
	if picture == "" {
		return errors.New("it names no picture: fill the column picture, or say --picture LANE/PATH")
	}
	args := []string{"class=" + c.String("class"), "format=" + format.String()}
	for name, value := range row {
		if name != "picture" && name != "name" && value != "" {
			args = append(args, name+"="+value)
		}
	}
	address, err := cardAddress(ctx, call, site, picture, args, c.String("sign"))
	if err != nil {
		return err
	}
	m.URL = call.Server + address
	u, err := url.Parse(m.URL)
	if err != nil {
		return err
	}
	f, data, err := fetch(ctx, call, u, "image/*", c.String("server"))
	if err != nil {
		return err
	}
	m.Width, m.Height, m.Bytes = f.Width, f.Height, f.Bytes
	if to == "" {
		return nil
	}
	part, err := os.CreateTemp(to, ".card-*")
	if err != nil {
		return err
	}
	defer os.Remove(part.Name())
	if _, err = part.Write(data); err == nil {
		err = part.Chmod(0o644)
	}
	if e := part.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(part.Name(), m.Saved)
	}
	return err
}

// cardAddress is a card's address on the service, signed where a key is named.
func cardAddress(ctx context.Context, call *client.Client, site, picture string, args []string, key string) (string, error) {
	path, err := imagePath(site + "/" + picture)
	if err != nil {
		return "", err
	}
	d, err := readDeclarations(args)
	if err != nil {
		return "", err
	}
	address := path + "?" + d.AddressForm()
	if key == "" {
		return address, nil
	}
	signed, err := call.Sign(ctx, site, api.ToSign{Address: address, Key: key})
	return signed.Address, err
}

// readTable reads rows of CSV or JSON. Names that aren't picture or name are of what cards show.
func readTable(file string) ([]map[string]string, error) {
	text, err := readFileOrInput(file)
	if err != nil {
		return nil, err
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	var rows []map[string]string
	if trimmed := bytes.TrimSpace(text); len(trimmed) > 0 && (trimmed[0] == '[' || trimmed[0] == '{') {
		rows, err = rowsOfJSON(trimmed)
	} else {
		rows, err = rowsOfCSV(text)
	}
	switch {
	case err != nil:
		return nil, badUsage("%s can't be read as a table: %v", file, err)
	case len(rows) == 0:
		return nil, badUsage("%s has no rows: CSV begins with a row of names, JSON is a list of objects", file)
	case len(rows) > mostCards:
		return nil, badUsage("%s has %d rows: at most %d at a time", file, len(rows), mostCards)
	}
	return rows, nil
}

// columnOf is the name that a column goes by.
func columnOf(given string) (string, error) {
	name := strings.ToLower(strings.TrimSpace(given))
	if name == "picture" || name == "name" {
		return name, nil
	}
	if !strings.HasPrefix(name, "data-") {
		name = "data-" + name
	}
	if !declare.IsDataName(name) {
		return "", fmt.Errorf("%q can't be a column's name: letters, digits, - and _, such as title", given)
	}
	return name, nil
}

func rowsOfCSV(text []byte) (rows []map[string]string, err error) {
	r := csv.NewReader(bytes.NewReader(text))
	if line, _, _ := bytes.Cut(text, []byte("\n")); bytes.Count(line, []byte(";")) > bytes.Count(line, []byte(",")) {
		r.Comma = ';' // as spreadsheets write it where a comma divides decimals
	}
	r.TrimLeadingSpace = true
	head, err := r.Read()
	if errors.Is(err, io.EOF) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for i, given := range head {
		if head[i], err = columnOf(given); err != nil {
			return nil, err
		}
		if slices.Index(head, head[i]) < i {
			return nil, fmt.Errorf("two columns are called %s", given)
		}
	}
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, err
		}
		row := map[string]string{}
		for i, cell := range cells {
			row[head[i]] = strings.TrimSpace(cell)
		}
		rows = append(rows, row)
	}
}

func rowsOfJSON(text []byte) (rows []map[string]string, err error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var list []map[string]any
	if err := d.Decode(&list); err != nil {
		return nil, err
	}
	for i, object := range list {
		row := map[string]string{}
		for given, value := range object {
			name, err := columnOf(given)
			if err != nil {
				return nil, err
			}
			switch v := value.(type) {
			case nil:
			case string:
				row[name] = v
			case json.Number:
				row[name] = v.String()
			default:
				return nil, fmt.Errorf("object %d: %s is neither a text nor a number", i+1, given)
			}
		}
		rows = append(rows, row)
	}
	return rows, nil
}

// writeCardMarkup writes the tags by which other sites show a card when somebody links to a page (Open Graph).
func writeCardMarkup(ctx context.Context, c *cli.Command, call *client.Client) error {
	site, picture, ok := strings.Cut(strings.TrimPrefix(c.Args().First(), "/"), "/")
	if !ok {
		return badUsage("%q isn't SITE/LANE/PATH: write it as kestrel/catalogue/delta-red.jpg", c.Args().First())
	}
	if c.String("alt") == "" {
		return badUsage("say with --alt what the card shows, for who doesn't see it")
	}
	args := slices.Clone(c.Args().Tail())
	if !slices.ContainsFunc(args, func(a string) bool { return strings.HasPrefix(a, "format=") }) {
		args = append(args, "format=jpeg") // who asks for it doesn't say what it takes
	}
	address, err := cardAddress(ctx, call, site, picture, args, c.String("sign"))
	if err != nil {
		return err
	}
	u, err := url.Parse(call.Server + address)
	if err != nil {
		return err
	}
	f, _, err := fetch(ctx, call, u, "image/*", c.String("server"))
	if err != nil {
		return err
	}
	base := strings.TrimSuffix(c.String("base"), "/")
	if base == "" {
		base = siteBase(ctx, call, site)
	}
	if hostIsOf(ctx, call, site, base) { // where paths begin with the lane
		address = strings.TrimPrefix(address, "/"+site)
	}
	tags := [][2]string{
		{"og:image", base + address}, {"og:image:type", f.Type}, {"og:image:width", fmt.Sprint(f.Width)}, {"og:image:height", fmt.Sprint(f.Height)}, {"og:image:alt", c.String("alt")},
	}
	if c.Bool("json") {
		return printJSON(stdout(), map[string]any{"url": base + address, "type": f.Type, "width": f.Width, "height": f.Height, "bytes": f.Bytes, "alt": c.String("alt")})
	}
	for _, t := range tags {
		fmt.Fprintf(stdout(), "<meta property=\"%s\" content=\"%s\">\n", t[0], html.EscapeString(t[1]))
	}
	return nil
}
