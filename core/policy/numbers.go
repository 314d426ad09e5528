package policy

import (
	"fmt"
	"reflect"
	"strconv"
	"strings"
)

// A Number is a field of Bounds or Month, as its tags say it.
type Number struct {
	Name        string // as documents have it
	Label, Hint string // for a form
	Least, Most float64
	Whole       bool

	index int
}

// LimitNumbers are those of Bounds, MonthNumbers those of Month, in the order of their fields.
var (
	LimitNumbers = numbersOf(reflect.TypeFor[Bounds]())
	MonthNumbers = numbersOf(reflect.TypeFor[Month]())
)

func numbersOf(t reflect.Type) []Number {
	list := make([]Number, t.NumField())
	for i := range list {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		n := Number{Name: name, Label: f.Tag.Get("label"), Hint: f.Tag.Get("hint"), Whole: f.Type.Kind() != reflect.Float64, index: i}
		least, most, _ := strings.Cut(f.Tag.Get("between"), " ")
		n.Least, _ = strconv.ParseFloat(least, 64)
		n.Most, _ = strconv.ParseFloat(most, 64)
		list[i] = n
	}
	return list
}

// field is the number's place in *Bounds or *Month.
func (n Number) field(in any) reflect.Value { return reflect.ValueOf(in).Elem().Field(n.index) }

// In is the number's value in *Bounds or *Month.
func (n Number) In(in any) float64 {
	f := n.field(in)
	if n.Whole {
		return float64(f.Int())
	}
	return f.Float()
}

// Set gives the number a value in *Bounds or *Month.
func (n Number) Set(in any, v float64) {
	if f := n.field(in); n.Whole {
		f.SetInt(int64(v))
	} else {
		f.SetFloat(v)
	}
}

// numbers holds all numbers to their ranges.
func (c *compiler) numbers(path string, list []Number, in any) {
	for _, n := range list {
		if v := n.In(in); v < n.Least || v > n.Most {
			text := strconv.FormatFloat(v, 'f', -1, 64)
			c.wrong(Trouble{Path: path + "." + n.Name, Given: text, Detail: text + " is out of range", Allowed: fmt.Sprintf("%s to %s", strconv.FormatFloat(n.Least, 'f', -1, 64), strconv.FormatFloat(n.Most, 'f', -1, 64))})
		}
	}
}
