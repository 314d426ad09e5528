package main

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"maps"
	"math/rand"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"echolane/core/render"
	"echolane/internal/testbed"
)

const hostileFiles = 364

// chunk is one of a PNG's.
func chunk(kind string, data []byte) []byte {
	b := binary.BigEndian.AppendUint32(nil, uint32(len(data)))
	b = append(append(b, kind...), data...)
	return binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE(b[4:]))
}

// bombPNG says that it has so many pixels, and has as many zeros behind its compression as it is given.
func bombPNG(w, h uint32, zeros int) []byte {
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, w), h)
	var rows bytes.Buffer
	z, _ := zlib.NewWriterLevel(&rows, zlib.BestCompression)
	z.Write(make([]byte, zeros))
	z.Close()
	b := append([]byte("\x89PNG\r\n\x1a\n"), chunk("IHDR", append(head, 8, 6, 0, 0, 0))...)
	return append(append(b, chunk("IDAT", rows.Bytes())...), chunk("IEND", nil)...)
}

// bombTIFF says that it has so many grey pixels, and has as many zeros behind its compression as it is given.
func bombTIFF(w, h uint32, zeros int) []byte {
	var rows bytes.Buffer
	z, _ := zlib.NewWriterLevel(&rows, zlib.BestCompression)
	z.Write(make([]byte, zeros))
	z.Close()
	const entries = 9
	data := uint32(8 + 2 + 12*entries + 4)
	b := []byte("II*\x00\x08\x00\x00\x00\x09\x00")
	for _, e := range [entries][2]uint32{{256, w}, {257, h}, {258, 8}, {259, 8}, {262, 1}, {273, data}, {277, 1}, {278, h}, {279, uint32(rows.Len())}} {
		b = binary.LittleEndian.AppendUint16(b, uint16(e[0]))
		b = append(b, 4, 0, 1, 0, 0, 0)
		b = binary.LittleEndian.AppendUint32(b, e[1])
	}
	return append(append(b, 0, 0, 0, 0), rows.Bytes()...)
}

// lyingBMP says that it has so many pixels, and has a few bytes.
func lyingBMP(w, h uint32) []byte {
	b := append([]byte("BM"), make([]byte, 52)...)
	for at, v := range map[int]uint32{2: 4096, 10: 54, 14: 40, 18: w, 22: h, 26: 1 | 24<<16} {
		binary.LittleEndian.PutUint32(b[at:], v)
	}
	return append(b, make([]byte, 4096-54)...)
}

// box is one of ISO BMFF.
func box(kind string, body ...byte) []byte {
	return append(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+8)), kind...), body...)
}

// manyBoxes is an AVIF of so many empty boxes.
func manyBoxes(n int, brand string) []byte {
	b := box("ftyp", []byte(brand+"\x00\x00\x00\x00"+brand+"mif1miaf")...)
	one := box("free")
	return append(b, bytes.Repeat(one, n)...)
}

// nestedBoxes is one whose meta boxes lie in one another.
func nestedBoxes(deep int) []byte {
	inner := []byte{}
	for range deep {
		inner = box("meta", append([]byte{0, 0, 0, 0}, inner...)...)
	}
	return append(box("ftyp", []byte("avif\x00\x00\x00\x00avifmif1")...), inner...)
}

// scanBomb is a progressive JPEG of so many scans over a large picture, each with nothing in it.
func scanBomb(w, h uint16, scans int) []byte {
	b := []byte{0xff, 0xd8}
	segment := func(marker byte, data ...byte) {
		b = append(b, 0xff, marker)
		b = append(binary.BigEndian.AppendUint16(b, uint16(len(data)+2)), data...)
	}
	segment(0xdb, append([]byte{0}, bytes.Repeat([]byte{1}, 64)...)...)
	frame := binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16([]byte{8}, h), w)
	segment(0xc2, append(frame, 1, 1, 0x11, 0)...)
	segment(0xc4, append(append([]byte{0}, append([]byte{1}, make([]byte, 15)...)...), 0)...)
	segment(0xc4, append(append([]byte{0x10}, append([]byte{1}, make([]byte, 15)...)...), 0)...)
	for range scans {
		segment(0xda, 1, 1, 0, 0, 0, 0)
		b = append(b, 0, 0, 0, 0)
		segment(0xda, 1, 1, 0, 1, 63, 0)
		b = append(b, 0, 0, 0, 0)
	}
	return append(b, 0xff, 0xd9)
}

// exifLoop is a JPEG whose Exif directories lead back to themselves, and hold as many entries as can be said.
func exifLoop(picture []byte) []byte {
	tiff := []byte("MM\x00*\x00\x00\x00\x08")
	tiff = binary.BigEndian.AppendUint16(tiff, 5000)
	for i := range 5000 {
		tiff = binary.BigEndian.AppendUint16(tiff, uint16([]int{0x8769, 0x8825, 0x0112, 0x010f}[i%4]))
		tiff = binary.BigEndian.AppendUint16(tiff, 4)
		tiff = binary.BigEndian.AppendUint32(tiff, 0xffffffff)
		tiff = binary.BigEndian.AppendUint32(tiff, 8)
	}
	tiff = binary.BigEndian.AppendUint32(tiff, 8)
	app := append([]byte("Exif\x00\x00"), tiff...)
	b := append([]byte{0xff, 0xd8, 0xff, 0xe1}, binary.BigEndian.AppendUint16(nil, uint16(min(65535, len(app)+2)))...)
	b = append(b, app[:min(len(app), 65533)]...)
	return append(b, picture[2:]...)
}

// longGIF is one of many frames on a large screen.
func longGIF(frames, side int) ([]byte, error) {
	g := &gif.GIF{Config: image.Config{Width: side, Height: side, ColorModel: color.Palette{color.Black, color.White}}}
	for range frames {
		g.Image, g.Delay = append(g.Image, image.NewPaletted(image.Rect(0, 0, 1, 1), color.Palette{color.Black, color.White})), append(g.Delay, 1)
	}
	var b bytes.Buffer
	err := gif.EncodeAll(&b, g)
	return b.Bytes(), err
}

// hugeWebP says of its canvas and of its frames what it doesn't have.
func hugeWebP(frames int) []byte {
	part := func(kind string, body []byte) []byte {
		b := append([]byte(kind), binary.LittleEndian.AppendUint32(nil, uint32(len(body)))...)
		return append(b, body...)
	}
	body := append([]byte("WEBP"), part("VP8X", []byte{0x12, 0, 0, 0, 0xff, 0xff, 0xff, 0xff, 0xff, 0x3f})...)
	body = append(body, part("ANIM", make([]byte, 6))...)
	for range frames {
		body = append(body, part("ANMF", append(make([]byte, 16), part("VP8L", []byte{0x2f, 0xff, 0xff, 0xff, 0x0f})...))...)
	}
	return part("RIFF", body)
}

// drawings are SVG that ask for n times too much, by what of.
func drawings(n int) map[string]string {
	var uses strings.Builder
	for i := range min(n, 60) {
		fmt.Fprintf(&uses, `<g id="u%d"><use href="#u%d"/><use href="#u%d"/></g>`, i+1, i, i)
	}
	many := func(of string) string { return strings.Repeat(of, n) }
	return map[string]string{
		"uses":     `<rect id="u0" width="9" height="9"/>` + uses.String(),
		"groups":   many(`<g opacity=".9"><rect width="900" height="900" stroke="red"/></g>`),
		"deep":     many("<g>") + many("</g>"),
		"filters":  `<filter id="f">` + strings.Repeat(`<feGaussianBlur stdDeviation="90"/>`, 50) + `</filter>` + many(`<rect width="900" height="900" filter="url(#f)"/>`),
		"noise":    `<filter id="f"><feTurbulence baseFrequency="1e9" numOctaves="1000000"/></filter>` + many(`<rect width="900" height="900" filter="url(#f)"/>`),
		"line":     `<path stroke="red" stroke-width="9" stroke-linejoin="round" stroke-dasharray=".01" d="M0 0` + many("C900 0 0 900 900 900") + `"/>`,
		"masks":    `<mask id="m" mask="url(#m)"><rect width="900" height="900" mask="url(#m)"/></mask>` + many(`<rect width="900" height="900" mask="url(#m)"/>`),
		"patterns": `<pattern id="p" width=".01" height=".01"><rect width="900" height="900" fill="url(#p)"/></pattern>` + many(`<rect width="900" height="900" fill="url(#p)"/>`),
		"rules":    "<style>" + many("g g g g rect{fill:red}") + "</style>" + many("<rect/>"),
		"text":     "<text>" + many("kites and ") + "</text>",
	}
}

// hostiles are files that mean harm, by name.
func hostiles() (map[string][]byte, error) {
	all := map[string][]byte{}
	photo, err := photographOf(640, 400)
	if err != nil {
		return nil, err
	}
	good := map[string][]byte{"jpg": photo}
	for _, format := range []string{"webp", "avif", "jxl", "png"} {
		j, err := jobOf("width=300&format=" + format)
		if err != nil {
			return nil, err
		}
		j.Predict = true
		r, err := render.Variant(photo, j)
		if err != nil {
			return nil, err
		}
		good[format] = r.Data
	}
	var animated []byte
	if animated, err = longGIF(900, 200); err != nil {
		return nil, err
	}
	good["gif"] = animated
	drawing, err := os.ReadFile("conformance/drawings/logo.svg")
	if err != nil {
		return nil, err
	}
	good["svg"] = drawing
	for i, n := range []int{100, 900, 20_000} {
		if all[fmt.Sprintf("frames-%d.gif", i)], err = longGIF(n, 20_000); err != nil {
			return nil, err
		}
		all[fmt.Sprintf("frames-%d.webp", i)] = hugeWebP(n)
		all[fmt.Sprintf("boxes-%d.avif", i)] = manyBoxes(n*50, "avif")
		all[fmt.Sprintf("boxes-%d.heic", i)] = manyBoxes(n*50, "heic")
		all[fmt.Sprintf("nested-%d.avif", i)] = nestedBoxes(min(n, 5000))
		all[fmt.Sprintf("extents-%d.avif", i)] = emptyExtents(min(n, 12_000))
		all[fmt.Sprintf("scans-%d.jpg", i)] = scanBomb(uint16(1000+i*20_000), uint16(1000+i*20_000), min(n, 5000))
		all[fmt.Sprintf("bomb-%d.png", i)] = bombPNG(uint32(1000+i*30_000), uint32(1000+i*30_000), 4<<20<<(2*i))
		all[fmt.Sprintf("bomb-%d.tiff", i)] = bombTIFF(uint32(1000+i*30_000), uint32(1000+i*30_000), 4<<20<<(2*i))
		all[fmt.Sprintf("lie-%d.bmp", i)] = lyingBMP(uint32(1000+i*30_000), uint32(1000+i*30_000))
		all[fmt.Sprintf("boxes-%d.jxl", i)] = append([]byte("\x00\x00\x00\x0cJXL \r\n\x87\n"), manyBoxes(n*50, "jxl ")...)
		for of, body := range drawings(n) {
			if i == 1 { // the others tell enough
				break
			}
			all[fmt.Sprintf("%s-%d.svg", of, i)] = []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="900" height="900">` + body + "</svg>")
		}
		all[fmt.Sprintf("exif-%d.jpg", i)] = append(exifLoop(photo), byte(i))
	}
	var wide bytes.Buffer
	if err := jpeg.Encode(&wide, image.NewGray(image.Rect(0, 0, 1, 1)), nil); err != nil {
		return nil, err
	}
	lie := wide.Bytes()
	if at := bytes.Index(lie, []byte{0xff, 0xc0}); at > 0 {
		copy(lie[at+5:], []byte{0xff, 0xdc, 0xff, 0xdc})
	}
	all["lie.jpg"] = lie
	good["tiff"], good["bmp"] = bombTIFF(300, 200, 300*200), lyingBMP(36, 37)
	for _, name := range []string{"jxl", "svg", "tiff", "bmp"} {
		for i := range 31 {
			all[fmt.Sprintf("cut-%02d.%s", i+1, name)] = good[name][:len(good[name])*(i+1)/32]
		}
	}
	random := rand.New(rand.NewSource(7))
	names := slices.Sorted(maps.Keys(good))
	for i := 0; len(all) < hostileFiles; i++ {
		name := names[i%len(names)]
		data := bytes.Clone(good[name])
		switch i / len(names) % 3 {
		case 0: // cut off
			data = data[:random.Intn(len(data))]
		case 1: // with some bytes changed
			for range 1 + random.Intn(20) {
				data[random.Intn(len(data))] = byte(random.Intn(256))
			}
		default: // with its middle gone to another's
			other := good[names[random.Intn(len(names))]]
			at := random.Intn(len(data))
			data = append(data[:at], other[random.Intn(len(other)):]...)
		}
		all[fmt.Sprintf("random-%03d.%s", i, name)] = data
	}
	return all, nil
}

// hostile has a service make variants of files that mean harm, and watches another site of it.
func hostile(r *report) error {
	files, err := hostiles()
	if err != nil {
		return err
	}
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		dir := filepath.Join(bed.Dir, "hostile")
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return err
		}
		for name, data := range files {
			if err := write(dir, name, data); err != nil {
				return err
			}
		}
		s := twoSites(bed, t, "--search-at-once=false", "--workers", fmt.Sprint(max(1, runtime.NumCPU()-1)))
		bed.Must(t, s, "site", "set", "kestrel", "--limit", "render_ms=10000")
		bed.Must(t, s, "lane", "add", "kestrel/hostile", "--folder", dir)
		client := &http.Client{Timeout: time.Minute}
		hot := s.Base + "/gull/f/delta-red.jpg?width=320&format=webp"
		if status, _, _ := ask(client, hot); status != 200 {
			return fmt.Errorf("the hot picture: %d", status)
		}
		time.Sleep(2 * time.Second)
		alone, _ := paced(hot, 4*time.Second, nil)
		before := memoryOf(s.Cmd.Process.Pid)
		outcomes := map[string]int{}
		var longest time.Duration
		var slowest string
		odd := 0
		ended := make(chan struct{})
		go func() { // one after the other, so that each file's own time is measured, and not that of those before it in the line
			defer close(ended)
			for _, name := range slices.Sorted(maps.Keys(files)) {
				for _, query := range []string{"as=facts", "width=100&format=webp", "width=1500&format=png", "width=300&format=webp&redact=faces+percent:0,0,50,50&erase=percent:20,20,50,70&mask-image=subject+or-none"} {
					status, data, took := ask(client, s.Base+"/kestrel/hostile/"+name+"?"+query)
					outcome := fmt.Sprint(status)
					if _, reason, ok := strings.Cut(string(data), `"reason":"`); ok && status >= 400 {
						reason, _, _ = strings.Cut(reason, `"`)
						outcome += " " + reason
					}
					outcomes[outcome]++
					if took > longest {
						longest, slowest = took, name+"?"+query
					}
					if status == 0 || status >= 500 {
						odd++
					}
				}
			}
		}()
		under, failed := paced(hot, 5*time.Minute, ended)
		<-ended
		after := memoryOf(s.Cmd.Process.Pid)
		for _, o := range slices.Sorted(maps.Keys(outcomes)) {
			r.say("%s × %d", o, outcomes[o])
		}
		r.say("the longest took %v: %s; memory %d MB before, %d MB at the most", longest.Round(time.Millisecond), slowest, before.now>>20, after.peak>>20)
		for line := range strings.Lines(s.Said()) {
			if strings.Contains(line, "render worker was lost") {
				r.say("%.300s", strings.TrimSpace(line))
			}
		}
		r.atMost(fmt.Sprintf("of %d requests for %d hostile files those without an answer or a reason that is theirs", 4*len(files), len(files)), float64(odd), "", 0)
		r.atMost("the longest, of the 10 s that a render may take", longest.Seconds()/10, "×", 1.1)
		r.atMost("the cached picture's p50 meanwhile, of what it is alone", float64(at(under, .5))/float64(at(alone, .5)), "×", 1.2)
		r.atMost("its answers that failed", float64(failed), "", 0)
		r.atMost("the service's memory at the most, of what it was before", float64(after.peak)/float64(before.peak), "×", 1.5)
		return nil
	})
}
