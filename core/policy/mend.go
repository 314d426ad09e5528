package policy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// A Mend is the change to a site's document that would have let a request through. It is offered, never done
// by itself.
type Mend struct {
	Action string `json:"action"`         // one of those that Apply knows
	Lane   string `json:"lane,omitempty"` // which lane it changes, "" for the site
	Value  string `json:"value,omitempty"`
}

// Apply gives the document with the mend made.
func (m Mend) Apply(d Document) (Document, error) {
	d = d.Clone()
	lane := d.Lane(m.Lane)
	if m.Lane != "" && lane == nil {
		return d, fmt.Errorf("the lane %s is gone", m.Lane)
	}
	add := func(list *[]string) {
		if !slices.Contains(*list, m.Value) {
			*list = append(*list, m.Value)
		}
	}
	switch m.Action {
	case "add-rung":
		n, err := strconv.Atoi(m.Value)
		if err != nil {
			return d, fmt.Errorf("%q isn't a width", m.Value)
		}
		if !slices.Contains(d.Ladder.Rungs, n) {
			d.Ladder.Rungs = append(d.Ladder.Rungs, n)
			slices.Sort(d.Ladder.Rungs)
		}
	case "add-shape":
		add(&d.Shapes)
	case "add-page":
		add(&d.Pages.Allow)
	case "allow-silent":
		d.Pages.Silent = "allow"
	case "add-format":
		add(&d.Formats)
	case "url-paint":
		d.Paint = "url"
	case "url-grow":
		d.Grow = "url"
	case "add-allow":
		add(&lane.Allow)
	case "remove-deny":
		lane.Deny = slices.DeleteFunc(lane.Deny, func(s string) bool { return s == m.Value })
	case "add-private":
		add(&lane.Private)
	case "set-limit":
		name, text, _ := strings.Cut(m.Value, "=")
		v, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return d, fmt.Errorf("%q isn't a limit", m.Value)
		}
		if lane != nil && name == "source_bytes" {
			lane.SourceBytes = v
			return d, nil
		}
		b := &d.Limits
		switch name {
		case "source_bytes":
			b.SourceBytes = v
		case "source_pixels":
			b.SourcePixels = v
		case "source_frames":
			b.SourceFrames = int(v)
		case "width":
			b.Width = int(v)
		case "height":
			b.Height = int(v)
		case "pixels":
			b.Pixels = v
		case "quality_floor":
			b.QualityFloor = int(v)
		case "quality_ceiling":
			b.QualityCeiling = int(v)
		case "variants_per_source":
			b.VariantsPerSource = int(v)
		case "render_ms":
			b.RenderMS = v
		default:
			return d, fmt.Errorf("there is no limit %q", name)
		}
	default:
		return d, fmt.Errorf("there is no way to mend by %q", m.Action)
	}
	return d, nil
}

// raise is the mend that lifts a limit to v, rounded up to two leading digits so that the next one isn't
// refused for a hair.
func raise(limit string, v int64) *Mend {
	step := int64(1)
	for v/step >= 100 {
		step *= 10
	}
	return &Mend{Action: "set-limit", Value: fmt.Sprintf("%s=%d", limit, (v+step-1)/step*step)}
}

// Command is the command line that makes the mend.
func (m Mend) Command(site string) string {
	lane := site + "/" + m.Lane
	switch m.Action {
	case "add-rung", "add-shape", "add-page":
		return fmt.Sprintf("echolane site set %s --%s %s", site, m.Action, m.Value)
	case "add-format":
		return fmt.Sprintf("echolane site set %s --add-format %s", site, m.Value)
	case "allow-silent":
		return fmt.Sprintf("echolane site set %s --pages-silent allow", site)
	case "url-paint":
		return fmt.Sprintf("echolane site set %s --paint url", site)
	case "url-grow":
		return fmt.Sprintf("echolane site set %s --grow url", site)
	case "add-allow":
		return fmt.Sprintf("echolane lane set %s --allow '%s'", lane, m.Value)
	case "remove-deny":
		return fmt.Sprintf("echolane lane set %s --no-deny '%s'", lane, m.Value)
	case "add-private":
		return fmt.Sprintf("echolane lane set %s --private %s", lane, m.Value)
	case "set-limit":
		if m.Lane != "" {
			_, v, _ := strings.Cut(m.Value, "=")
			return fmt.Sprintf("echolane lane set %s --source-bytes %s", lane, v)
		}
		return fmt.Sprintf("echolane site set %s --limit %s", site, m.Value)
	}
	return ""
}

// Mended is No for a refusal that a change of settings would mend: the change's command is its way out, behind
// what the remedy says already.
func Mended(site string, r Refusal) *Refusal {
	if r.Remedy != "" {
		r.Remedy += ", or: "
	}
	r.Remedy += r.Mend.Command(site)
	return No(r)
}
