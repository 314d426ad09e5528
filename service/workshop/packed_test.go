package workshop

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"math"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"runtime"
	"slices"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/core/render"
)

// filled sets some of the fields of a struct, whatever they are.
func filled(r *rand.Rand, v reflect.Value, share float64) {
	switch v.Kind() {
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() && v.Type().Field(i).Tag.Get("json") != "-" {
				filled(r, v.Field(i), share)
			}
		}
	case reflect.Array:
		for i := range v.Len() {
			filled(r, v.Index(i), share)
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() != reflect.Uint8 && r.Float64() < share {
			v.Set(reflect.MakeSlice(v.Type(), r.IntN(3), 3))
			for i := range v.Len() {
				filled(r, v.Index(i), share)
			}
		}
	case reflect.Pointer:
		if r.Float64() < share {
			v.Set(reflect.New(v.Type().Elem()))
			filled(r, v.Elem(), share)
		}
	default:
		if r.Float64() >= share {
			return
		}
		switch {
		case v.CanInt():
			v.SetInt(int64(1 + r.IntN(100)))
		case v.CanUint():
			v.SetUint(uint64(1 + r.IntN(100)))
		case v.CanFloat():
			v.SetFloat(r.Float64())
		case v.Kind() == reflect.String:
			v.SetString(`"<ä` + "\n")
		case v.Kind() == reflect.Bool:
			v.SetBool(true)
		}
	}
}

// What goes to a worker and back is the same without its zeros.
func TestNothingIsLostWithoutZeros(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 12))
	for n := range 300 {
		var o, back message
		filled(r, reflect.ValueOf(&o).Elem(), float64(n)/600)
		short, err := pack(o)
		if err != nil {
			t.Fatal(err)
		}
		if err := unpack(short, &back); err != nil {
			t.Fatalf("%v: %x", err, short)
		}
		long, err := json.Marshal(o)
		if err != nil {
			t.Fatal(err)
		}
		again, err := json.Marshal(back)
		if err != nil || !bytes.Equal(long, again) {
			t.Fatalf("%v\nbecame %s\nthat is %s", err, again, long)
		}
	}
	plain := message{Job: job(t, "width=640&quality=72"), Inputs: make([]input, 1)}
	short, _ := pack(plain)
	long, _ := json.Marshal(plain)
	if len(short) > len(long)/4 {
		t.Errorf("%d bytes, %d with zeros", len(short), len(long))
	}
	var a, back answer
	a.Result.Stages = []render.Stage{{Name: "plan"}, {Name: "decode", Took: time.Millisecond}}
	a.Refusal = policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "x"})
	said, err := pack(a)
	if err != nil || unpack(said, &back) != nil || !reflect.DeepEqual(a, back) {
		t.Errorf("%v: %x", err, said)
	}
}

// What isn't as it is packed is refused, and what says that much follows costs nothing.
func TestBrokenMessagesAreRefused(t *testing.T) {
	type inner struct{ A, B int }
	type all struct {
		Flag  bool
		Small uint8
		Text  string
		List  []inner
		Of    *inner
		Named map[string]int
		Share float64
		At    netip.Addr // has a form of its own
	}
	good, err := pack(all{true, 200, "x", []inner{{1, 2}, {}}, &inner{3, 0}, map[string]int{"a": 1}, 0.5, netip.MustParseAddr("10.0.0.1")})
	if err != nil {
		t.Fatal(err)
	}
	var back all
	if err := unpack(good, &back); err != nil || len(back.List) != 2 || back.Of.A != 3 || back.Named["a"] != 1 || back.At.String() != "10.0.0.1" {
		t.Fatalf("%+v, %v", back, err)
	}
	for cut := range good {
		if err := unpack(good[:cut], new(all)); err == nil {
			t.Errorf("the first %d bytes of %d are taken", cut, len(good))
		}
	}
	huge := binary.AppendUvarint(nil, math.MaxUint64)
	for name, b := range map[string][]byte{
		"more than one":         append(slices.Clone(good), 0),
		"a field twice":         {1, 1, 1, 1, 0},
		"fields out of order":   {2, 5, 1, 1, 0},
		"a field that isn't":    {9, 0},
		"a truth of 2":          {1, 2, 0},
		"300 in a byte":         {2, 0xac, 2, 0},
		"a text without end":    append([]byte{3}, huge...),
		"a list without end":    append([]byte{4}, huge...),
		"a list of too many":    append(binary.AppendUvarint([]byte{4}, 3<<20), make([]byte, 3<<20)...),
		"a pointer of 2":        {5, 2, 0},
		"a map without end":     append([]byte{6}, huge...),
		"a number of 11 bytes":  {2, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 1, 0},
		"half a fraction":       {7, 1, 2, 3},
		"no number":             {7, 0, 0, 0, 0, 0, 0, 0xf8, 0x7f, 0},
		"an address that isn't": {8, 5, '"', 'e', 'x', 'e', '"', 0},
		"half an address":       {8, 9, '"', '1', '0', 0},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		if err := unpack(b, new(all)); err == nil {
			t.Errorf("%s is taken", name)
		}
		runtime.ReadMemStats(&after)
		if took := after.TotalAlloc - before.TotalAlloc; took > 1<<20 {
			t.Errorf("%s takes %d bytes", name, took)
		}
	}
}

func BenchmarkOrder(b *testing.B) {
	o := message{Job: render.Job{Limits: policy.DefaultLimits, Predict: true}, Inputs: make([]input, 1)}
	o.Job.Request.Width, o.Job.Request.Quality = 640, 72
	for b.Loop() {
		head, err := pack(o)
		if err != nil {
			b.Fatal(err)
		}
		var back message
		if err := unpack(head, &back); err != nil {
			b.Fatal(err)
		}
	}
}
