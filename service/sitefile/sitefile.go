// Package sitefile writes a site's document as one reviewable TOML file, and reads it back. What is written
// reads back as the same document, and that writes the same bytes.
package sitefile

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"sort"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/lane"
)

// A Problem is something wrong with a file, and where.
type Problem struct {
	Line, Column int // from 1; 0 where the file as a whole is meant
	Key          string
	Detail       string
	Allowed      string
	Nearest      string
}

func (p Problem) String() string {
	s := fmt.Sprintf("line %d, column %d: ", p.Line, p.Column)
	if p.Key != "" {
		s += p.Key + ": "
	}
	s += p.Detail
	if p.Nearest != "" {
		s += "; did you mean " + p.Nearest + "?"
	} else if p.Allowed != "" {
		s += "; allowed: " + p.Allowed
	}
	return s
}

// Problems is the error that Read gives, in the order of the file.
type Problems []Problem

func (ps Problems) Error() string { return wording.Join(ps, "\n") }

const head = "# A site of Echo Lane. Change it and run: echolane apply FILE\n# Credentials, request headers and signing keys are kept apart and never written here.\n\n"

// Write gives the document as TOML.
func Write(d policy.Document) ([]byte, error) {
	d.Complete(lane.Described)
	var b bytes.Buffer
	b.WriteString(head)
	e := toml.NewEncoder(&b)
	e.SetIndentTables(false)
	if err := e.Encode(d); err != nil {
		return nil, fmt.Errorf("write site %s as TOML: %w", d.Site, err)
	}
	return b.Bytes(), nil
}

// Read reads a document and checks it. What the file leaves out is as for a new site. The error is Problems;
// the warnings come with or without one.
func Read(data []byte) (policy.Document, []policy.Trouble, error) {
	d := policy.NewDocument("")
	decoder := toml.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&d); err != nil {
		return d, nil, parseProblems(err)
	}
	d.Complete(lane.Described)
	_, warnings, err := policy.Compile(d, lane.Described)
	var troubles policy.Troubles
	if errors.As(err, &troubles) {
		at := positions(data)
		var ps Problems
		for _, t := range troubles {
			line, column := at.of(t.Path)
			ps = append(ps, Problem{line, column, t.Path, t.Detail, t.Allowed, t.Nearest})
		}
		sort.SliceStable(ps, func(i, j int) bool {
			return ps[i].Line < ps[j].Line || ps[i].Line == ps[j].Line && ps[i].Column < ps[j].Column
		})
		return d, warnings, ps
	}
	return d, warnings, nil
}

func parseProblems(err error) Problems {
	var strict *toml.StrictMissingError
	if errors.As(err, &strict) {
		var ps Problems
		for _, e := range strict.Errors {
			line, column := e.Position()
			key := e.Key()
			names := keysBelow(key[:len(key)-1])
			ps = append(ps, Problem{line, column, strings.Join(key, "."), fmt.Sprintf("there is no setting %q here", key[len(key)-1]), strings.Join(names, ", "), wording.Nearest(key[len(key)-1], names)})
		}
		return ps
	}
	var decode *toml.DecodeError
	if errors.As(err, &decode) {
		line, column := decode.Position()
		return Problems{{Line: line, Column: column, Key: strings.Join(decode.Key(), "."), Detail: strings.TrimPrefix(decode.Error(), "toml: ")}}
	}
	return Problems{{Line: 1, Column: 1, Detail: err.Error()}}
}

// keysBelow lists the settings of the table at a path.
func keysBelow(path []string) []string {
	t := reflect.TypeFor[policy.Document]()
	for _, step := range path {
		for i := range t.NumField() {
			if name, _, _ := strings.Cut(t.Field(i).Tag.Get("toml"), ","); name == step {
				t = t.Field(i).Type
				break
			}
		}
		if t.Kind() == reflect.Slice {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			return nil
		}
	}
	var names []string
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("toml"), ",")
		names = append(names, name)
	}
	return names
}

// places are where settings stand, by their paths as policy writes them: lanes[1].allow[0].
type places map[string]unstable.Position

// of is where a setting stands; where it was left out, its table's or the file's beginning.
func (p places) of(path string) (line, column int) {
	for {
		if at, ok := p[path]; ok {
			return at.Line, at.Column
		}
		i := strings.LastIndexAny(path, ".[")
		if i < 0 {
			return 1, 1
		}
		path = path[:i]
	}
}

func positions(data []byte) places {
	at := places{}
	p := &unstable.Parser{}
	p.Reset(data)
	prefix := ""
	counts := map[string]int{}
	for p.NextExpression() {
		e := p.Expression()
		var names []string
		var first unstable.Range
		for k := e.Key(); k.Next(); {
			if names == nil {
				first = k.Node().Raw
			}
			names = append(names, string(k.Node().Data))
		}
		name := strings.Join(names, ".")
		switch e.Kind {
		case unstable.Table:
			prefix = name + "."
			at[name] = p.Shape(first).Start
		case unstable.ArrayTable:
			at[fmt.Sprintf("%s[%d]", name, counts[name])] = p.Shape(first).Start
			prefix = fmt.Sprintf("%s[%d].", name, counts[name])
			counts[name]++
		case unstable.KeyValue:
			at[prefix+name] = p.Shape(first).Start
			if v := e.Value(); v.Kind == unstable.Array {
				n := 0
				for c := v.Children(); c.Next(); {
					if c.Node().Kind == unstable.Comment {
						continue
					}
					if raw := c.Node().Raw; raw.Length > 0 {
						at[prefix+name+"["+strconv.Itoa(n)+"]"] = p.Shape(raw).Start
					}
					n++
				}
			}
		}
	}
	return at
}
