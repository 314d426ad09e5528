package delivery

import (
	"encoding/json"

	"echolane/core/policy"
	"echolane/service/source"
	"echolane/service/variants"
)

// Measure makes what a request for uri would be answered with, through the same cache, for callers within the service:
// no page, client or month is held against it, and nothing needs a signature. accept is the client's Accept field.
func (s *Service) Measure(uri, accept string) (*variants.Variant, *policy.Refusal) {
	start := now()
	r := &request{all: s.Settings.Current(), uri: uri, accepted: policy.ReadAccept(accept), trusted: true}
	if no := s.read(r); no != nil {
		return nil, no
	}
	_, v, _, _, no := s.work(r, start)
	return v, no
}

// FactsOf are what as=facts says of the source at a path such as /kestrel/catalogue/delta-red.jpg, percent-encoded.
func (s *Service) FactsOf(path string) (f source.Facts, no *policy.Refusal) {
	v, no := s.Measure(path+"?as=facts", "")
	if no != nil {
		return f, no
	}
	if err := json.Unmarshal(v.Body, &f); err != nil {
		return f, s.refusalOf(err)
	}
	return f, nil
}
