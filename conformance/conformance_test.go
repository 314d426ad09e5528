package conformance

import (
	"image"
	"math"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
)

var (
	judge   *Judge
	sources []Source
)

func TestMain(m *testing.M) {
	code := 1
	defer func() { os.Exit(code) }()
	var err error
	if sources, err = Sources(); err == nil {
		judge, err = NewJudge(sources)
	}
	if err != nil {
		println("conformance:", err.Error())
		return
	}
	defer judge.Close()
	code = m.Run()
}

func hold(t *testing.T, cases []Case) {
	t.Helper()
	failed := 0
	for _, c := range cases {
		r, err := judge.Run(c, nil)
		if err != nil {
			t.Errorf("%v", err)
			continue
		}
		for _, f := range r.Failures {
			failed++
			t.Errorf("%s: %s (PSNR %.1f, p99.9 %.0f, max %d, place %+.2f)", c.Name(), f, r.Figures.PSNR, r.Figures.P999, r.Figures.Max, r.Place)
		}
	}
	t.Logf("%d cases, %d failures", len(cases), failed)
}

func TestFixedCasesAreAsTheBrowserPaintsThem(t *testing.T) {
	cases := Fixed(sources)
	if len(cases) < 120 || len(sources) < 8 {
		t.Fatalf("only %d cases over %d sources", len(cases), len(sources))
	}
	hold(t, cases)
}

func TestRandomCasesAreAsTheBrowserPaintsThem(t *testing.T) {
	seed := seedOf(t)
	hold(t, Random(sources, rand.New(rand.NewPCG(seed, 7)), 200))
}

// A test of the test: what is wrong on purpose must fail by its kind's own measure.
func TestWhatIsWrongFails(t *testing.T) {
	crowd, photo, alpha := find(sources, "crowd.png"), find(sources, "photo.png"), find(sources, "alpha.png")
	cut := Before{Cut: []float64{0, 0, 300, 220}}
	for _, c := range []struct {
		name  string
		case_ Case
		query string                          // what is made instead of what is asked
		spoil func(m *image.RGBA) *image.RGBA // or what is done to it
	}{
		{"one source pixel off", Case{Kind: Fit, Source: crowd, Query: "width=400", Style: "width:400px"}, "xywh=1,0,1199,800&width=400&height=267&object-fit=fill", nil},
		{"another position", Case{Kind: Fit, Source: crowd, Query: query(200, 200, "", "cover", "25% 50%"), Style: style(200, 200, "", "cover", "25% 50%")}, query(200, 200, "", "cover", "27% 50%"), nil},
		{"another size", Case{Kind: Fit, Source: photo, Query: "width=240", Style: "width:240px"}, "width=241", nil},
		{"nearest neighbours", Case{Kind: Kernel, Source: crowd, Query: "width=363", Style: style(363, 242, "", "fill", ""), Margin: 2}, "", func(*image.RGBA) *image.RGBA {
			full, err := Ours(crowd.Data, "")
			if err != nil {
				t.Fatal(err)
			}
			out := image.NewRGBA(image.Rect(0, 0, 363, 242))
			for y := range 242 {
				for x := range 363 {
					copy(out.Pix[out.PixOffset(x, y):][:4], full.Pix[full.PixOffset(x*1200/363, y*800/242):][:4])
				}
			}
			return out
		}},
		{"linear light", Case{Kind: Colour, Source: photo, Query: "xywh=0,0,300,220&filter=grayscale(1)", Style: "filter:grayscale(1)", Before: cut}, "", func(m *image.RGBA) *image.RGBA {
			full, err := Ours(photo.Data, "xywh=0,0,300,220")
			if err != nil {
				t.Fatal(err)
			}
			for i := 0; i < len(full.Pix); i += 4 {
				lin := func(v uint8) float64 { return math.Pow(float64(v)/255, 2.2) }
				l := 0.2126*lin(full.Pix[i]) + 0.7152*lin(full.Pix[i+1]) + 0.0722*lin(full.Pix[i+2])
				v := uint8(255*math.Pow(l, 1/2.2) + 0.5)
				full.Pix[i], full.Pix[i+1], full.Pix[i+2] = v, v, v
			}
			return full
		}},
		{"another hue", Case{Kind: Colour, Source: crowd, Query: "xywh=0,0,300,220&filter=hue-rotate(90deg)", Style: "filter:hue-rotate(90deg)", Before: cut}, "xywh=0,0,300,220&filter=hue-rotate(-90deg)", nil},
		{"half the blur", Case{Kind: Soft, Source: photo, Query: "filter=blur(20px)", Style: "filter:blur(20px)", Margin: 64}, "filter=blur(10px)", nil},
		{"a pixel less of radius", Case{Kind: Corner, Source: photo, Query: "xywh=0,0,300,220&border-radius=40px", Style: "border-radius:40px", Before: cut}, "xywh=0,0,300,220&border-radius=36px", nil},
		{"a border that is wider by one", Case{Kind: Framed, Source: photo, Query: "xywh=0,0,300,220&border=12px solid gold&padding=0 1px 1px 0", Style: "border:12px solid gold;padding:0 1px 1px 0", Before: cut}, "xywh=0,0,300,220&border=13px solid gold, 12px solid gold, 12px solid gold, 13px solid gold", nil},
		{"a gradient that ends sooner", Case{Kind: Framed, Source: photo, Query: "xywh=0,0,300,220&mask-image=linear-gradient(black, transparent)", Style: "mask-image:linear-gradient(black, transparent)", Before: cut}, "xywh=0,0,300,220&mask-image=linear-gradient(black, transparent 80%)", nil},
		{"a smaller circle", Case{Kind: Framed, Source: photo, Query: "xywh=0,0,300,220&clip-path=circle(40%)", Style: "clip-path:circle(40%)", Before: cut}, "xywh=0,0,300,220&clip-path=circle(39%)", nil},
		{"a star that is filled", Case{Kind: Framed, Source: photo, Query: "xywh=0,0,300,220&clip-path=polygon(evenodd, 50% 0, 80% 100%, 0 35%, 100% 35%, 20% 100%)", Style: "clip-path:polygon(evenodd, 50% 0, 80% 100%, 0 35%, 100% 35%, 20% 100%)", Before: cut}, "xywh=0,0,300,220&clip-path=polygon(50% 0, 80% 100%, 0 35%, 100% 35%, 20% 100%)", nil},
		{"another ground", Case{Kind: Composed, Source: alpha, Query: "background-color=gold", Style: "background-color:gold"}, "background-color=goldenrod", nil},
		{"another mode", Case{Kind: Blended, Source: photo, Query: "after-content=url(lane/alpha.png)&after-inset=40px auto auto 60px&after-mix-blend-mode=soft-light",
			Before: Before{Layer: &Layer{Source: alpha, X: 60, Y: 40, Alpha: 1, Mode: "soft-light"}}}, "after-content=url(lane/alpha.png)&after-inset=40px auto auto 60px&after-mix-blend-mode=overlay", nil},
		{"turned the other way", Case{Kind: Turned, Source: photo, Query: "xywh=0,0,300,220&rotate=7deg", Before: Before{Cut: cut.Cut, Turn: 7}}, "xywh=0,0,300,220&rotate=-7deg", nil},
		{"mirrored", Case{Kind: Same, Source: photo}, "scale=-1 1", nil},
	} {
		wrong, err := Ours(c.case_.Source.Data, encoded(c.query), alpha)
		if err != nil {
			t.Fatal(err)
		}
		if c.spoil != nil {
			wrong = c.spoil(wrong)
		}
		r, err := judge.Run(c.case_, wrong)
		if err != nil {
			t.Fatal(err)
		}
		if len(r.Failures) == 0 {
			t.Errorf("%s passes: PSNR %.1f, p99.9 %.0f, max %d, alpha %d, place %+.2f", c.name, r.Figures.PSNR, r.Figures.P999, r.Figures.Max, r.Alpha, r.Place)
		}
		if right, err := judge.Run(c.case_, nil); err != nil || len(right.Failures) > 0 {
			t.Errorf("%s: what is right fails: %v %v", c.name, err, right.Failures)
		}
	}
}

// seedOf is what the random cases are drawn from: always the same, so that a change fails for what it does alone; another with
// CONFORMANCE_SEED=N, one at random with CONFORMANCE_SEED=any.
func seedOf(t *testing.T) uint64 {
	seed := uint64(2027)
	switch given := os.Getenv("CONFORMANCE_SEED"); given {
	case "":
	case "any":
		seed = rand.Uint64()
	default:
		n, err := strconv.ParseUint(given, 10, 64)
		if err != nil {
			t.Fatalf("CONFORMANCE_SEED=%s isn't a number", given)
		}
		seed = n
	}
	t.Logf("CONFORMANCE_SEED=%d", seed)
	return seed
}
