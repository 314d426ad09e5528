package sitefile

import (
	"bytes"
	"errors"
	"reflect"
	"strings"
	"testing"

	"echolane/core/policy"
	"echolane/service/lane"
)

func full() policy.Document {
	d := policy.NewDocument("kestrel")
	d.Hosts = []string{"img.kestrel.test"}
	d.Shapes = []string{"1", "3/2"}
	d.Ladder = policy.Ladder{Rungs: []int{320, 640}, Other: "round-up"}
	d.Limits.RequestsPerSecond = 12.5
	d.Pages = policy.Pages{Allow: []string{"https://*.kestrel.test"}, Silent: "refuse"}
	d.Lanes = []policy.Lane{
		{Name: "catalogue", Kind: "folder", Folder: "/srv/kestrel's \"best\""},
		{Name: "press", Kind: "web", Allow: []string{"https://photos.kestrel.test/*"}, Deny: []string{"https://photos.kestrel.test/private/*"}, Private: []string{"127.0.0.1"}},
	}
	d.Complete(lane.Described)
	return d
}

func TestWhatIsWrittenReadsBackAndWritesTheSameBytes(t *testing.T) {
	for _, d := range []policy.Document{policy.NewDocument("new"), full()} {
		first, err := Write(d)
		if err != nil {
			t.Fatal(err)
		}
		again, _, err := Read(first)
		if err != nil {
			t.Fatalf("%v\n%s", err, first)
		}
		if !reflect.DeepEqual(again, d) {
			t.Errorf("reads back as %+v, want %+v", again, d)
		}
		second, err := Write(again)
		if err != nil || !bytes.Equal(first, second) {
			t.Errorf("written again it differs:\n%s\n%s", first, second)
		}
	}
}

func TestProblemsHaveTheirPlaceAndTheNearestKey(t *testing.T) {
	for _, c := range []struct {
		name, file, key string
		line, column    int
		nearest         string
	}{
		{"a misspelt key", "site = 'k'\nformts = ['webp']\n", "formts", 2, 1, "formats"},
		{"a misspelt key in a table", "site = 'k'\n[limits]\nwidht = 3\n", "limits.widht", 3, 1, "width"},
		{"a misspelt key of a lane", "site = 'k'\n[[lanes]]\nname = 'a'\nfoldr = '/x'\n", "lanes.foldr", 4, 1, "folder"},
		{"a wrong type", "site = 'k'\n[limits]\nwidth = 'wide'\n", "limits.width", 3, 9, ""},
		{"broken TOML", "site = 'k'\nformats = [\n", "", 2, 12, ""},
		{"a wrong word", "site = 'k'\ngrow = 'clases'\n", "grow", 2, 1, "classes"},
		{"an impossible combination", "site = 'k'\n[signing]\nunsigned = 'ladder'\n", "signing.unsigned", 3, 1, ""},
		{"one element of a list", "site = 'k'\n[ladder]\nrungs = [320, 160]\n", "ladder.rungs[1]", 3, 15, ""},
		{"the second lane's rule", "site = 'k'\n[[lanes]]\nname='a'\nfolder='/a'\n[[lanes]]\nname='b'\nkind='web'\nallow=['ftp://x.test/*']\n", "lanes[1].allow[0]", 8, 8, ""},
		{"what is missing is said at its table", "site = 'k'\n[[lanes]]\nname='b'\nkind='web'\n", "lanes[0].allow", 2, 3, ""},
		{"a folder lane with rules", "site = 'k'\n[[lanes]]\nname='b'\nfolder='/b'\nallow=['https://x.test/*']\n", "lanes[0].allow", 5, 1, ""},
	} {
		_, _, err := Read([]byte(c.file))
		var ps Problems
		if !errors.As(err, &ps) {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		p := ps[0]
		if p.Line != c.line || p.Column != c.column || p.Key != c.key || p.Nearest != c.nearest {
			t.Errorf("%s: %+v, want %s at %d:%d, nearest %q", c.name, p, c.key, c.line, c.column, c.nearest)
		}
	}
}

func TestAllProblemsAreSaid(t *testing.T) {
	_, _, err := Read([]byte("site = 'K'\ngrow = 'x'\nformats = ['bmp', 'webp']\n"))
	var ps Problems
	if errors.As(err, &ps); len(ps) != 3 || ps[0].Line != 1 || ps[2].Line != 3 || strings.Count(err.Error(), "\n") != 2 {
		t.Errorf("%v", err)
	}
}

func FuzzRead(f *testing.F) {
	whole, err := Write(full())
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole)
	f.Add([]byte("[[lanes]]\nname = [1, {a = 2}]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, _, err := Read(data)
		if err != nil {
			return
		}
		first, err := Write(d)
		if err != nil {
			t.Fatal(err)
		}
		again, _, err := Read(first)
		if err != nil || !reflect.DeepEqual(again, d) {
			t.Fatalf("%v\n%s", err, first)
		}
	})
}
