package delivery

import "testing"

func TestFirstAnswersAreTold(t *testing.T) {
	for field, want := range map[string]bool{
		"public, max-age=5": true, "private, max-age=3": true, "public, max-age=10": false, "public, max-age=0": false, "no-store": false, "": false,
		"public, max-age=5, stale-while-revalidate=86400": false, "public, max-age=31536000, immutable": false,
	} {
		if IsFirst(field) != want {
			t.Errorf("%q is told as a first answer: %t", field, !want)
		}
	}
	if c := (control{maxAge: 3600}); !IsFirst(c.text(true, false, 0)) || IsFirst(c.text(false, false, 0)) {
		t.Errorf("%q and %q aren't told apart", c.text(true, false, 0), c.text(false, false, 0))
	}
}
