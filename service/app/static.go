package app

import (
	"bytes"
	"compress/gzip"
	"embed"
	"io/fs"
	"mime"
	"path"
	"strconv"
	"strings"
	"sync"

	"github.com/andybalholm/brotli"
	"github.com/gofiber/fiber/v3"

	"echolane/service/cache"
)

// A file of the binary's own, in the codings that it is sent in. The codings of larger files are made at the build and lie
// beside them, with .br and .gz behind their names; others are made when they are first asked for.
type file struct {
	kind    string
	codings map[string]coded // by their names in Accept-Encoding; identity is always there
}

type coded struct {
	data []byte
	etag string
}

// files are those of one embedded folder. Safe for concurrent use.
type files struct {
	from embed.FS
	dir  string // "" or ending in a slash

	mu   sync.Mutex
	read map[string]*file
}

// leastCoded is how long a file has to be to be worth a coding.
const leastCoded = 1 << 10

// file gives a file, nil where there is none of that name.
func (f *files) file(name string) *file {
	if !fs.ValidPath(name) {
		return nil
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if have, ok := f.read[name]; ok {
		return have
	}
	data, err := f.from.ReadFile(f.dir + name)
	if err != nil {
		return nil // not noted: names that don't exist are endless
	}
	one := &file{kind: mime.TypeByExtension(path.Ext(name)), codings: map[string]coded{}}
	if path.Ext(name) == ".ts" { // of which there is no registered type
		one.kind = "text/plain; charset=utf-8"
	}
	tag := strings.TrimSuffix(cache.ETagOf(data), `"`)
	one.codings["identity"] = coded{data, tag + `"`}
	if len(data) >= leastCoded {
		for coding, made := range map[string]struct {
			ending string
			by     func([]byte) []byte
		}{"br": {".br", byBrotli}, "gzip": {".gz", byGzip}} {
			short, err := f.from.ReadFile(f.dir + name + made.ending)
			if err != nil {
				short = made.by(data)
			}
			if len(short) < len(data) {
				one.codings[coding] = coded{short, tag + "-" + coding + `"`}
			}
		}
	}
	if f.read == nil {
		f.read = map[string]*file{}
	}
	f.read[strings.Clone(name)] = one // the name may lie in a buffer that the next request is read into
	return one
}

func byBrotli(data []byte) []byte {
	var b bytes.Buffer
	w := brotli.NewWriterLevel(&b, brotli.BestCompression)
	w.Write(data)
	w.Close()
	return b.Bytes()
}

func byGzip(data []byte) []byte {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
	w.Write(data)
	w.Close()
	return b.Bytes()
}

// send answers with the file in the best coding that the client takes.
func (f *file) send(c fiber.Ctx) error {
	coding := f.codingFor(c.Get("Accept-Encoding"))
	one := f.codings[coding]
	c.Set("Content-Type", f.kind)
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Vary", "Accept-Encoding")
	c.Set("ETag", one.etag)
	for tag := range strings.SplitSeq(c.Get("If-None-Match"), ",") {
		if tag = strings.TrimPrefix(strings.TrimSpace(tag), "W/"); tag == one.etag || tag == "*" {
			return c.SendStatus(fiber.StatusNotModified)
		}
	}
	if coding != "identity" {
		c.Set("Content-Encoding", coding)
	}
	return c.Send(one.data)
}

// codingFor chooses by weight, and between equal weights the shortest (RFC 9110, section 12.5.3).
func (f *file) codingFor(accept string) string {
	weights := map[string]float64{}
	for part := range strings.SplitSeq(accept, ",") {
		name, rest, _ := strings.Cut(strings.ToLower(strings.TrimSpace(part)), ";")
		q := 1.0
		if text, ok := strings.CutPrefix(strings.ReplaceAll(rest, " ", ""), "q="); ok {
			var err error
			if q, err = strconv.ParseFloat(text, 64); err != nil {
				q = 0
			}
		}
		weights[strings.TrimSpace(name)] = q
	}
	best, weight := "identity", 0.0
	for _, coding := range []string{"br", "gzip"} {
		one, there := f.codings[coding]
		q, named := weights[coding]
		if !named {
			q = weights["*"]
		}
		if there && q > 0 && (q > weight || q == weight && len(one.data) < len(f.codings[best].data)) {
			best, weight = coding, q
		}
	}
	return best
}
