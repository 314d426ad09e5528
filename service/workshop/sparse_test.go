package workshop

import (
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"reflect"
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
		short, err := sparse(o)
		if err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal(short, &back); err != nil {
			t.Fatalf("%v: %s", err, short)
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
	short, _ := sparse(plain)
	long, _ := json.Marshal(plain)
	if len(short) > len(long)/4 {
		t.Errorf("%d bytes, %d with zeros", len(short), len(long))
	}
	var a, back answer
	a.Result.Stages = []render.Stage{{Name: "plan"}, {Name: "decode", Took: time.Millisecond}}
	a.Refusal = policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "x"})
	said, err := sparse(a)
	if err != nil || json.Unmarshal(said, &back) != nil || !reflect.DeepEqual(a, back) {
		t.Errorf("%v: %s", err, said)
	}
}

func BenchmarkOrder(b *testing.B) {
	o := message{Job: render.Job{Limits: policy.DefaultLimits, Predict: true}, Inputs: make([]input, 1)}
	o.Job.Request.Width, o.Job.Request.Quality = 640, 72
	for b.Loop() {
		head, err := sparse(o)
		if err != nil {
			b.Fatal(err)
		}
		var back message
		if err := json.Unmarshal(head, &back); err != nil {
			b.Fatal(err)
		}
	}
}
