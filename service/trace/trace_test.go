package trace

import (
	"context"
	"testing"
)

func TestTraceparents(t *testing.T) {
	const good = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"
	p, ok := Parse(good)
	if !ok || p.String() != good || From(With(context.Background(), p)) != p {
		t.Errorf("%+v %v", p, ok)
	}
	if c := p.Child(); c.Trace != p.Trace || c.Span == p.Span || c.Flags != p.Flags {
		t.Errorf("%+v", c)
	}
	if _, ok := Parse("01" + good[2:] + "-more"); !ok {
		t.Error("a version to come is read as far as it is known")
	}
	for _, bad := range []string{"", "00", good + "-more", "ff" + good[2:], "00-" + "0000000000000000000000000000000" + "0-00f067aa0ba902b7-01", "00-4bf92f3577b34da6a3ce929d0e0e4736-0000000000000000-01", "00-4BF92F3577B34DA6A3CE929D0E0E4736-00f067aa0ba902b7-01", good[:54]} {
		if _, ok := Parse(bad); ok {
			t.Errorf("%q is taken", bad)
		}
	}
	if n := New(); n.Trace == New().Trace {
		t.Error("two traces are one")
	} else if _, ok := Parse(n.String()); !ok {
		t.Errorf("%s", n)
	}
	if (Parent{}).String() != "" || From(context.Background()) != (Parent{}) {
		t.Error("none is one")
	}
}
