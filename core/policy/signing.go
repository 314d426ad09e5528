package policy

import (
	"crypto/hmac"
	"crypto/sha256"
	"echolane/core/wording"
	"encoding/base64"
	"fmt"
	"time"
)

// Sign is the signature of a request's address form: HMAC-SHA-256 (RFC 2104) in base64url without padding
// (RFC 4648, section 5), 43 characters. The address form holds keyid, and expires where the link ends, but no
// signature.
func Sign(secret []byte, addressForm string) string {
	m := hmac.New(sha256.New, secret)
	m.Write([]byte(addressForm))
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil))
}

// checkSignature says whether a request that carries a signature is what its key's owner made. text is its
// address form without the signature; now is in seconds since 1970.
func (s *Site) checkSignature(r *Ask, trace *[]Step) *Refusal {
	d := &r.Declared
	if d.KeyID == "" {
		refused(trace, "keyid", "the signature doesn't say which key made it")
		return No(Refusal{Reason: ReasonSignatureWrong, Parameter: "keyid", Detail: "the signature doesn't say which key made it", Allowed: "keyid=NAME in what is signed", Remedy: "sign the link anew: echolane link … --sign KEY"})
	}
	secret, ok := s.Keys[d.KeyID]
	if !ok {
		refused(trace, "keyid "+d.KeyID, "the site has no such key")
		return No(Refusal{Reason: ReasonKeyUnknown, Parameter: "keyid", Given: d.KeyID, Detail: fmt.Sprintf("site %s has no key %s, or no longer", s.Name, d.KeyID),
			Remedy: "sign the link anew with a key that is there: echolane key list " + s.Name})
	}
	form := r.Form()
	if !hmac.Equal([]byte(Sign(secret, form)), []byte(d.Signature)) {
		refused(trace, "signature", "it isn't this key's for "+form)
		return No(Refusal{Reason: ReasonSignatureWrong, Parameter: "signature", Given: d.Signature, Detail: "the signature isn't the key's for this address form: " + wording.Cut(form, 200),
			Remedy: "sign exactly this address form, or let the service do it: echolane link … --sign " + d.KeyID})
	}
	note(trace, "signature", "passed", "made with key "+d.KeyID)
	return nil
}

func (s *Site) checkExpiry(r *Ask, trace *[]Step) *Refusal {
	if r.Declared.Expires == 0 {
		return nil
	}
	end := time.Unix(r.Declared.Expires, 0).UTC().Format(time.RFC3339)
	if r.Now < r.Declared.Expires {
		note(trace, "expires", "passed", "until "+end)
		return nil
	}
	refused(trace, "expires", "the link ended at "+end)
	return No(Refusal{Reason: ReasonLinkExpired, Parameter: "expires", Given: end, Detail: "the link ended at " + end, Remedy: "ask whoever gave you the link for a new one"})
}
