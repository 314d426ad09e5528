package recent

import (
	"sync"
	"testing"
)

func TestWhatWasUsedLastIsKeptWithinTheRoom(t *testing.T) {
	c := New[int, string](40, 10)
	for i := range 10 {
		c.Put(i, "v", 10)
	}
	kept := func(want ...int) {
		t.Helper()
		n := 0
		for i := range 20 {
			if e := c.byKey[i]; e != nil {
				n++
			}
		}
		for _, i := range want {
			if c.byKey[i] == nil {
				t.Errorf("%d isn't kept", i)
			}
		}
		if n != len(want) || c.used > 40 || c.order.Len() != n {
			t.Errorf("%d are kept with %d bytes, %d in order; wanted are %v", n, c.used, c.order.Len(), want)
		}
	}
	kept(6, 7, 8, 9)
	if v, ok := c.Get(6); !ok || v != "v" { // so that another goes first
		t.Errorf("%q, %t", v, ok)
	}
	c.Put(11, "v", 10)
	kept(6, 8, 9, 11)
	c.Put(12, "v", 11) // too large
	kept(6, 8, 9, 11)
	c.Put(6, "w", 1) // there already
	if v, _ := c.Get(6); v != "v" {
		t.Errorf("%q took another's place", v)
	}
	c.Put(13, "v", 1)
	kept(13, 6, 11, 9)
	c.Forget()
	kept()
	c.Put(1, "v", 3)
	kept(1)
}

func TestOneThatIsLargerThanTheRoomIsKeptAlone(t *testing.T) {
	c := New[string, int](40, 1000)
	c.Put("a", 1, 10)
	c.Put("b", 2, 900)
	if _, ok := c.Get("a"); ok {
		t.Error("a is still kept")
	}
	if v, ok := c.Get("b"); !ok || v != 2 {
		t.Error("b isn't kept")
	}
	c.Put("c", 3, 10)
	if _, ok := c.Get("b"); ok || c.used != 10 {
		t.Errorf("b is kept beside c: %d bytes", c.used)
	}
}

func TestNoneKeepsNothing(t *testing.T) {
	var none *Cache[int, int]
	for _, c := range []*Cache[int, int]{none, {}} {
		c.Put(1, 1, 0)
		if _, ok := c.Get(1); ok {
			t.Error("it keeps something")
		}
		c.Forget()
	}
}

func TestManyAtOnce(t *testing.T) {
	c := New[int, int](64, 8)
	var all sync.WaitGroup
	for g := range 8 {
		all.Go(func() {
			for i := range 2000 {
				k := (i*7 + g) % 24
				if v, ok := c.Get(k); ok && v != k {
					t.Errorf("%d gives %d", k, v)
				}
				c.Put(k, k, 1+k%8)
			}
		})
	}
	all.Wait()
	total := 0
	for e := c.order.Front(); e != nil; e = e.Next() {
		total += e.Value.(entry[int, int]).bytes
	}
	if total != c.used || total > 64 || len(c.byKey) != c.order.Len() {
		t.Errorf("%d bytes of %d, %d keys for %d values", c.used, total, len(c.byKey), c.order.Len())
	}
}
