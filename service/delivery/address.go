package delivery

import (
	"path"
	"strings"

	"echolane/core/codec/formats"
	"echolane/core/declare"
)

// form is the request's address form with the given declarations.
func (r *request) form(d declare.Declarations) []byte {
	var b []byte
	if r.hosted == nil {
		b = append(append(b, '/'), r.site.Name...)
	}
	b = declare.AppendPath(append(append(b, '/'), r.lane.Name...), r.path, r.lane.TakesURL)
	if d != (declare.Declarations{}) {
		b = d.AppendAddressForm(append(b, '?'))
	}
	return b
}

// attachment is a Content-Disposition (RFC 6266) with the name that was asked for, or the source's, and the
// ending that the type has.
func attachment(r *request, mediaType string) string {
	name := r.declared.Download.Name
	if name == "" {
		name = path.Base(r.path)
		if i := strings.IndexAny(name, "?#"); i >= 0 {
			name = name[:i]
		}
	}
	ending := formats.Ending(mediaType)
	if mediaType == "application/json" {
		ending = ".json"
	}
	if have := formats.TypeByName(name); have != mediaType {
		if have != "" {
			name = strings.TrimSuffix(name, path.Ext(name))
		}
		name += ending
	}
	plain := strings.Map(func(c rune) rune {
		if c < ' ' || c > '~' || c == '"' || c == '\\' || c == '%' {
			return '_'
		}
		return c
	}, name)
	out := `attachment; filename="` + plain + `"`
	if plain != name { // RFC 8187
		out += "; filename*=UTF-8''" + strings.NewReplacer("'", "%27", "(", "%28", ")", "%29", "*", "%2A").Replace(string(declare.AppendSegment(nil, name)))
	}
	return out
}
