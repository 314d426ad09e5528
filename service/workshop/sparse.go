package workshop

import (
	"encoding"
	"encoding/json"
	"reflect"
	"strconv"
	"strings"
)

// sparse is v as JSON without the fields of structs that are zero: a request has some hundred, and reading them takes a worker
// longer than all else that isn't the render.
func sparse(v any) ([]byte, error) { return appendSparse(nil, reflect.ValueOf(v)) }

var (
	marshaler     = reflect.TypeFor[json.Marshaler]()
	textMarshaler = reflect.TypeFor[encoding.TextMarshaler]()
)

// plainStruct reports whether a type is a struct that encoding/json writes field by field.
func plainStruct(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && !t.Implements(marshaler) && !t.Implements(textMarshaler)
}

func appendSparse(to []byte, v reflect.Value) (_ []byte, err error) {
	switch t := v.Type(); {
	case plainStruct(t):
		to = append(to, '{')
		if to, err = appendFields(to, v); err != nil {
			return nil, err
		}
		return append(to, '}'), nil
	case t.Kind() == reflect.Slice && plainStruct(t.Elem()) && !v.IsNil():
		to = append(to, '[')
		for i := range v.Len() {
			if i > 0 {
				to = append(to, ',')
			}
			if to, err = appendSparse(to, v.Index(i)); err != nil {
				return nil, err
			}
		}
		return append(to, ']'), nil
	}
	b, err := json.Marshal(v.Interface())
	return append(to, b...), err
}

func appendFields(to []byte, v reflect.Value) (_ []byte, err error) {
	t := v.Type()
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		of := v.Field(i)
		if name == "-" || of.IsZero() || !f.IsExported() && !f.Anonymous {
			continue
		}
		if f.Anonymous && name == "" && plainStruct(f.Type) {
			to, err = appendFields(to, of)
		} else {
			if to[len(to)-1] != '{' {
				to = append(to, ',')
			}
			if name == "" {
				name = f.Name
			}
			to = append(strconv.AppendQuote(to, name), ':')
			to, err = appendSparse(to, of)
		}
		if err != nil {
			return nil, err
		}
	}
	return to, nil
}
