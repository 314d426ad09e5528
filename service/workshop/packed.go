package workshop

import (
	"encoding"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"reflect"
	"sync"
)

// A packed value is its fields without names: of a struct those that aren't zero, each behind its number, and 0; of what has a
// length, that and what is in it, a length of 0 being none at all; numbers of as many bytes as they need. What has a form of its own in JSON
// is in that, so that it is read as strictly. Names and zeros would be most of an order, and reading them most of what a small job
// takes beside its render.

// pack is v packed. Of what is tagged json:"-" nothing is in it.
func pack(v any) ([]byte, error) {
	value := reflect.ValueOf(v)
	p, err := packerOf(value.Type())
	if err != nil {
		return nil, err
	}
	return p.put(nil, value)
}

// unpack reads what was packed into *to, which is zero. Whatever the bytes are, it takes no more memory than some times theirs.
func unpack(data []byte, to any) error {
	value := reflect.ValueOf(to).Elem()
	p, err := packerOf(value.Type())
	if err != nil {
		return err
	}
	if data, err = p.take(data, value); err == nil && len(data) > 0 {
		err = errPacked
	}
	return err
}

var errPacked = errors.New("a message between workshop and worker is broken")

// A packer packs values of a type, and gives what is left of bytes once it has read one.
type packer struct {
	put  func(to []byte, v reflect.Value) ([]byte, error)
	take func(data []byte, v reflect.Value) ([]byte, error)
}

// packers are those of the types that were met, by type.
var packers sync.Map

var (
	marshaler     = reflect.TypeFor[json.Marshaler]()
	textMarshaler = reflect.TypeFor[encoding.TextMarshaler]()
)

// packerOf is the packer of a type, which holds no type that holds itself.
func packerOf(t reflect.Type) (*packer, error) {
	if p, ok := packers.Load(t); ok {
		return p.(*packer), nil
	}
	p, err := newPacker(t)
	if err != nil {
		return nil, fmt.Errorf("%v: %w", t, err)
	}
	packers.Store(t, p)
	return p, nil
}

func newPacker(t reflect.Type) (*packer, error) {
	if t.Implements(marshaler) || t.Implements(textMarshaler) || t.Kind() == reflect.Interface {
		return &packer{putJSON, takeJSON}, nil
	}
	switch t.Kind() {
	case reflect.Bool:
		return &packer{
			func(to []byte, v reflect.Value) ([]byte, error) {
				if v.Bool() {
					return append(to, 1), nil
				}
				return append(to, 0), nil
			},
			func(data []byte, v reflect.Value) ([]byte, error) {
				if len(data) == 0 || data[0] > 1 {
					return nil, errPacked
				}
				v.SetBool(data[0] == 1)
				return data[1:], nil
			},
		}, nil
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return &packer{
			func(to []byte, v reflect.Value) ([]byte, error) { return binary.AppendVarint(to, v.Int()), nil },
			func(data []byte, v reflect.Value) ([]byte, error) {
				i, n := binary.Varint(data)
				if n <= 0 || v.OverflowInt(i) {
					return nil, errPacked
				}
				v.SetInt(i)
				return data[n:], nil
			},
		}, nil
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return &packer{
			func(to []byte, v reflect.Value) ([]byte, error) { return binary.AppendUvarint(to, v.Uint()), nil },
			func(data []byte, v reflect.Value) ([]byte, error) {
				u, n := binary.Uvarint(data)
				if n <= 0 || v.OverflowUint(u) {
					return nil, errPacked
				}
				v.SetUint(u)
				return data[n:], nil
			},
		}, nil
	case reflect.Float32, reflect.Float64:
		return &packer{
			func(to []byte, v reflect.Value) ([]byte, error) {
				return binary.LittleEndian.AppendUint64(to, math.Float64bits(v.Float())), nil
			},
			func(data []byte, v reflect.Value) ([]byte, error) {
				if len(data) < 8 {
					return nil, errPacked
				}
				f := math.Float64frombits(binary.LittleEndian.Uint64(data))
				if math.IsNaN(f) || math.IsInf(f, 0) || v.OverflowFloat(f) { // JSON has none either
					return nil, errPacked
				}
				v.SetFloat(f)
				return data[8:], nil
			},
		}, nil
	case reflect.String:
		return &packer{
			func(to []byte, v reflect.Value) ([]byte, error) {
				return append(binary.AppendUvarint(to, uint64(v.Len())), v.String()...), nil
			},
			func(data []byte, v reflect.Value) ([]byte, error) {
				data, n, err := length(data)
				if err != nil {
					return nil, err
				}
				v.SetString(string(data[:n]))
				return data[n:], nil
			},
		}, nil
	case reflect.Pointer:
		return pointerPacker(t)
	case reflect.Slice:
		return slicePacker(t)
	case reflect.Array:
		return arrayPacker(t)
	case reflect.Map:
		return mapPacker(t)
	case reflect.Struct:
		return structPacker(t)
	}
	return nil, errors.New("values of this kind aren't packed")
}

// length reads how many bytes, or values of at least one, follow.
func length(data []byte) (rest []byte, n int, err error) {
	u, k := binary.Uvarint(data)
	if k <= 0 || u > uint64(len(data)-k) {
		return nil, 0, errPacked
	}
	return data[k:], int(u), nil
}

func putJSON(to []byte, v reflect.Value) ([]byte, error) {
	b, err := json.Marshal(v.Interface())
	return append(binary.AppendUvarint(to, uint64(len(b))), b...), err
}

func takeJSON(data []byte, v reflect.Value) ([]byte, error) {
	data, n, err := length(data)
	if err != nil {
		return nil, err
	}
	return data[n:], json.Unmarshal(data[:n], v.Addr().Interface())
}

func pointerPacker(t reflect.Type) (*packer, error) {
	of, err := packerOf(t.Elem())
	if err != nil {
		return nil, err
	}
	return &packer{
		func(to []byte, v reflect.Value) ([]byte, error) {
			if v.IsNil() {
				return append(to, 0), nil
			}
			return of.put(append(to, 1), v.Elem())
		},
		func(data []byte, v reflect.Value) ([]byte, error) {
			if len(data) == 0 || data[0] > 1 {
				return nil, errPacked
			}
			if data[0] == 0 {
				return data[1:], nil
			}
			v.Set(reflect.New(t.Elem()))
			return of.take(data[1:], v.Elem())
		},
	}, nil
}

// count reads a length that is one more than how many values follow; 0 is none at all.
func count(data []byte) (rest []byte, n int, none bool, err error) {
	u, k := binary.Uvarint(data)
	if k <= 0 || u > uint64(len(data)-k)+1 {
		return nil, 0, false, errPacked
	}
	return data[k:], int(u) - 1, u == 0, nil
}

func slicePacker(t reflect.Type) (*packer, error) {
	of, err := packerOf(t.Elem())
	if err != nil {
		return nil, err
	}
	const (
		first = 64       // values that there is room for at first, so that a length that lies costs nothing
		most  = 16 << 20 // bytes that they may take
	)
	return &packer{
		func(to []byte, v reflect.Value) (_ []byte, err error) {
			if v.IsNil() {
				return append(to, 0), nil
			}
			to = binary.AppendUvarint(to, uint64(v.Len())+1)
			for i := 0; i < v.Len() && err == nil; i++ {
				to, err = of.put(to, v.Index(i))
			}
			return to, err
		},
		func(data []byte, v reflect.Value) ([]byte, error) {
			data, n, none, err := count(data)
			if err != nil || none {
				return data, err
			}
			if uintptr(n)*t.Elem().Size() > most {
				return nil, errPacked
			}
			v.Set(reflect.MakeSlice(t, 0, min(n, first)))
			for i := range n {
				if i == v.Cap() {
					v.Grow(1)
				}
				v.SetLen(i + 1)
				if data, err = of.take(data, v.Index(i)); err != nil {
					return nil, err
				}
			}
			return data, nil
		},
	}, nil
}

func arrayPacker(t reflect.Type) (*packer, error) {
	of, err := packerOf(t.Elem())
	if err != nil {
		return nil, err
	}
	return &packer{
		func(to []byte, v reflect.Value) (_ []byte, err error) {
			for i := 0; i < t.Len() && err == nil; i++ {
				to, err = of.put(to, v.Index(i))
			}
			return to, err
		},
		func(data []byte, v reflect.Value) (_ []byte, err error) {
			for i := 0; i < t.Len() && err == nil; i++ {
				data, err = of.take(data, v.Index(i))
			}
			return data, err
		},
	}, nil
}

func mapPacker(t reflect.Type) (*packer, error) {
	keys, err := packerOf(t.Key())
	if err != nil {
		return nil, err
	}
	values, err := packerOf(t.Elem())
	if err != nil {
		return nil, err
	}
	return &packer{
		func(to []byte, v reflect.Value) (_ []byte, err error) {
			if v.IsNil() {
				return append(to, 0), nil
			}
			to = binary.AppendUvarint(to, uint64(v.Len())+1)
			for all := v.MapRange(); all.Next() && err == nil; {
				if to, err = keys.put(to, all.Key()); err == nil {
					to, err = values.put(to, all.Value())
				}
			}
			return to, err
		},
		func(data []byte, v reflect.Value) ([]byte, error) {
			data, n, none, err := count(data)
			if err != nil || none {
				return data, err
			}
			v.Set(reflect.MakeMap(t))
			for range n {
				key, value := reflect.New(t.Key()).Elem(), reflect.New(t.Elem()).Elem()
				if data, err = keys.take(data, key); err == nil {
					data, err = values.take(data, value)
				}
				if err != nil {
					return nil, err
				}
				v.SetMapIndex(key, value)
			}
			return data, nil
		},
	}, nil
}

func structPacker(t reflect.Type) (*packer, error) {
	type field struct {
		at int
		*packer
	}
	var fields []field
	for i := range t.NumField() {
		f := t.Field(i)
		if !f.IsExported() && !f.Anonymous || f.Tag.Get("json") == "-" {
			continue
		}
		p, err := packerOf(f.Type)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		fields = append(fields, field{i, p})
	}
	return &packer{
		func(to []byte, v reflect.Value) (_ []byte, err error) {
			for k, f := range fields {
				if of := v.Field(f.at); !of.IsZero() {
					if to, err = f.put(binary.AppendUvarint(to, uint64(k)+1), of); err != nil {
						return nil, err
					}
				}
			}
			return append(to, 0), nil
		},
		func(data []byte, v reflect.Value) ([]byte, error) {
			for before := uint64(0); ; {
				k, n := binary.Uvarint(data)
				if n <= 0 || k > uint64(len(fields)) || k != 0 && k <= before {
					return nil, errPacked
				}
				if data = data[n:]; k == 0 {
					return data, nil
				}
				var err error
				if data, err = fields[k-1].take(data, v.Field(fields[k-1].at)); err != nil {
					return nil, err
				}
				before = k
			}
		},
	}, nil
}
