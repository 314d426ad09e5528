package codec

import "testing"

var types = []string{"image/png", "image/svg+xml"}

func TestHeadersOfOthersAreHeldAgainstWhatCanBe(t *testing.T) {
	good := Header{Type: "image/png", W: 3, H: 2, Orientation: 1, Frames: 1, Depth: 8}
	if err := good.Check(types); err != nil {
		t.Error(err)
	}
	for name, change := range map[string]func(*Header){
		"type": func(h *Header) { h.Type = "text/html" }, "width": func(h *Header) { h.W = 0 }, "height": func(h *Header) { h.H = -1 }, "too wide": func(h *Header) { h.W = 1 << 40 },
		"orientation": func(h *Header) { h.Orientation = 9 }, "frames": func(h *Header) { h.Frames = 0 }, "depth": func(h *Header) { h.Depth = 1000 }, "coding": func(h *Header) { h.Coding = string(make([]byte, 100)) },
	} {
		h := good
		change(&h)
		if h.Check(types) == nil {
			t.Errorf("a wrong %s is believed", name)
		}
	}
	if (Header{Type: "image/svg+xml"}).Check(types) == nil {
		t.Error("a drawing without a size is believed")
	}
}
