package lane

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/service/source"
)

// What is made from the kinds leans on what they say.
func TestTheKindsDescribeThemselvesWhole(t *testing.T) {
	field, _ := reflect.TypeFor[policy.Lane]().FieldByName("Kind")
	if got, want := field.Tag.Get("comment"), strings.Join(Described.Names(), ", "); got != want {
		t.Errorf("site files say %q of the kind, there are %q", got, want)
	}
	for _, k := range Described {
		if k.Name == "" || len(k.Told) == 0 || (len(k.Fields) == 0 || len(k.Where) == 0) && k.Option == "" { // colours lie nowhere
			t.Errorf("%+v", k)
		}
		for _, f := range k.Fields {
			var l policy.Lane
			if f.IsList() {
				l.SetField(f.Name, "", []string{"x"})
			} else {
				l.SetField(f.Name, "x", nil)
			}
			if !l.Has(f.Name) {
				t.Errorf("%s: lanes have no field %q", k.Name, f.Name)
			}
			if f.Label == "" || f.Usage == "" {
				t.Errorf("%s: nobody can be asked for %q", k.Name, f.Name)
			}
		}
		named := []string{k.URLWithout, k.Secrets.Unless}
		for _, group := range k.Where {
			named = append(named, group...)
		}
		for _, name := range k.Told {
			if name != k.Option {
				named = append(named, name)
			}
		}
		for _, name := range named {
			if name != "" && k.Field(name) == nil {
				t.Errorf("%s leans on a field %q that it hasn't", k.Name, name)
			}
		}
		if Kinds.Of(k.Name).Describe().Name != k.Name {
			t.Errorf("%s isn't found", k.Name)
		}
	}
	if Kinds.Of("cloud") != nil || Described.Of("cloud") != nil {
		t.Error("a kind that isn't there is found")
	}
}

func lanes(t *testing.T, l policy.Lane) (*policy.SiteSettings, error) {
	t.Helper()
	d := policy.NewDocument("kestrel")
	l.Name = "l"
	d.Lanes = []policy.Lane{l}
	d.Complete(Described)
	s, _, err := policy.Compile(d, Described)
	return &policy.SiteSettings{Site: s, Document: d}, err
}

func TestEachKindHasItsFields(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct {
		lane policy.Lane
		at   string // of the trouble; "": none
	}{
		{policy.Lane{Folder: dir}, ""},
		{policy.Lane{Kind: "folder", Folder: dir}, ""},
		{policy.Lane{Kind: "folder"}, "folder"},
		{policy.Lane{Kind: "folder", Folder: "here"}, "folder"},
		{policy.Lane{Kind: "folder", Folder: dir, Bucket: "kites"}, "bucket"},
		{policy.Lane{Kind: "folder", Folder: dir, Allow: []string{"https://a.test/*"}}, "allow"},
		{policy.Lane{Kind: "folder", Folder: dir, Unshared: "keep"}, ""},
		{policy.Lane{Kind: "web", Allow: []string{"https://a.test/*"}}, ""},
		{policy.Lane{Kind: "web", Allow: []string{"https://a.test/*"}, Base: "https://a.test/b/", Private: []string{"10.0.0.0/8"}}, ""},
		{policy.Lane{Kind: "web"}, "allow"},
		{policy.Lane{Kind: "web", Allow: []string{"https://a.test/*"}, Folder: dir}, "folder"},
		{policy.Lane{Kind: "bucket", Bucket: "kites", Endpoint: "https://store.test", Region: "north", Prefix: "a"}, ""},
		{policy.Lane{Kind: "bucket", Endpoint: "https://store.test"}, "bucket"},
		{policy.Lane{Kind: "bucket", Bucket: "kites", Base: "https://a.test/"}, "base"},
		{policy.Lane{Kind: "upload", Folder: dir}, ""},
		{policy.Lane{Kind: "upload", Bucket: "kites"}, ""},
		{policy.Lane{Kind: "upload"}, "folder"},
		{policy.Lane{Kind: "upload", Folder: dir, Bucket: "kites"}, "folder"},
		{policy.Lane{Kind: "blank"}, ""},
		{policy.Lane{Kind: "blank", Folder: dir}, "folder"},
		{policy.Lane{Kind: "cloud"}, "kind"},
	} {
		_, err := lanes(t, c.lane)
		var ts policy.Troubles
		switch {
		case c.at == "" && err != nil:
			t.Errorf("%+v: %v", c.lane, err)
		case c.at != "" && (!errors.As(err, &ts) || !slices.ContainsFunc(ts, func(x policy.Trouble) bool { return x.Path == "lanes[0]."+c.at })):
			t.Errorf("%+v: %v, want trouble at %s", c.lane, err, c.at)
		}
	}
}

func TestEachKindOpens(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct {
		lane  policy.Lane
		near  bool
		takes bool
		put   bool
	}{
		{policy.Lane{Kind: "folder", Folder: dir}, true, false, false},
		{policy.Lane{Kind: "web", Allow: []string{"https://a.test/*"}}, false, true, false},
		{policy.Lane{Kind: "bucket", Bucket: "kites", Endpoint: "https://store.test"}, false, false, false},
		{policy.Lane{Kind: "upload", Folder: dir}, false, false, true},
		{policy.Lane{Kind: "blank"}, true, false, false},
	} {
		site, err := lanes(t, c.lane)
		if err != nil {
			t.Fatal(err)
		}
		ls := &source.Lanes{Kinds: Kinds, Keep: source.NewKeep(nil, 0), CDN: func() string { return "" }}
		l, err := ls.Of(site, site.Lanes[0])
		if err != nil {
			t.Fatal(err)
		}
		again, err := ls.Of(site, site.Lanes[0])
		if err != nil || again != l {
			t.Errorf("%s: a lane that stays the same is opened twice", c.lane.Kind)
		}
		if _, no := l.Check("a/../b.png", nil); no == nil {
			t.Errorf("%s: a path that isn't plain passes", c.lane.Kind)
		}
		_, put := l.(source.Receiver)
		if l.Near() != c.near || site.Lanes[0].TakesURL != c.takes || put != c.put {
			t.Errorf("%s: near %t, takes URLs %t, is put into %t", c.lane.Kind, l.Near(), site.Lanes[0].TakesURL, put)
		}
		ls.Close()
	}
	folder := Kinds.Of("folder")
	if folder.Ready(&policy.Lane{Folder: dir}) != nil || folder.Ready(&policy.Lane{Folder: dir + "/none"}) == nil {
		t.Error("a folder lane is ready where its folder is there")
	}
}

// A lane is opened anew when what it is opened with has changed, and only then.
func TestALaneIsOpenedAnewWithOtherSettings(t *testing.T) {
	ls := &source.Lanes{Kinds: Kinds, Keep: source.NewKeep(nil, 0), CDN: func() string { return "" }}
	t.Cleanup(ls.Close)
	of := func(change func(*policy.SiteSettings)) source.Lane {
		t.Helper()
		site, err := lanes(t, policy.Lane{Kind: "bucket", Bucket: "kites", Endpoint: "https://store.test"})
		if err != nil {
			t.Fatal(err)
		}
		site.Secrets = map[string]string{policy.CredentialsSecret("l"): fmt.Sprintf(`{"access_key":%q}`, "A"), policy.CredentialsSecret("other"): "x"}
		if change != nil {
			change(site)
		}
		l, err := ls.Of(site, site.Lanes[0])
		if err != nil {
			t.Fatal(err)
		}
		return l
	}
	first := of(nil)
	if of(nil) != first {
		t.Error("equal settings open it anew")
	}
	if of(func(s *policy.SiteSettings) { s.Secrets[policy.CredentialsSecret("other")] = "y" }) != first {
		t.Error("another lane's secret opens it anew")
	}
	if of(func(s *policy.SiteSettings) { s.Lanes[0].Fresh = time.Hour; *s.Lanes[0].FreshS = 3600 }) == first {
		t.Error("another freshness lifetime doesn't open it anew")
	}
	if of(func(s *policy.SiteSettings) { s.Secrets[policy.CredentialsSecret("l")] = `{"access_key":"B"}` }) == first {
		t.Error("other credentials don't open it anew")
	}
	site, _ := lanes(t, policy.Lane{Kind: "bucket", Bucket: "kites"})
	site.Broken = []string{policy.CredentialsSecret("l")}
	var no *policy.Refusal
	if _, err := ls.Of(site, site.Lanes[0]); !errors.As(err, &no) || no.Reason != policy.ReasonSecretMissing {
		t.Errorf("a secret that can't be opened: %v", err)
	}
}
