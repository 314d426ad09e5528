package policy

import "strings"

// ForStrangers is the refusal as anybody may read it: without the site's rules, the addresses behind its lanes and what only
// those who run the service can act on. Who has a token, the console and the site's refusals say it all.
func (r *Refusal) ForStrangers() *Refusal {
	const ask = "ask whoever runs the site: it stands among the site's refusals"
	n := *r
	hide := func(detail string) {
		n.Detail, n.Given, n.Allowed, n.Remedy, n.Mend, n.Problems = detail, "", "", ask, nil, nil
	}
	switch r.Reason {
	case ReasonSourceNotAllowed:
		hide("the site's rules don't allow the source")
	case ReasonSourceDenied:
		hide("the site's rules deny the source")
	case ReasonAddressNotPublic:
		hide("the source's host leads to an address that isn't on the public internet")
	case ReasonPageNotAllowed:
		remedy := n.Remedy
		hide(r.Detail)
		if r.Mend == nil { // the page itself can mend it
			n.Remedy = remedy
		}
	case ReasonOriginFailed:
		hide("the origin behind the lane failed")
		n.Remedy = "try again later; if it goes on, " + ask
	case ReasonOriginSlow:
		hide("the origin behind the lane took too long")
		n.Remedy = "try again later; if it goes on, " + ask
	case ReasonTooManyRedirects:
		hide("the origin behind the lane sends the request from place to place")
	case ReasonLaneUnreachable, ReasonSecretMissing, ReasonOutsideFolder:
		hide(r.Title)
	case ReasonDatabaseAway:
		hide("the service can't reach its database")
		n.Remedy = "try again later"
	case ReasonBadSourceURL:
		if strings.Contains(r.Detail, "redirects") {
			hide("the origin behind the lane redirects to what isn't a source's URL")
		}
	}
	return &n
}

// ForStrangers is a step of an explanation as anybody may read it: which kind of rule, and not what it says.
func (s Step) ForStrangers() Step {
	for _, kind := range []string{"allow", "deny", "pages.allow"} {
		if strings.HasPrefix(s.Rule, kind+" ") {
			s.Rule, s.Note = kind, ""
		}
	}
	if s.Verdict == "refused" {
		switch Reason(s.Rule) {
		case ReasonOriginFailed, ReasonOriginSlow, ReasonAddressNotPublic, ReasonTooManyRedirects, ReasonLaneUnreachable, ReasonSecretMissing, ReasonOutsideFolder, ReasonSourceDenied, ReasonSourceNotAllowed, ReasonBadSourceURL:
			s.Note = ""
		}
	}
	return s
}
