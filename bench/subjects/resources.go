package main

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"echolane/core/codec/webp"
	"echolane/core/subject"
)

// resourceFolder is where `make subject-report` puts gcompris-qt-data.
const resourceFolder = "var/debian-data/usr/share/gcompris-qt/rcc"

// resources are the photographs that are labelled in resources.txt, with their parts; none where the package isn't there.
func resources() (set []Labelled, err error) {
	lines := bufio.NewScanner(bytes.NewReader(resourceLabels))
	pictures := map[string][][]byte{}
	var read reading
	for n := 0; lines.Scan(); n++ {
		text := lines.Text()
		if strings.HasPrefix(text, "#") {
			continue
		}
		var file string
		var at int
		var b subject.Box
		if _, err := fmt.Sscan(text, &file, &at, &b.X0, &b.Y0, &b.X1, &b.Y1); err != nil {
			return nil, fmt.Errorf("resources.txt: %q: %w", text, err)
		}
		if pictures[file] == nil {
			data, err := os.ReadFile(filepath.Join(resourceFolder, file+".rcc"))
			if errors.Is(err, fs.ErrNotExist) {
				fmt.Fprintln(os.Stderr, "no "+resourceFolder+": its photographs are left out (make subject-report fetches them)")
				return nil, nil
			}
			if err != nil {
				return nil, err
			}
			pictures[file] = webps(data)
		}
		if at >= len(pictures[file]) {
			return nil, fmt.Errorf("%s.rcc has %d pictures: no %d", file, len(pictures[file]), at)
		}
		group := "resources, not fitted on"
		if n%2 == 1 {
			group = "resources, fitted on"
		}
		read.add(pictures[file][at], fmt.Sprintf("%s %d", file, at), group, b)
	}
	return read.all()
}

// webps are the opaque pictures of at least 200×150 that lie uncompressed in a file: RIFF containers (RFC 9649, section 2.3).
func webps(data []byte) (list [][]byte) {
	for {
		at := bytes.Index(data, []byte("RIFF"))
		if at < 0 || len(data) < at+12 {
			return list
		}
		data = data[at:]
		end := 8 + int(binary.LittleEndian.Uint32(data[4:]))
		if string(data[8:12]) != "WEBP" || end > len(data) {
			data = data[4:]
			continue
		}
		if f, err := webp.Probe(data[:end]); err == nil && !f.Alpha && f.W >= 200 && f.H >= 150 {
			list = append(list, data[:end])
		}
		data = data[end:]
	}
}
