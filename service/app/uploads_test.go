package app

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io/fs"
	"mime/multipart"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"echolane/service/source/held"
)

// A form with many files puts them all in, each below the folder by its part's name; one that isn't taken costs none of the others.
func TestAFormPutsManySourcesIn(t *testing.T) {
	r := start(t, nil, nil)
	type result struct {
		Items []struct {
			File, Problem, Detail string
			Kept                  *struct {
				URL     string
				Version int
			}
		}
	}
	post := func(path string, files map[string][]byte, cut int) (int, result) {
		t.Helper()
		var b bytes.Buffer
		w := multipart.NewWriter(&b)
		w.WriteField("note", "not a file")
		for _, name := range []string{"a.png", "deep/b.png", "words.txt", "../up.png", "a.png"} {
			if data, ok := files[name]; ok {
				part, _ := w.CreateFormFile("file", name)
				part.Write(data)
			}
		}
		w.Close()
		a := r.do("POST", "/-/api/v1/sites/kestrel/lanes/incoming/uploads?path="+path, bytes.NewReader(b.Bytes()[:b.Len()-cut]), "Authorization", "Bearer "+token, "Content-Type", w.FormDataContentType())
		var out result
		if err := json.Unmarshal(a.body, &out); err != nil {
			t.Fatalf("%d %s", a.StatusCode, a.body)
		}
		return a.StatusCode, out
	}
	files := map[string][]byte{"a.png": picture(t, 60, 40), "deep/b.png": picture(t, 50, 40), "words.txt": []byte("no picture"), "../up.png": picture(t, 40, 40)}
	code, out := post("2026/", files, 0)
	if code != 200 || len(out.Items) != 5 {
		t.Fatalf("%d %+v", code, out)
	}
	for i, want := range []string{"/kestrel/incoming/2026/a.png 1", "/kestrel/incoming/2026/deep/b.png 1", "not-an-image", "bad-path", "/kestrel/incoming/2026/a.png 1"} {
		got := out.Items[i].Problem
		if k := out.Items[i].Kept; k != nil {
			got = fmt.Sprint(k.URL, " ", k.Version)
			if a := r.get(k.URL + "?width=20"); a.StatusCode != 200 {
				t.Errorf("%s: %d %s", k.URL, a.StatusCode, a.body)
			}
		}
		if got != want {
			t.Errorf("file %d: %s (%s), want %s", i, got, out.Items[i].Detail, want)
		}
	}
	if code, out = post("", map[string][]byte{"a.png": files["a.png"]}, 0); code != 200 || len(out.Items) != 2 || out.Items[0].Kept == nil || out.Items[0].Kept.URL != "/kestrel/incoming/a.png" {
		t.Errorf("into the lane itself: %d %+v", code, out)
	}
	// A form that breaks off says what it has done.
	if code, out = post("broken", map[string][]byte{"a.png": files["a.png"], "deep/b.png": files["deep/b.png"]}, 80); code != 200 || len(out.Items) < 2 || out.Items[0].Kept == nil || out.Items[len(out.Items)-1].Problem != "bad-request" {
		t.Errorf("a form that breaks off: %d %+v", code, out)
	}
	if code, _ = post("2026", nil, 0); code != 400 {
		t.Errorf("a form without files: %d", code)
	}
	for _, lane := range []string{"f", "none"} {
		if a := r.do("POST", "/-/api/v1/sites/kestrel/lanes/"+lane+"/uploads", bytes.NewReader(nil), "Authorization", "Bearer "+token, "Content-Type", "multipart/form-data; boundary=x"); a.StatusCode != 400 && a.StatusCode != 404 {
			t.Errorf("lane %s: %d %s", lane, a.StatusCode, a.body)
		}
	}
}

// earlierDigest is a source's digest as it was worked out before digests were BLAKE3's.
func earlierDigest(data []byte) string {
	sum := sha256.Sum256(data)
	return base64.RawURLEncoding.EncodeToString(sum[:16])
}

// What was put in under a digest of the earlier kind goes on under it.
func TestUploadsOfBeforeKeepTheirDigests(t *testing.T) {
	r := start(t, nil, nil)
	data := picture(t, 60, 40)
	put := func() (version int) {
		t.Helper()
		a := r.do("POST", "/-/api/v1/sites/kestrel/lanes/incoming/sources?path=kite.png", bytes.NewReader(data), "Authorization", "Bearer "+token)
		var out struct{ Version int }
		if err := json.Unmarshal(a.body, &out); err != nil || a.StatusCode/100 != 2 {
			t.Fatalf("%d %s", a.StatusCode, a.body)
		}
		return out.Version
	}
	if n := put(); n != 1 {
		t.Fatalf("version %d", n)
	}
	// The store as an earlier Echo Lane has left it.
	today, earlier := string(held.DigestOf(data)), earlierDigest(data)
	renamed, written := 0, 0
	bytesAt := ""
	err := filepath.WalkDir(filepath.Join(r.dir, "uploads"), func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if e.Name() == today {
			renamed++
			bytesAt = filepath.Join(filepath.Dir(path), earlier)
			return os.Rename(path, bytesAt)
		}
		if bytes.Contains(text, []byte(today)) {
			written++
			return os.WriteFile(path, bytes.ReplaceAll(text, []byte(today), []byte(earlier)), 0o600)
		}
		return nil
	})
	if err != nil || renamed != 1 || written != 2 {
		t.Fatalf("%d files renamed, %d written, %v", renamed, written, err)
	}
	const address = "/kestrel/incoming/kite.png?width=30"
	for _, pin := range []string{"", "&digest=" + earlier, "&digest=" + today} {
		a := r.get(address + pin)
		if a.StatusCode != 200 || strings.Contains(a.Header.Get("Cache-Control"), "immutable") != (pin != "") {
			t.Errorf("%s: %s %s", pin, a.reason(), a.Header)
		}
	}
	for _, other := range []int{22, 24} {
		if a := r.get(address + "&digest=" + strings.Repeat("x", other)); a.reason() != "404 no-such-version" {
			t.Errorf("another digest of %d characters: %s", other, a.reason())
		}
	}
	if n := put(); n != 1 {
		t.Errorf("the same bytes again made version %d", n)
	}
	original := "/-/api/v1/sites/kestrel/lanes/incoming/original?path=kite.png&version=1"
	if a := r.get(original, "Authorization", "Bearer "+token); a.StatusCode != 200 || !bytes.Equal(a.body, data) {
		t.Errorf("the version's bytes: %d", a.StatusCode)
	}
	// They are held to it, too.
	if err := os.WriteFile(bytesAt, picture(t, 61, 40), 0o600); err != nil {
		t.Fatal(err)
	}
	if a := r.get(original, "Authorization", "Bearer "+token); a.StatusCode == 200 {
		t.Error("other bytes than were put in are given out")
	}
}
