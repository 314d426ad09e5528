package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"echolane/core/declare"
)

// The worked examples in docs/signing.md, run as they stand, make links that the service takes.
func TestTheDocumentedWaysOfSigningWork(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	secret := strings.TrimSpace(bed.Must(t, s, "key", "add", "kestrel", "spring-2027"))
	bed.Must(t, s, "lane", "set", "kestrel/catalogue", "--visibility", "signed")
	doc, err := os.ReadFile("../../docs/signing.md")
	if err != nil {
		t.Fatal(err)
	}
	block := func(language string) string {
		m := regexp.MustCompile("(?s)```" + language + "\n(.*?)```").FindSubmatch(doc)
		if m == nil {
			t.Fatalf("docs/signing.md has no example in %s", language)
		}
		return strings.ReplaceAll(string(m[1]), "archive/1962/launch-day.jpg", "catalogue/mark.png")
	}
	names := "`" + strings.Join(declare.Names(), "`, `") + "`."
	if !strings.Contains(strings.ReplaceAll(string(doc), "\n", " "), names) {
		t.Errorf("docs/signing.md doesn't list the names in their order: %s", names)
	}
	run := func(dir, name string, args ...string) string {
		t.Helper()
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "SECRET="+secret)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	const form = "/kestrel/catalogue/mark.png?width=80&keyid=spring-2027"
	write("main.go", `package main

import ("crypto/hmac"; "crypto/sha256"; "encoding/base64"; "fmt"; "os")

`+block("go")+`
func main() {
	secret, err := base64.RawURLEncoding.DecodeString(os.Getenv("SECRET"))
	if err != nil { panic(err) }
	fmt.Println(sign(secret, "`+form+`"))
}
`)
	write("go.mod", "module example\n\ngo 1.21\n")
	write("sign.mjs", block("js")+"\nconsole.log(sign(process.env.SECRET, `${path(\"kestrel\", \"catalogue\", \"mark.png\")}?width=80&download=${text(\"kite: a/b, c.png\".replace(\"/\", \"-\"))}&keyid=spring-2027`));\n")
	for language, link := range map[string]string{
		"Go": run(dir, "go", "run", "."), "JavaScript": run(dir, "node", "sign.mjs"), "shell": run(dir, "sh", "-c", block("sh")),
	} {
		if a := s.Get(t, link); a.StatusCode != 200 {
			t.Errorf("%s: %s: %d %s", language, link, a.StatusCode, a.Data)
		}
	}
}
