package delivery

import (
	"context"
	"errors"
	"strings"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/service/source"
	"echolane/service/source/held"
)

// The step locate: which versions of its sources a request is answered from, and what policy says now that their headers
// are known.

// locate finds the picture's source and those of its layers, each under its own lane's rules.
func (s *Service) locate(ctx context.Context, r *request, f *found) *policy.Refusal {
	own, err := s.Sources.Locate(ctx, r.site, r.lane, r.path, r.trace)
	if err != nil {
		return s.refusalOf(err)
	}
	f.sources = append(f.sources, own)
	if d := r.declared.Digest; d != "" {
		is, err := s.Sources.Is(ctx, own, held.Digest(d))
		if err != nil && !errors.Is(err, held.ErrChanged) {
			return s.refusalOf(err)
		}
		if !is {
			return policy.No(policy.Refusal{
				Reason: policy.ReasonNoSuchVersion, Parameter: "digest", Given: d, Detail: "the source isn't the version that the address names any more: its digest is " + string(own.Known.Digest),
				Allowed: string(own.Known.Digest), Remedy: "take digest out of the address for the newest version, or write the page's markup again",
			})
		}
	}
	var no *policy.Refusal
	h := own.Known.Header
	switch {
	case r.original() && h.Type != svgType: // as it lies there, whatever its size
		return nil
	case r.original(), r.declared.As == declare.Facts:
		f.use, no = r.lane.CheckSource(r.site.Name, h)
	default:
		f.use, no = r.site.DecideSource(r.lane, r.resolved, h, r.trace)
	}
	if no != nil || f.use == policy.Untouched || r.declared.As == declare.Facts {
		return no
	}
	for _, name := range r.resolved.Pictures() {
		l, no := s.locateLayer(ctx, r, name)
		if no != nil {
			return no
		}
		f.sources = append(f.sources, l)
	}
	return nil
}

// locateLayer finds a source that the declarations name beside the picture itself.
func (s *Service) locateLayer(ctx context.Context, r *request, name string) (*source.Located, *policy.Refusal) {
	laneName, path, _ := strings.Cut(name, "/")
	in := r.site.Lane(laneName)
	if in == nil {
		return nil, NoLane(r.site, laneName)
	}
	if in.Signed && r.declared.Signature == "" && !r.trusted {
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonSignatureNeeded, Parameter: "signature", Given: name, Detail: "the layer comes from a lane that answers signed links only", Remedy: "sign the link: echolane link … --sign KEY"})
	}
	no := source.CheckText(path)
	if !in.TakesURL {
		no = source.CheckPath(path)
	}
	if no != nil {
		return nil, no
	}
	l, err := s.Sources.Locate(ctx, r.site, in, path, nil)
	if font := fontOf(r, name); err != nil {
		no := s.refusalOf(err)
		if font && (no.Reason == policy.ReasonNotAnImage || no.Reason == policy.ReasonSourceBroken) {
			no = noFont(name)
		}
		return nil, no
	} else if font {
		if !strings.HasPrefix(l.Known.Header.Type, "font/") {
			l.Close()
			return nil, noFont(name)
		}
		return l, nil
	}
	// As a layer a drawing is drawn, also where it goes out untouched by itself.
	if _, no := in.CheckSource(r.site.Name, l.Known.Header); no != nil {
		l.Close()
		return nil, no
	}
	return l, nil
}

// fontOf reports whether a source is a font that the request's texts are set in.
func fontOf(r *request, name string) bool {
	for _, f := range r.resolved.Fonts {
		if f.File == name {
			return true
		}
	}
	return false
}

func noFont(name string) *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason: policy.ReasonSourceBroken, Parameter: "font-family", Given: name, Detail: "the sheet's @font-face names " + name + ", which is no font that can be read",
		Allowed: "a TTF, OTF, WOFF or WOFF2 file", Remedy: "put a font in its place, or take the rule out of the sheet",
	})
}

// sharing is the strictest that the origins of a request's sources say.
func sharing(sources []*source.Located) source.Sharing {
	strictest := source.Public
	for _, l := range sources {
		strictest = max(strictest, l.Known.Sharing)
	}
	return strictest
}

// keeps reports whether what is made of the sources may be kept here.
func keeps(r *request, sources []*source.Located) bool {
	return sharing(sources) == source.Public || r.lane.Unshared == "keep"
}
