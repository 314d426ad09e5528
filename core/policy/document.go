package policy

// Words is the tag of a field that holds one of a few words, or a list of them: the words, the default first where there is
// one for every site. "@kinds" stands for the kinds of lane, "@formats" for the formats that can be written.
const Words = "words"

// A Document is all that a site's owner decides, as it is written in its TOML file, sent through the API and
// kept with its history. It is plain data: Compile makes of it what requests are held to, or says what is
// wrong with it. Secrets (credentials, request headers, signing keys) are never part of it.
type Document struct {
	Site    string   `json:"site" toml:"site"`
	Hosts   []string `json:"hosts" toml:"hosts" comment:"host names on which paths begin with the lane"`
	Sheet   string   `json:"sheet" toml:"sheet,multiline" comment:"the stylesheet for images: * holds the defaults, classes are named treatments"`
	Formats []string `json:"formats" toml:"formats" words:"@formats" comment:"that are delivered: avif, jxl, webp, jpeg, png, gif; of those that a client takes the smallest, of equals the first"`
	Effort  string   `json:"effort" toml:"effort" words:"quick thorough predicted" comment:"for the variants that are kept: quick; thorough, which takes longer and has fewer bytes; or predicted: first answers are kept, and no quality is searched for"`
	Shapes  []string `json:"shapes" toml:"shapes" comment:"aspect ratios that are delivered beside the natural one; empty: any"`
	Grow    string   `json:"grow" toml:"grow" words:"url classes" comment:"who may ask for more pixels than the source has: url, classes"`
	Paint   string   `json:"paint" toml:"paint" words:"url classes" comment:"who may ask for paint: url, classes"`
	Ladder  Ladder   `json:"ladder" toml:"ladder"`
	Limits  Bounds   `json:"limits" toml:"limits"`
	Month   Month    `json:"month" toml:"month" comment:"per calendar month (UTC), over all nodes; 0: no bound"`
	Pages   Pages    `json:"pages" toml:"pages"`
	Signing Signing  `json:"signing" toml:"signing"`
	Cards   Cards    `json:"cards" toml:"cards"`
	Lanes   []Lane   `json:"lanes" toml:"lanes"`
}

// Ladder says which widths are delivered.
type Ladder struct {
	Rungs []int  `json:"rungs" toml:"rungs" comment:"widths in device pixels; empty: any"`
	Other string `json:"other" toml:"other" words:"refuse round-up" comment:"other widths: refuse, round-up"`
}

// Bounds are a site's limits on one request.
type Bounds struct {
	SourceBytes       int64   `json:"source_bytes" toml:"source_bytes" between:"1024 1073741824" label:"Source, bytes"`
	SourcePixels      int64   `json:"source_pixels" toml:"source_pixels" between:"1 300000000" label:"Source, pixels"`
	SourceFrames      int     `json:"source_frames" toml:"source_frames" between:"1 100000" label:"Source, frames"`
	Width             int     `json:"width" toml:"width" between:"1 65535" label:"Variant, width" comment:"of what is delivered, in device pixels"`
	Height            int     `json:"height" toml:"height" between:"1 65535" label:"Variant, height"`
	Pixels            int64   `json:"pixels" toml:"pixels" between:"1 300000000" label:"Variant, pixels"`
	QualityFloor      int     `json:"quality_floor" toml:"quality_floor" between:"1 100" label:"Quality, floor"`
	QualityCeiling    int     `json:"quality_ceiling" toml:"quality_ceiling" between:"1 100" label:"Quality, ceiling" comment:"100 also lets lossless through"`
	VariantsPerSource int     `json:"variants_per_source" toml:"variants_per_source" between:"0 10000000" label:"Variants of one source" hint:"0: no bound" comment:"0: no bound"`
	FormatsTried      int     `json:"formats_tried" toml:"formats_tried" between:"1 5" label:"Formats tried for a variant" hint:"To send the smallest" comment:"in how many formats a variant may be made, to keep the smallest; 1: the one that is thought to be"`
	RenderMS          int64   `json:"render_ms" toml:"render_ms" between:"100 120000" label:"Rendering, ms"`
	AnimationFrames   int     `json:"animation_frames" toml:"animation_frames" between:"2 2000" label:"Frames of what the sheet moves" comment:"that a still has which the sheet moves"`
	AnimationFPS      float64 `json:"animation_fps" toml:"animation_fps" between:"1 60" label:"Frames a second" hint:"Of what the sheet moves" comment:"of a still that the sheet moves, at the most"`
	RequestsPerSecond float64 `json:"requests_per_second" toml:"requests_per_second" between:"0 1000000" label:"Requests a second of one client" hint:"On one node; 0: no bound" comment:"of one client on one node; 0: no bound"`
}

// Month bounds what a site may use in a calendar month, counted over all nodes. Zero: no bound.
type Month struct {
	Renders     int64 `json:"renders" toml:"renders" between:"0 4611686018427387903" label:"Renders a month" hint:"0: no bound"`
	BytesServed int64 `json:"bytes_served" toml:"bytes_served" between:"0 4611686018427387903" label:"Bytes served a month" hint:"0: no bound"`
	BytesStored int64 `json:"bytes_stored" toml:"bytes_stored" between:"0 4611686018427387903" label:"Bytes stored a month" hint:"0: no bound"`
}

// Pages says which web origins may embed the site's images.
type Pages struct {
	Allow  []string `json:"allow" toml:"allow" comment:"origins, such as https://*.example.test; empty: every page"`
	Silent string   `json:"silent" toml:"silent" words:"allow refuse" comment:"requests that don't say which page they come from: allow, refuse"`
}

// Signing says what may be asked without a signature.
type Signing struct {
	Unsigned string `json:"unsigned" toml:"unsigned" words:"anything ladder nothing" comment:"without a signature: anything, ladder, nothing"`
}

// Lane is a way from a site to its sources. Which fields apply depends on Kind.
type Lane struct {
	Name        string   `json:"name" toml:"name"`
	Kind        string   `json:"kind" toml:"kind" words:"@kinds" comment:"folder, web, bucket, upload, blank"`
	Folder      string   `json:"folder,omitempty" toml:"folder,omitempty"`
	Base        string   `json:"base,omitempty" toml:"base,omitempty" comment:"what paths are appended to"`
	Allow       []string `json:"allow,omitempty" toml:"allow,omitempty" comment:"URL patterns that sources must match"`
	Deny        []string `json:"deny,omitempty" toml:"deny,omitempty" comment:"URL patterns that win over allow"`
	Private     []string `json:"private,omitempty" toml:"private,omitempty" comment:"addresses reached though they aren't public"`
	Endpoint    string   `json:"endpoint,omitempty" toml:"endpoint,omitempty"`
	Region      string   `json:"region,omitempty" toml:"region,omitempty"`
	Bucket      string   `json:"bucket,omitempty" toml:"bucket,omitempty"`
	Prefix      string   `json:"prefix,omitempty" toml:"prefix,omitempty"`
	SourceBytes int64    `json:"source_bytes,omitempty" toml:"source_bytes,omitempty" comment:"0: as the site"`
	FreshS      *int     `json:"fresh_s" toml:"fresh_s" comment:"seconds that a source is taken to be unchanged where nothing else says so"`
	MissingS    *int     `json:"missing_s,omitempty" toml:"missing_s,omitempty" comment:"seconds before a source that is missing or fails is asked for again; absent: 5, or as long as it would be fresh where that is less"`
	MaxAgeS     *int     `json:"max_age_s" toml:"max_age_s" comment:"seconds that browsers and caches keep a variant"`
	CDNMaxAgeS  *int     `json:"cdn_max_age_s,omitempty" toml:"cdn_max_age_s,omitempty" comment:"seconds that caches in front keep a variant, where they aren't those of browsers"`
	Visibility  string   `json:"visibility" toml:"visibility" words:"public signed" comment:"public, signed"`
	Original    string   `json:"original" toml:"original" words:"no download" comment:"the source itself: no, download"`
	Metadata    string   `json:"metadata" toml:"metadata" words:"strip keep" comment:"what a downloaded source says of its making: strip, keep"`
	Unshared    string   `json:"unshared" toml:"unshared" words:"forget keep" comment:"what an origin marks no-store or private: forget, keep"`
	SVG         string   `json:"svg" toml:"svg" words:"draw untouched refuse" comment:"drawings in SVG: draw (to pixels), untouched (as they are, in a sandbox), refuse"`
}

// NewDocument is a new site's: everything that a site has, at its default.
func NewDocument(site string) Document {
	return Document{
		Site: site, Hosts: []string{}, Sheet: StarterSheet, Formats: []string{"avif", "jxl", "webp", "jpeg", "png"}, Shapes: []string{},
		Effort: "quick", Grow: "url", Paint: "url",
		Ladder: Ladder{Rungs: []int{}, Other: "refuse"},
		Limits: Bounds{
			SourceBytes: 64 << 20, SourcePixels: 64_000_000, SourceFrames: 500,
			Width: 8192, Height: 8192, Pixels: 40_000_000, QualityFloor: 1, QualityCeiling: 100,
			VariantsPerSource: 2000, FormatsTried: 2, RenderMS: 15_000, AnimationFrames: 160, AnimationFPS: 20,
		},
		Pages: Pages{Allow: []string{}, Silent: "allow"}, Signing: Signing{Unsigned: "anything"}, Cards: Cards{Values: "signed", Listed: []string{}}, Lanes: []Lane{},
	}
}

// Complete gives absent fields their defaults, so that equal settings are equal documents. kinds are those that lanes may
// be of.
func (d *Document) Complete(kinds LaneKinds) {
	base := NewDocument(d.Site)
	text := func(v *string, otherwise string) {
		if *v == "" {
			*v = otherwise
		}
	}
	text(&d.Sheet, base.Sheet)
	text(&d.Effort, base.Effort)
	text(&d.Grow, base.Grow)
	text(&d.Paint, base.Paint)
	text(&d.Ladder.Other, base.Ladder.Other)
	text(&d.Pages.Silent, base.Pages.Silent)
	text(&d.Signing.Unsigned, base.Signing.Unsigned)
	text(&d.Cards.Values, base.Cards.Values)
	for _, list := range []*[]string{&d.Cards.Listed, &d.Hosts, &d.Shapes, &d.Pages.Allow} {
		if *list == nil {
			*list = []string{}
		}
	}
	if d.Formats == nil {
		d.Formats = base.Formats
	}
	if d.Limits.FormatsTried == 0 {
		d.Limits.FormatsTried = base.Limits.FormatsTried
	}
	if d.Limits.AnimationFrames == 0 {
		d.Limits.AnimationFrames = base.Limits.AnimationFrames
	}
	if d.Limits.AnimationFPS == 0 {
		d.Limits.AnimationFPS = base.Limits.AnimationFPS
	}
	if d.Ladder.Rungs == nil {
		d.Ladder.Rungs = []int{}
	}
	if d.Lanes == nil {
		d.Lanes = []Lane{}
	}
	for i := range d.Lanes {
		d.Lanes[i].Complete(kinds)
	}
}

// Complete gives a lane's absent fields their defaults. A lane that doesn't say its kind is of the first one.
func (l *Lane) Complete(kinds LaneKinds) {
	if l.Kind == "" && len(kinds) > 0 {
		l.Kind = kinds[0].Name
	}
	for _, f := range []struct {
		v         *string
		otherwise string
	}{{&l.Visibility, "public"}, {&l.Original, "no"}, {&l.Metadata, "strip"}, {&l.SVG, "draw"}, {&l.Unshared, "forget"}} {
		if *f.v == "" {
			*f.v = f.otherwise
		}
	}
	if l.MaxAgeS == nil {
		l.MaxAgeS = new(int)
		*l.MaxAgeS = 3600
	}
	if l.FreshS == nil {
		l.FreshS = new(int)
		*l.FreshS = 300
		if k := kinds.Of(l.Kind); k != nil {
			*l.FreshS = k.FreshS
		}
	}
}

// Lane finds a lane by name, nil where there is none.
func (d *Document) Lane(name string) *Lane {
	for i := range d.Lanes {
		if d.Lanes[i].Name == name {
			return &d.Lanes[i]
		}
	}
	return nil
}

// Clone is a copy that shares nothing.
func (d Document) Clone() Document {
	d.Hosts, d.Formats, d.Shapes = clone(d.Hosts), clone(d.Formats), clone(d.Shapes)
	d.Ladder.Rungs, d.Pages.Allow, d.Lanes = clone(d.Ladder.Rungs), clone(d.Pages.Allow), clone(d.Lanes)
	for i := range d.Lanes {
		l := &d.Lanes[i]
		l.Allow, l.Deny, l.Private = clone(l.Allow), clone(l.Deny), clone(l.Private)
		l.FreshS, l.MaxAgeS, l.CDNMaxAgeS = copyOf(l.FreshS), copyOf(l.MaxAgeS), copyOf(l.CDNMaxAgeS)
		l.MissingS = copyOf(l.MissingS)
	}
	return d
}

func clone[T any](s []T) []T {
	if s == nil {
		return nil
	}
	return append([]T{}, s...)
}

func copyOf(n *int) *int {
	if n == nil {
		return nil
	}
	v := *n
	return &v
}
