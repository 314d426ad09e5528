package policy

import (
	"echolane/core/wording"
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"sync"

	urlpattern "github.com/dunglas/go-urlpattern"
	whatwg "github.com/nlnwa/whatwg-url/url"
	"golang.org/x/net/publicsuffix"
)

// A Rule is a URL pattern (URL Pattern Standard, constructor string syntax).
type Rule struct {
	Text    string
	pattern *urlpattern.URLPattern
}

// ReadRule reads a pattern that has at least a scheme and a host.
func ReadRule(text string) (Rule, error) {
	if len(text) > 1024 {
		return Rule{}, errors.New("the pattern is longer than 1024 bytes")
	}
	if !strings.Contains(text, "://") {
		return Rule{}, fmt.Errorf("%q doesn't begin with a scheme: write https://%s", text, text)
	}
	p, err := urlpattern.New(text, "", nil)
	if err != nil {
		return Rule{}, fmt.Errorf("%q isn't a URL pattern: %v", text, err)
	}
	if s := p.Protocol(); !strings.ContainsAny(s, "*:({") && s != "http" && s != "https" {
		return Rule{}, fmt.Errorf("%q names the scheme %s, and sources come by http or https", text, s)
	}
	if p.Hostname() == "" {
		return Rule{}, fmt.Errorf("%q names no host", text)
	}
	return Rule{text, p}, nil
}

// Matches reports whether a URL, serialised as the URL standard does, matches.
func (r Rule) Matches(url string) bool { return r.pattern.Test(url, "") }

// readOrigin reads a rule for the pages that may embed: scheme, host and port alone.
func readOrigin(text string) (Rule, error) {
	r, err := ReadRule(text)
	if err != nil {
		return r, err
	}
	if _, rest, _ := strings.Cut(text, "://"); strings.ContainsAny(strings.TrimSuffix(rest, "/"), "/?#") {
		return r, fmt.Errorf("%q is more than an origin", text)
	}
	r.pattern, err = urlpattern.New(strings.TrimSuffix(text, "/")+"/*", "", nil)
	return r, err
}

// tooOpen warns of rules that open more than one owner's hosts, or an open road.
func (c *compiler) tooOpen(path string, r Rule) {
	scheme, host := r.pattern.Protocol(), r.pattern.Hostname()
	fixed := strings.TrimPrefix(strings.TrimPrefix(strings.TrimPrefix(host, "{*.}?"), "*."), "*")
	suffix, _ := publicsuffix.PublicSuffix(fixed)
	switch {
	case fixed == "" || !strings.ContainsFunc(fixed, func(r rune) bool { return r >= 'a' && r <= 'z' || r >= '0' && r <= '9' }):
		c.warn(Trouble{Path: path, Given: r.Text, Detail: "opens every host on the internet: anybody's pictures can be served in this site's name"})
	case host != fixed && fixed == suffix:
		c.warn(Trouble{Path: path, Given: r.Text, Detail: fmt.Sprintf("opens every host below %s, where anybody can register one", fixed)})
	}
	if scheme != "https" {
		c.warn(Trouble{Path: path, Given: r.Text, Detail: "plain http: whoever sits between can read and change what is sent"})
	}
}

// A Step is one rule or check on the way to a decision.
type Step struct {
	Rule    string `json:"rule"`           // what was looked at, such as "deny https://*.test/private/*"
	Verdict string `json:"verdict"`        // matched, not matched, passed, overflows, refused
	Note    string `json:"note,omitempty"` // what it means here
	Decided bool   `json:"decided"`        // whether it ended the walk
}

// WalkRules holds a URL against a web lane's rules: first every deny, then every allow; the first that
// matches decides, and without a match the answer is no. trace may be nil.
func (l *CompiledLane) WalkRules(site, url string, trace *[]Step) *Refusal {
	note := func(kind string, r Rule, matched bool) {
		if trace != nil {
			s := Step{Rule: kind + " " + r.Text, Verdict: "not matched", Decided: matched}
			if matched {
				s.Verdict = "matched"
			}
			*trace = append(*trace, s)
		}
	}
	for _, r := range l.Deny {
		hit := r.Matches(url)
		note("deny", r, hit)
		if hit {
			return Mended(site, Refusal{
				Reason: ReasonSourceDenied, Parameter: "source", Given: wording.Cut(url, 200), Detail: fmt.Sprintf("lane %s/%s denies it by the rule %s", site, l.Name, r.Text),
				Allowed: "sources that no deny rule matches", Mend: &Mend{Action: "remove-deny", Lane: l.Name, Value: r.Text},
			})
		}
	}
	for _, r := range l.Allow {
		hit := r.Matches(url)
		note("allow", r, hit)
		if hit {
			return nil
		}
	}
	if trace != nil {
		*trace = append(*trace, Step{Rule: "no rule is left", Verdict: "refused", Note: "what no allow rule matches is refused", Decided: true})
	}
	var rules []string
	for _, r := range l.Allow {
		rules = append(rules, r.Text)
	}
	return Mended(site, Refusal{
		Reason: ReasonSourceNotAllowed, Parameter: "source", Given: wording.Cut(url, 200), Detail: fmt.Sprintf("no allow rule of lane %s/%s matches it", site, l.Name),
		Allowed: strings.Join(rules, ", "), Mend: &Mend{Action: "add-allow", Lane: l.Name, Value: ProposeRule(url)},
	})
}

// ProposeRule is a pattern that allows a URL and what lies beside it.
func ProposeRule(url string) string {
	u, err := whatwg.Parse(url)
	if err != nil {
		return url
	}
	dir := u.Pathname()
	dir = dir[:strings.LastIndexByte(dir, '/')+1]
	host := patternEscape().ReplaceAllString(u.Hostname(), `\$0`)
	if u.Port() != "" {
		host += ":" + u.Port()
	}
	return u.Scheme() + "://" + host + patternEscape().ReplaceAllString(dir, `\$0`) + "*"
}

// patternEscape finds what has a meaning in a pattern.
var patternEscape = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`[*?+(){}\\:]`) })

// ReadURL reads a source's URL as the URL standard does (so that octal, hexadecimal and short forms of IPv4
// addresses, full-width letters and percent-encoded hosts come out as what they are), and refuses what isn't
// http or https, or carries credentials.
func ReadURL(text string) (*whatwg.Url, error) {
	if len(text) > 4096 {
		return nil, errors.New("the URL is longer than 4096 bytes")
	}
	if strings.ContainsAny(text, "\t\r\n") || text != strings.TrimSpace(text) {
		return nil, errors.New("the URL has white space in it")
	}
	u, err := whatwg.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%q isn't a URL", wording.Cut(text, 200))
	}
	switch {
	case u.Scheme() != "http" && u.Scheme() != "https":
		return nil, fmt.Errorf("the scheme %s isn't http or https", u.Scheme())
	case u.Username() != "" || u.Password() != "":
		return nil, errors.New("the URL carries credentials: keep them as the lane's request header instead")
	case u.Hostname() == "" || strings.Contains(u.Hostname(), "%"):
		return nil, errors.New("the URL names no host that can be reached")
	case climbs(u.Pathname()):
		return nil, errors.New("the URL's path goes up by an encoded slash: origins that decode it leave the folder that a rule allows")
	}
	return u, nil
}

// climbs reports whether a path has an element . or .. for who takes %2F and %5C for what they encode.
func climbs(path string) bool {
	if !strings.Contains(path, "%") {
		return false
	}
	plain := encodedSlash().ReplaceAllString(encodedDot().ReplaceAllString(path, "."), "/")
	for element := range strings.SplitSeq(plain, "/") {
		if element == ".." || element == "." {
			return true
		}
	}
	return false
}

// Percent-encoded twice, they are what they were once somebody has decoded them.
var (
	encodedSlash = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)%(25)*(2f|5c)`) })
	encodedDot   = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)%(25)*2e`) })
)

// notPublic are networks that the IANA special-purpose registries (RFC 6890 and its updates) keep from being
// reached across the internet, and those that embed an IPv4 address.
var notPublic = sync.OnceValue(func() (list []netip.Prefix) {
	for _, p := range strings.Fields(`
		0.0.0.0/8 10.0.0.0/8 100.64.0.0/10 127.0.0.0/8 169.254.0.0/16 172.16.0.0/12 192.0.0.0/24 192.0.2.0/24 192.31.196.0/24
		192.52.193.0/24 192.88.99.0/24 192.168.0.0/16 192.175.48.0/24 198.18.0.0/15 198.51.100.0/24 203.0.113.0/24 224.0.0.0/4 240.0.0.0/4
		::/96 ::ffff:0:0:0/96 64:ff9b::/96 64:ff9b:1::/48 100::/64 2001::/23 2001:db8::/32 2002::/16 2620:4f:8000::/48 3fff::/20 5f00::/16
		fc00::/7 fe80::/10 fec0::/10 ff00::/8`) {
		list = append(list, netip.MustParsePrefix(p))
	}
	return list
})

// MayConnect says whether a lane may talk to the address that a connection is about to be made to: public
// ones, and those in the networks that it lists. An IPv4 address in IPv6's mapped form counts as itself.
func MayConnect(a netip.Addr, private []netip.Prefix) bool {
	if a.Zone() != "" {
		return false
	}
	a = a.Unmap()
	for _, p := range private {
		if p.Contains(a) {
			return true
		}
	}
	if !a.IsGlobalUnicast() {
		return false
	}
	for _, p := range notPublic() {
		if p.Contains(a) {
			return false
		}
	}
	return true
}

// BadAddress is the refusal for an address that may not be talked to.
func BadAddress(site, lane, host string, a netip.Addr) *Refusal {
	return Mended(site, Refusal{
		Reason: ReasonAddressNotPublic, Parameter: "source", Given: host, Detail: fmt.Sprintf("%s leads to %s, which isn't an address on the public internet", host, a),
		Allowed: "public addresses, and those that the lane lists as private", Mend: &Mend{Action: "add-private", Lane: lane, Value: a.Unmap().WithZone("").String()},
	})
}

func isHost(h string) bool {
	if h == "" || len(h) > 253 || h != strings.ToLower(h) {
		return false
	}
	u, err := whatwg.Parse("https://" + h + "/")
	return err == nil && u.Hostname() == h && u.Port() == ""
}
