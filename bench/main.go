// Command bench measures what Echo Lane promises about speed and prints each promise as a ratio taken in one
// run: `make bench`, or `go run ./bench [-profiles FOLDER] SECTION …` for some of it. A promise that isn't kept is marked, and
// the exit status is 1.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/pprof"
	"slices"
	"strings"
)

// section is a group of figures that share what they stand on.
type section struct {
	name string
	what string
	run  func(*report) error
}

var sections = []section{
	{"cached", "a cached variant against a bare handler and a file server", cached},
	{"zipf", "what memory for one in a hundred answers, against whoever knew", zipf},
	{"started", "a node that starts with a hundred thousand files", started},
	{"stock", "the stock of a million variants, and a purge", stocked},
	{"killed", "two nodes on one store, killed over and over", killed},
	{"nodes", "three nodes behind nginx under changes, purges and losses", together},
	{"origins", "others beside an origin that misbehaves", origins},
	{"sizing", "what sites of several sizes need", sizing},
	{"decided", "a request up to its cache key", decided},
	{"swapped", "settings that change under load", swapped},
	{"resampling", "our kernel against a general one", resampling},
	{"painting", "turns, blurs and filters", painting},
	{"chained", "a whole chain of paint, the language", chained},
	{"found", "subjects, faces, cut-outs, what is erased", found},
	{"moving", "stills that move against as many stills", moving},
	{"cards", "layers and texts beside the picture under them", cards},
	{"codecs", "our calls of the codec libraries against the same from C", codecs},
	{"encoding", "finding a quality against one encode", encoding},
	{"formats", "which format has the fewest bytes", weighFormats},
	{"pages", "rewriting, markup, a weigh-in", pages},
	{"png", "a photograph as PNG", pngs},
	{"fresh", "a new variant against the sum of its codec calls", fresh},
	{"many", "a page's set of one source, of its variants one by one", many},
	{"workers", "what a render worker costs beside its renders", workers},
	{"peaks", "what a render worker takes at the most for a picture of 24 megapixels", peaks},
	{"turns", "a site's new variants while another site is flooded", turns},
	{"deaths", "variants while workers are killed, and while clients leave", deaths},
	{"hostile", "variants of files that mean harm", hostile},
	{"siege", "a cached picture while the service is attacked, in 512 MiB of memory and 4 GiB of address space", siege},
}

func main() {
	if len(os.Args) == 4 && os.Args[1] == bareCommand {
		fail(serveBare(os.Args[2], os.Args[3]))
		return
	}
	if len(os.Args) == 2 && os.Args[1] == plainCommand {
		resamplePlainly()
		return
	}
	if len(os.Args) == 3 && os.Args[1] == siegeCommand {
		fail(besiege(os.Args[2]))
		return
	}
	profiles := ""
	if len(os.Args) > 2 && os.Args[1] == "-profiles" {
		profiles = os.Args[2]
		os.Args = append(os.Args[:1], os.Args[3:]...)
	}
	var names []string
	for _, s := range sections {
		names = append(names, s.name)
	}
	for _, asked := range os.Args[1:] {
		if !slices.Contains(names, asked) {
			fmt.Fprintf(os.Stderr, "bench: there is no section %q; there are %s\n", asked, strings.Join(names, ", "))
			os.Exit(2)
		}
	}
	r := &report{}
	fmt.Printf("%d processors, %s, GOMAXPROCS %d\n", runtime.NumCPU(), runtime.Version(), runtime.GOMAXPROCS(0))
	for _, s := range sections {
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], s.name) {
			continue
		}
		fmt.Printf("\n%s: %s\n", s.name, s.what)
		if err := profiled(s, profiles, r); err != nil {
			fail(fmt.Errorf("%s: %w", s.name, err))
		}
	}
	if r.missed > 0 {
		fmt.Printf("\n%d promises not kept\n", r.missed)
		os.Exit(1)
	}
}

// profiled runs a section, and leaves its CPU profile in a folder where one is given.
func profiled(s section, folder string, r *report) error {
	if folder == "" {
		return s.run(r)
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	name := filepath.Join(folder, s.name+".pprof")
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := pprof.StartCPUProfile(f); err != nil {
		return err
	}
	err = s.run(r)
	pprof.StopCPUProfile()
	r.say("profile: go tool pprof -top %s", name)
	return err
}

func fail(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// report prints figures and counts the promises that weren't kept.
type report struct{ missed int }

func (r *report) say(format string, args ...any) { fmt.Printf("  "+format+"\n", args...) }

func (r *report) promise(what string, got float64, unit string, least bool, bound float64) {
	word, kept := "at most", got <= bound
	if least {
		word, kept = "at least", got >= bound
	}
	mark := "kept"
	if !kept {
		mark = "NOT KEPT"
		r.missed++
	}
	r.say("%-62s %7.2f%-3s %-8s %6.2f%-3s %s", what, got, unit, word, bound, unit, mark)
}

// atLeast and atMost hold a figure to its promise.
func (r *report) atLeast(what string, got float64, unit string, bound float64) {
	r.promise(what, got, unit, true, bound)
}
func (r *report) atMost(what string, got float64, unit string, bound float64) {
	r.promise(what, got, unit, false, bound)
}
