package policy

import "testing"

func TestNoURLClimbsOutOfWhatARuleAllows(t *testing.T) {
	r, err := ReadRule("https://example.test/pics/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{"pics/..%2fprivate", "pics/..%2Fprivate", "pics/..%5cprivate", "pics/a/..%5C..%5Cprivate", "pics/%2e%2e%2fprivate", "pics/.%2e%2fprivate", "pics/%252e%252e%252fprivate", "pics/..%252fprivate", "pics/%2e%2e/private", "pics/a%2f.%2fb"} {
		u, err := ReadURL("https://example.test/" + path)
		if err == nil && r.Matches(u.Href(true)) {
			t.Errorf("%s matches as %s", path, u.Href(true))
		}
	}
	for _, path := range []string{"pics/a%2fb.jpg", "pics/..hidden", "pics/a..b%2f", "pics/100%25.jpg", "pics/kite%20.jpg"} {
		if u, err := ReadURL("https://example.test/" + path); err != nil || !r.Matches(u.Href(true)) {
			t.Errorf("%s: %v", path, err)
		}
	}
}
