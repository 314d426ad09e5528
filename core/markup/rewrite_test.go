package markup

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/net/html"
)

// toLane gives every image whose src ends in .jpg another address.
func toLane(i *Image) *Change {
	name := "src"
	if i.Tag == "source" {
		name = "srcset"
	}
	src, _ := i.Attr(name)
	if !strings.HasSuffix(src, ".jpg") {
		return nil
	}
	return &Change{Set: []Attribute{{name, "/lane/" + src + "?width=2&x=1"}, {"loading", "lazy"}}, Drop: []string{"data-src"}}
}

func TestOnlyImagesChange(t *testing.T) {
	for _, c := range []struct{ page, want string }{
		{`<p>no pictures &amp; <b>broken</i> nesting`, ``},
		{`<img src="a.jpg">`, `<img src="/lane/a.jpg?width=2&amp;x=1" loading="lazy" data-was="&lt;img src=&quot;a.jpg&quot;&gt;">`},
		{`<IMG SRC=a.jpg>`, `<IMG src="/lane/a.jpg?width=2&amp;x=1" loading="lazy" data-was="&lt;IMG SRC=a.jpg&gt;">`},
		{`<img alt='it&#39;s' src='a.jpg' />`, `<img alt='it&#39;s' src="/lane/a.jpg?width=2&amp;x=1" loading="lazy" data-was="&lt;img alt='it&amp;#39;s' src='a.jpg' /&gt;" />`},
		{"<img\n  class=x\n  src=\"a.jpg\"\n  data-src=b.jpg\n  hidden\n>", "<img\n  class=x\n  src=\"/lane/a.jpg?width=2&amp;x=1\"\n  hidden loading=\"lazy\" data-was=\"&lt;img\n  class=x\n  src=&quot;a.jpg&quot;\n  data-src=b.jpg\n  hidden\n&gt;\"\n>"},
		{`<img src="a.jpg" loading="eager" src="b.jpg">`, `<img src="/lane/a.jpg?width=2&amp;x=1" loading="lazy" data-was="&lt;img src=&quot;a.jpg&quot; loading=&quot;eager&quot; src=&quot;b.jpg&quot;&gt;">`},
		{`<img src="a.png"><img><img src=data:image/gif;base64,R0>`, ``},
		{`<!-- <img src="a.jpg"> --><script>var x = '<img src="a.jpg">'</script><style>/* <img src=a.jpg> */</style><textarea><img src="a.jpg"></textarea><title><img src="a.jpg"></title>`, ``},
		{`<noscript><img src="a.jpg"></noscript>`, `<noscript><img src="/lane/a.jpg?width=2&amp;x=1" loading="lazy" data-was="&lt;img src=&quot;a.jpg&quot;&gt;"></noscript>`},
		{`<svg><image href="a.jpg"/></svg><image src=a.jpg><imgx src="a.jpg"><video><source srcset="a.jpg"></video>`, ``},
		{`<picture><source srcset="a.jpg"><img src=b.png></picture><source srcset="a.jpg">`, `<picture><source srcset="/lane/a.jpg?width=2&amp;x=1" loading="lazy" data-was="&lt;source srcset=&quot;a.jpg&quot;&gt;"><img src=b.png></picture><source srcset="a.jpg">`},
		{`<template><img src="{{ picture }}"><img src="a.jpg"></template>`, `<template><img src="{{ picture }}"><img src="/lane/a.jpg?width=2&amp;x=1" loading="lazy" data-was="&lt;img src=&quot;a.jpg&quot;&gt;"></template>`},
		{`<img src="a.jpg"`, ``},
		{`<img src="a.jpg`, ``},
		{`<img src=a.jpg/>`, ``},
		{"\xff\xfe<img src=\"a.jpg\">\x00\r\n", "\xff\xfe" + `<img src="/lane/a.jpg?width=2&amp;x=1" loading="lazy" data-was="&lt;img src=&quot;a.jpg&quot;&gt;">` + "\x00\r\n"},
		{`<![CDATA[<img src="a.jpg">]]><?php echo '<img src="b.png">' ?>`, ``},
	} {
		want := c.want
		if want == "" {
			want = c.page
		}
		got := Rewrite([]byte(c.page), toLane)
		if string(got) != want {
			t.Errorf("%q became\n%s\nwant\n%s", c.page, got, want)
		}
		if again := Rewrite(got, toLane); string(again) != string(got) {
			t.Errorf("%q: a second rewriting gives\n%s", c.page, again)
		}
		if back := Restore(got); string(back) != c.page {
			t.Errorf("%q came back as\n%s", c.page, back)
		}
	}
}

func TestRealShapesOfPagesComeBackWhole(t *testing.T) {
	files, err := filepath.Glob("testdata/pages/*")
	if err != nil || len(files) < 10 {
		t.Fatalf("%d pages, %v", len(files), err)
	}
	for _, f := range files {
		page, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		changed := 0
		out := Rewrite(page, func(i *Image) *Change {
			c := toLane(i)
			if c != nil {
				changed++
			}
			return c
		})
		if changed < 2 {
			t.Errorf("%s: %d images changed", f, changed)
		}
		if !bytes.Equal(Restore(out), page) {
			t.Errorf("%s doesn't come back", f)
		}
		if !bytes.Equal(Rewrite(out, toLane), out) {
			t.Errorf("%s: a second rewriting differs", f)
		}
		// What isn't an image's tag is the same, byte by byte.
		if a, b := withoutImages(t, page), withoutImages(t, out); a != b {
			t.Errorf("%s changed outside its images", f)
		}
	}
}

func withoutImages(t *testing.T, page []byte) string {
	t.Helper()
	out := string(Restore(page))
	Rewrite(page, func(i *Image) *Change {
		tag := out[i.Offset:]
		if !strings.HasPrefix(strings.ToLower(tag), "<"+i.Tag) {
			t.Errorf("no %s at %d", i.Tag, i.Offset)
		}
		return nil
	})
	return out
}

func TestOffsetsAreThoseOfThePageBefore(t *testing.T) {
	page := `<p><img src="a.jpg"><img src="b.jpg"><noscript><img src="c.jpg"></noscript><img src="d.jpg">`
	offsets := func(p []byte) (list string) {
		Rewrite(p, func(i *Image) *Change { list += fmt.Sprint(i.Offset, i.First, " "); return nil })
		return list
	}
	want := fmt.Sprint(3, true, " ", 20, false, " ", 47, false, " ", 75, false, " ")
	if got := offsets([]byte(page)); got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if got := offsets(Rewrite([]byte(page), toLane)); got != want {
		t.Errorf("of a rewritten page: %s, want %s", got, want)
	}
}

// tags are a page's images by another tokenizer, that of golang.org/x/net/html.
func tags(page []byte) (list []string) {
	z := html.NewTokenizer(bytes.NewReader(page))
	z.AllowCDATA(true)
	noscript := false
	for {
		switch kind := z.Next(); kind {
		case html.ErrorToken:
			return list
		case html.TextToken:
			if noscript {
				list = append(list, tags(bytes.Clone(z.Raw()))...)
			}
		case html.StartTagToken, html.SelfClosingTagToken:
			raw := string(z.Raw())
			name, _ := z.TagName()
			if string(name) == "img" {
				list = append(list, raw)
			}
			noscript = string(name) == "noscript"
		default:
			noscript = false
		}
	}
}

func TestTheSameImagesAsAnotherTokenizerFinds(t *testing.T) {
	files, _ := filepath.Glob("testdata/pages/*")
	for _, f := range files {
		page, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		compare(t, page)
	}
	for _, s := range []string{
		`<script><!-- <script> </script> <img src=1> --></script><img src=2>`, `<script><!-- </script><img src=1> --></script><img src=2>`,
		`<!--><img src=1>--><img src=2>`, `<!-- --!><img src=1>`, `<a b="<img src=1>"><img src=2>`, `<a b=c"><img src=2>`, `<a "><img src=1>`,
		`</a b="<img src=1>"><img src=2>`, `</ <img src=1>><img src=2>`, `<style><img src=1></styles></style><img src=2>`, `<title></TITLE ><img src=1>`,
		`<img a = 'x>y' src=3><plaintext><img src=4>`, `<xmp><img src=1></xmp><img src=2>`, `<1><img src=2>`, `<script/><img src=1></script><img src=2>`,
	} {
		compare(t, []byte(s))
	}
}

func compare(t *testing.T, page []byte) {
	t.Helper()
	var ours []string
	Rewrite(page, func(i *Image) *Change {
		if i.Tag == "img" {
			end, _ := tagEnd(page, i.Offset)
			ours = append(ours, string(page[i.Offset:end]))
		}
		return nil
	})
	if theirs := tags(page); fmt.Sprintf("%q", ours) != fmt.Sprintf("%q", theirs) {
		t.Errorf("in %.200q:\nours   %q\ntheirs %q", page, ours, theirs)
	}
}

func FuzzRewrite(f *testing.F) {
	for _, s := range []string{`<img src="a.jpg" data-was="<img>">`, `<img src=a.jpg/ >`, `<noscript><picture><source srcset=a.jpg><img src='b.jpg'`, `<img a="&lt;" src=a.jpg data-was="&lt;img src=&quot;c.jpg&quot;&gt;">`, "<img/src/=/a.jpg/>"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, page []byte) {
		if bytes.Contains(bytes.ToLower(page), []byte(Was)) {
			Rewrite(Rewrite(page, toLane), toLane)
			return
		}
		out := Rewrite(page, toLane)
		if back := Restore(out); !bytes.Equal(back, page) {
			t.Errorf("%q became %q, and came back as %q", page, out, back)
		}
	})
}

func BenchmarkRewrite(b *testing.B) {
	page := bytes.Repeat([]byte(`<figure class="card"><a href="/kites/delta"><img class="card__picture" src="pictures/delta.jpg" alt="A kite" width="350"></a><figcaption>The small delta, three metres of ripstop and a tail, sewn in our workshop by the harbour; flies from nine knots.</figcaption></figure>`+"\n"), 4000)
	b.SetBytes(int64(len(page)))
	for b.Loop() {
		Rewrite(page, toLane)
	}
}
