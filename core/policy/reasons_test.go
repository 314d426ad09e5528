package policy

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

func TestAReasonThatIsntListedIsAFaultOfOurs(t *testing.T) {
	no := No(Refusal{Reason: "mispelt", Detail: "x"})
	if no.Title != "Something broke here" {
		t.Errorf("%+v", no)
	}
	for _, r := range Reasons {
		if no := No(Refusal{Reason: r.Reason}); no.Title != r.Title {
			t.Errorf("%s: %+v", r.Reason, no)
		}
	}
	text, err := json.Marshal(No(Refusal{Reason: ReasonBusy}))
	if err != nil || !strings.Contains(string(text), `"reason":"busy"`) {
		t.Errorf("%s %v", text, err)
	}
}

// Reasons are named by their constants, so that a misspelt one doesn't compile.
func TestNoReasonIsSpeltOutInTheCode(t *testing.T) {
	for _, root := range []string{"..", "../../service", "../../cmd"} {
		err := filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				kv, ok := n.(*ast.KeyValueExpr)
				if !ok {
					return true
				}
				key, ok := kv.Key.(*ast.Ident)
				if lit, isText := kv.Value.(*ast.BasicLit); ok && isText && key.Name == "Reason" && lit.Kind == token.STRING {
					for _, r := range Reasons {
						if lit.Value == `"`+string(r.Reason)+`"` && !strings.Contains(path, "declare") && !strings.Contains(path, "sheet") {
							t.Errorf("%s spells %s", path, lit.Value)
						}
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}
