package delivery

import (
	"context"
	"encoding/base64"
	"encoding/json"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/source"
	"echolane/service/variants"
)

// Placeholder is a blurred picture as a data URL of at most 600 bytes, to stand in a page until the real one has come.
func Placeholder(ctx context.Context, r Renderer, data []byte, limits policy.Limits) (string, error) {
	const prefix = "data:image/webp;base64,"
	d := declare.Declarations{Format: declare.WebP}
	made, err := r.Render(ctx, data, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: limits, Placeholder: (render.PlaceholderBytes - len(prefix)) / 4 * 3})
	if err != nil {
		return "", err
	}
	return prefix + base64.StdEncoding.EncodeToString(made.Data), nil
}

// makeFacts finds out what is known of the source, as JSON that is kept like a variant.
func (s *Service) makeFacts(r *request, lane source.Lane, m *memo, data []byte) (*variants.Variant, error) {
	ctx := context.Background()
	if data == nil {
		var err error
		if data, err = lane.Read(ctx, r.path, *m.version); err != nil {
			return nil, err
		}
	}
	info, err := render.Probe(data)
	if err != nil {
		return nil, err
	}
	found, err := s.Renderer.Render(ctx, data, render.Job{Request: declare.Resolved{Formats: []declare.Format{declare.PNG}}, Limits: r.lane.Limits, Facts: true})
	if err != nil {
		return nil, err
	}
	f := source.FactsOf(data, info)
	f.Subject, f.Colour = found.Subject, found.Colour
	if f.Placeholder, err = Placeholder(ctx, s.Renderer, data, r.lane.Limits); err != nil {
		return nil, err
	}
	body, err := json.Marshal(f)
	if err != nil {
		return nil, err
	}
	return &variants.Variant{Body: body, ETag: variants.ETagOf(body), Type: "application/json", NaturalWidth: f.Width, NaturalHeight: f.Height, SourceType: f.Type, SourceBytes: len(data)}, nil
}
