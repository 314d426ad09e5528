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

// disposition is a Content-Disposition (RFC 6266): to be shown, or saved where that was asked for, with the name that was asked
// for, or the source's, and the ending that the type has.
func disposition(r *request, mediaType string) string {
	how := "inline"
	if r.declared.Download.Declared {
		how = "attachment"
	}
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
	out := how + `; filename="` + plain + `"`
	if plain != name { // RFC 8187
		out += "; filename*=UTF-8''" + strings.NewReplacer("'", "%27", "(", "%28", ")", "%29", "*", "%2A").Replace(string(declare.AppendSegment(nil, name)))
	}
	return out
}
