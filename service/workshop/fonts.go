package workshop

import (
	"context"
	"os"
	"path/filepath"
	"slices"

	"echolane/core/render"
	"echolane/core/text"
	"echolane/service/source/held"
)

// fontPrefix begins the name of an input that is one of the system's fonts.
const fontPrefix = "font:"

// withFonts has a job's sources followed by the fonts of the system that its texts may need, and says which: those that aren't there
// are left out.
func withFonts(open Open, job *render.Job) (Open, []string) {
	var names, paths []string
	for _, name := range render.SystemFonts(&job.Request) {
		if path := fontPath(name); path != "" && len(names) < maxFonts {
			names, paths = append(names, name), append(paths, path)
		}
	}
	if len(names) == 0 {
		return open, nil
	}
	return func(ctx context.Context) ([]*held.Content, error) {
		contents, err := open(ctx)
		if err != nil {
			return contents, err
		}
		contents = slices.Clone(contents)
		for _, path := range paths {
			f, err := os.Open(path)
			if err != nil {
				closeAll(contents)
				return nil, err
			}
			info, err := f.Stat()
			if err != nil {
				f.Close()
				closeAll(contents)
				return nil, err
			}
			contents = append(contents, held.InFile(f, 0, info.Size()))
		}
		return contents, nil
	}, names
}

// maxFonts is how many of the system's fonts a job is given at most.
const maxFonts = 24

func closeAll(contents []*held.Content) {
	for _, c := range contents {
		c.Close()
	}
}

// fontPath is where one of the system's fonts lies, "" where it doesn't.
func fontPath(name string) string {
	for _, folder := range text.SystemFolders {
		path := filepath.Join(folder, name)
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && info.Size() <= text.MostFontBytes {
			return path
		}
	}
	return ""
}

// ReadFonts reads the system's fonts that a job's texts may need, for who renders in a process of its own.
func ReadFonts(job *render.Job) error {
	for _, name := range render.SystemFonts(&job.Request) {
		path := fontPath(name)
		if path == "" {
			continue
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if job.Fonts == nil {
			job.Fonts = map[string][]byte{}
		}
		job.Fonts[name] = data
	}
	return nil
}
