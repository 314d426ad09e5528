package delivery

import (
	"encoding/json"
	"slices"
	"strings"

	"echolane/core/subject"
	"echolane/service/records"
	"echolane/service/source"
)

// leastShare is how much of a picture a colour has to have to be one that the picture is found by.
const leastShare = 0.01

// lookedAt writes down what facts, as JSON, say of a source, so that it's found by them.
func (s *Service) lookedAt(site, lane, path string, facts []byte) {
	var f source.Facts
	if json.Unmarshal(facts, &f) != nil || f.Looks == nil {
		return
	}
	var colours []string
	for _, c := range f.Looks.Colours {
		if name := subject.ColourName(c.Colour); c.Share >= leastShare && name != "" && !slices.Contains(colours, name) {
			colours = append(colours, name)
		}
	}
	s.Recorder.LookedAt(records.LookedAt{
		Site: site, Lane: lane, Path: path, Digest: string(f.Digest), Type: f.Type, Width: f.Width, Height: f.Height, Bytes: f.Bytes, Frames: f.Frames,
		Faces: len(f.Faces), Kind: f.Looks.Kind, Sharpness: f.Looks.Sharpness, Lettered: f.Looks.Lettered, Colours: strings.Join(colours, " "),
	})
}
