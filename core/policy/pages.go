package policy

import (
	"echolane/core/wording"
	"fmt"
	"strings"
)

// Page is what a request says about the page that embeds the image: fields of Fetch Metadata, CORS and HTTP.
type Page struct {
	Site    string // Sec-Fetch-Site
	Origin  string // Origin
	Referer string // Referer
}

// Embedding is what a decision about a page means for the answer's headers.
type Embedding struct {
	// Origin is the page's origin, where it is allowed by name: it alone may read the picture's pixels.
	Origin string
	// Restricted says that not every page may have the answer, so that no shared cache may keep it.
	Restricted bool
}

// origin is the page's origin as far as the request tells, "" where it doesn't.
func (p Page) origin() string {
	if p.Origin != "" {
		return p.Origin
	}
	if p.Referer == "" {
		return ""
	}
	scheme, rest, ok := strings.Cut(p.Referer, "://")
	if !ok {
		return ""
	}
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		rest = rest[:i]
	}
	return scheme + "://" + rest
}

// CheckPage says whether the page may embed this site's images. The browser's own word (Sec-Fetch-Site) comes
// first: what it calls same-origin is our own console, and what it calls none was typed or opened by a
// person, which counts as silent. Where it says that a page asks, that page must show itself.
func (s *Site) CheckPage(p Page, trace *[]Step) (Embedding, *Refusal) {
	if len(s.Pages) == 0 {
		note(trace, "pages.allow", "passed", "every page may embed")
		return Embedding{}, nil
	}
	e := Embedding{Restricted: true}
	if p.Site == "same-origin" {
		note(trace, "pages.allow", "passed", "the page is the service's own")
		return e, nil
	}
	from := p.origin()
	asks := p.Site == "same-site" || p.Site == "cross-site"
	if from == "" && !asks {
		if !s.SilentRefused {
			note(trace, "pages.silent", "passed", "the request doesn't say which page it comes from, and those are allowed")
			return e, nil
		}
		return e, s.noPage(trace, "pages.silent", "", "the request doesn't say which page it comes from", "", &Mend{Action: "allow-silent"})
	}
	if from == "" {
		return e, s.noPage(trace, "pages.allow", "", "a page of another origin asks, and its referrer policy hides which", `let the page send its origin: referrerpolicy="strict-origin-when-cross-origin"`, nil)
	}
	for _, r := range s.Pages {
		if from != "null" && r.Matches(from+"/") {
			note(trace, "pages.allow "+r.Text, "matched", from+" may embed")
			e.Origin = from
			return e, nil
		}
		note(trace, "pages.allow "+r.Text, "not matched", "")
	}
	return e, s.noPage(trace, "pages.allow", from, fmt.Sprintf("pages of %s may not embed this site's images", wording.Cut(from, 200)), "", &Mend{Action: "add-page", Value: wording.Cut(from, 200)})
}

func (s *Site) noPage(trace *[]Step, rule, given, detail, remedy string, mend *Mend) *Refusal {
	refused(trace, rule, detail)
	var allowed []string
	for _, r := range s.Pages {
		allowed = append(allowed, r.Text)
	}
	no := Refusal{Reason: ReasonPageNotAllowed, Parameter: "page", Given: given, Detail: detail, Allowed: strings.Join(allowed, ", "), Remedy: remedy, Mend: mend}
	if mend == nil {
		return No(no)
	}
	return Mended(s.Name, no)
}

// note and refused add a step to a trace that may be nil.
func note(trace *[]Step, rule, verdict, what string) {
	if trace != nil {
		*trace = append(*trace, Step{Rule: rule, Verdict: verdict, Note: what})
	}
}

func refused(trace *[]Step, rule, what string) {
	if trace != nil {
		*trace = append(*trace, Step{Rule: rule, Verdict: "refused", Note: what, Decided: true})
	}
}
