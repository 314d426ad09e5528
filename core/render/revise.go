package render

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/face"
	"echolane/core/geometry"
	"echolane/core/inpaint"
	"echolane/core/matte"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/subject"
)

// A revision is what is altered in the picture before anything else is done with it.
type revision struct {
	key    string // of those that are equal; "" where nothing is altered
	hidden []hidden
	erased [][][2]float64 // outlines of what is filled from the rest
	field  *inpaint.Field
	matte  *matte.Matte // what is left, where something is cut out
	whole  [2]float64   // the stored picture, in pixels, that the places are of
	from   [2]float64   // where what is altered begins in it
}

// hidden is a place that is made unrecognisable: its outline in pixels of the stored picture, from its left and top edge.
type hidden struct {
	outline [][2]float64
	fill    declare.Color
}

func (r *revision) none() bool { return r.key == "" }

// faceRoom is how many times as wide and high as a face the place is that hides it: an ellipse within it holds the face.
const faceRoom = 1.5

// revisionOf finds the places that the declarations name.
func revisionOf(known *Findings, source []byte, info codec.Info, upright geometry.Size, request *declare.Resolved) (r revision, err error) {
	d := &request.Declarations
	cut := d.Mask()
	if d.Redact == "" && d.Erase == "" && cut.Kind != declare.SubjectMask {
		return r, nil
	}
	r.key = d.Redact + "\n" + d.Erase
	r.whole = [2]float64{float64(info.W), float64(info.H)}
	areas := declare.Areas{}
	if d.Redact != "" {
		areas = d.RedactAreas()
	}
	w, h := float64(upright.W), float64(upright.H)
	placed := func(points [][2]float64) [][2]float64 {
		for i, p := range points {
			points[i] = storedPlace(info, p)
		}
		return points
	}
	add := func(points [][2]float64) {
		if len(points) > 0 {
			r.hidden = append(r.hidden, hidden{placed(points), areas.Fill})
		}
	}
	for _, a := range areas.Places {
		add(a.Outline(w, h))
	}
	if areas.Faces {
		faces, err := facesOf(known, source, info, true, nil)
		if err != nil {
			return r, err
		}
		for _, f := range faces {
			rx, ry := (f.X1-f.X0)*w/2*faceRoom, (f.Y1-f.Y0)*h/2*faceRoom
			var points [][2]float64
			for i := range 48 {
				sin, cos := math.Sincos(2 * math.Pi * float64(i) / 48)
				points = append(points, [2]float64{(f.X0+f.X1)/2*w + rx*cos, (f.Y0+f.Y1)/2*h + ry*sin})
			}
			add(points)
		}
	}
	if d.Erase != "" {
		for _, a := range d.EraseAreas().Places {
			if points := placed(a.Outline(w, h)); len(points) > 0 {
				r.erased = append(r.erased, points)
			}
		}
		if r.field, err = found(known, source, fmt.Sprint(info.Orientation, "\n", r.key), (*inpaint.Field).Bytes, func() (*inpaint.Field, error) { return r.fill(source, info, d) }); err != nil {
			return r, err
		}
	}
	if cut.Kind == declare.SubjectMask {
		r.key += "\n" + d.MaskImage + "\n" + request.Focus.String()
		r.matte, err = found(known, source, fmt.Sprint(info.Orientation, "\n", r.key), (*matte.Matte).Bytes, func() (*matte.Matte, error) { return r.cut(known, source, info, cut.OrNone, request.Focus) })
		return r, err
	}
	return r, nil
}

// copied is a small copy of the stored picture, altered so far.
func (r *revision) copied(source []byte, info codec.Info, side float64) (*raster.RGBA, error) {
	info.Orientation = 1
	plan, _ := geometry.New(geometry.Size{W: info.W, H: info.H}, declare.Declarations{})
	pixels, err := smallCopy(source, info, plan, side)
	if err != nil {
		return nil, err
	}
	r.applyAt(pixels, float64(pixels.W)/float64(info.W))
	return pixels, nil
}

// cut finds out what is left of the picture where its subject is cut out.
func (r *revision) cut(known *Findings, source []byte, info codec.Info, orNone bool, said declare.Focus) (*matte.Matte, error) {
	pixels, err := r.copied(source, info, matte.Side)
	if err != nil {
		return nil, err
	}
	defer pixels.Free()
	if !pixels.Opaque {
		if pixels.FindOpaque(); !pixels.Opaque { // it is cut out already
			return nil, nil
		}
	}
	o := info.Orientation
	upright := pixels
	if o > 1 {
		w, h := pixels.W, pixels.H
		if o >= 5 {
			w, h = h, w
		}
		upright = raster.NewRGBA(w, h)
		upright.Opaque = true
		for i := range pixels.W * pixels.H {
			x, y := uprightPart(o, (float64(i%pixels.W)+0.5)/float64(pixels.W), (float64(i/pixels.W)+0.5)/float64(pixels.H))
			copy(upright.Row(int(y * float64(h)))[4*int(x*float64(w)):][:4], pixels.Row(i / pixels.W)[4*(i%pixels.W):])
		}
		defer upright.Free()
	}
	// Faces as they are: what is redacted isn't found any more.
	m, ok := matte.New(upright, func() (faces []face.Face) {
		faces, err = facesOf(known, source, info, false, nil)
		return faces
	}, said)
	if err != nil {
		return nil, err
	}
	if !ok {
		if orNone {
			return nil, nil
		}
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonNoClearSubject, Parameter: "mask-image", Given: "subject", Detail: "nothing stands out enough from the rest of the picture to be cut out",
			Remedy: "take a picture whose subject stands out, or write mask-image=subject or-none, which then keeps the whole picture",
		})
	}
	if o > 1 {
		m = m.Moved(pixels.W, pixels.H, func(x, y float64) (float64, float64) { return uprightPart(o, x, y) })
	}
	return m, nil
}

// uprightPart is where a place of the stored picture lies in the upright one, in parts of the sides of either.
func uprightPart(o int, x, y float64) (float64, float64) {
	if o == 2 || o == 3 || o == 7 || o == 8 {
		x = 1 - x
	}
	if o == 3 || o == 4 || o == 6 || o == 7 {
		y = 1 - y
	}
	if o >= 5 {
		x, y = y, x
	}
	return x, y
}

// fill finds out from a small copy of the stored picture how what is erased is filled.
func (r *revision) fill(source []byte, info codec.Info, d *declare.Declarations) (*inpaint.Field, error) {
	if len(r.erased) == 0 {
		return nil, nil
	}
	pixels, err := r.copied(source, info, inpaint.Side)
	if err != nil {
		return nil, err
	}
	defer pixels.Free()
	k := float64(pixels.W) / float64(info.W)
	hole := make([]bool, pixels.W*pixels.H)
	part := holeOf(r.erased, k, pixels.W, pixels.H)
	for y := range part.H {
		copy(hole[(part.Y+y)*pixels.W+part.X:], part.In[y*part.W:(y+1)*part.W])
	}
	field, ok := inpaint.New(pixels, hole)
	if !ok {
		return nil, policy.No(policy.Refusal{
			Reason: policy.ReasonErasedTooMuch, Parameter: "erase", Given: d.Erase, Allowed: fmt.Sprintf("places of at most %.0f %% of the picture in all", 100*inpaint.Most),
			Detail: "the rest of the picture is too little to fill what is erased", Remedy: "erase less, or keep a part of the picture with xywh",
		})
	}
	return field, nil
}

// holeOf are the pixels of a picture of w×h that places touch, k times as large.
func holeOf(places [][][2]float64, k float64, w, h int) inpaint.Hole {
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, outline := range places {
		for _, q := range outline {
			x0, y0, x1, y1 = min(x0, q[0]*k), min(y0, q[1]*k), max(x1, q[0]*k), max(y1, q[1]*k)
		}
	}
	left, top := max(0, int(math.Floor(x0))-1), max(0, int(math.Floor(y0))-1)
	hole := inpaint.Hole{X: left, Y: top, W: min(w, int(math.Ceil(x1))+1) - left, H: min(h, int(math.Ceil(y1))+1) - top}
	if hole.W <= 0 || hole.H <= 0 {
		return inpaint.Hole{}
	}
	var path raster.Path
	for _, outline := range places {
		points := make([][2]float64, len(outline))
		for i, q := range outline {
			points[i] = [2]float64{q[0]*k - float64(left), q[1]*k - float64(top)}
		}
		if area(points) < 0 { // all the same way round, so that what overlaps is in
			slices.Reverse(points)
		}
		path.Line(points...)
	}
	mask := path.Mask(hole.W, hole.H)
	defer mask.Free()
	hole.In = make([]bool, hole.W*hole.H)
	for i := range hole.In {
		hole.In[i] = touched(mask, i%hole.W, i/hole.W)
	}
	return hole
}

// area is twice the area of an outline, negative where it goes round the other way.
func area(points [][2]float64) (sum float64) {
	for i, p := range points {
		q := points[(i+1)%len(points)]
		sum += p[0]*q[1] - q[0]*p[1]
	}
	return sum
}

// markedRegions are the places of one kind that somebody has marked in the file, in parts of the upright picture.
func markedRegions(source []byte, info codec.Info, kind metadata.RegionKind) (list [][4]float64) {
	for _, r := range metadata.RegionsOf(source, info.W, info.H) {
		if r.Kind != kind {
			continue
		}
		x0, y0 := uprightPart(info.Orientation, r.X0, r.Y0)
		x1, y1 := uprightPart(info.Orientation, r.X1, r.Y1)
		list = append(list, [4]float64{min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1)})
	}
	return list
}

// marked is the box around what somebody has marked in the file: of faces, those; else the subject, the faces where there is none,
// what else is marked where there are none either.
func marked(source []byte, info codec.Info, faces bool) (x0, y0, x1, y1 float64, ok bool) {
	kinds := []metadata.RegionKind{metadata.SubjectRegion, metadata.FaceRegion, metadata.OtherRegion}
	if faces {
		kinds = kinds[1:2]
	}
	for _, kind := range kinds {
		list := markedRegions(source, info, kind)
		if len(list) == 0 {
			continue
		}
		x0, y0, x1, y1 = list[0][0], list[0][1], list[0][2], list[0][3]
		for _, r := range list[1:] {
			x0, y0, x1, y1 = min(x0, r[0]), min(y0, r[1]), max(x1, r[2]), max(y1, r[3])
		}
		return x0, y0, x1, y1, true
	}
	return 0, 0, 1, 1, false
}

// markedIn is the part of the turned picture, w×h in parts of its sides, around what somebody has marked in the file.
func markedIn(source []byte, info codec.Info, p geometry.Plan, faces bool, w, h float64) (subject.Box, bool) {
	x0, y0, x1, y1, ok := marked(source, info, faces)
	if !ok {
		return subject.Box{}, false
	}
	uw, uh := info.Upright()
	u0, v0, u1, v1, ok := p.InTurned(x0*float64(uw), y0*float64(uh), x1*float64(uw), y1*float64(uh))
	return subject.Box{X0: u0, Y0: v0, X1: u1, Y1: v1}, ok
}

// placeIn is where a focus lies in the turned picture, in parts of its sides; ok is false where that is cut off.
func placeIn(info codec.Info, p geometry.Plan, said declare.Focus) (subject.Box, bool) {
	w, h := info.Upright()
	x0, y0, x1, y1 := said.Box()
	const point = 1e-6 // a point is a box, too
	u0, v0, u1, v1, ok := p.InTurned((x0-point)*float64(w), (y0-point)*float64(h), (x1+point)*float64(w), (y1+point)*float64(h))
	return subject.Box{X0: u0, Y0: v0, X1: u1, Y1: v1}, ok
}

// facesOf finds the faces in the whole upright picture, or takes those that somebody has marked in the file; anyhow, it does both,
// and finds those too that lie on their side, and those that may be none. small is a copy of the picture, face.Side at most, where there is
// one already.
func facesOf(known *Findings, source []byte, info codec.Info, anyhow bool, small *raster.RGBA) ([]face.Face, error) {
	var list []face.Face
	for _, r := range markedRegions(source, info, metadata.FaceRegion) {
		list = append(list, face.Face{X0: r[0], Y0: r[1], X1: r[2], Y1: r[3], Sure: 1})
	}
	if len(list) > 0 && !anyhow {
		slices.SortStableFunc(list, func(a, b face.Face) int { return cmp.Compare((b.X1-b.X0)*(b.Y1-b.Y0), (a.X1-a.X0)*(a.Y1-a.Y0)) })
		return list, nil
	}
	more, err := found(known, source, fmt.Sprint(info.Orientation, anyhow), bytesOfFaces, func() ([]face.Face, error) {
		pixels := small
		if pixels == nil {
			w, h := info.Upright()
			plan, _ := geometry.New(geometry.Size{W: w, H: h}, declare.Declarations{})
			var err error
			if pixels, err = smallCopy(source, info, plan, face.Side); err != nil {
				return nil, err
			}
			defer pixels.Free()
		}
		if anyhow {
			return face.FindAnyhow(pixels), nil
		}
		return face.Find(pixels), nil
	})
	return append(list, more...), err
}

// aroundFaces is the part of the picture around its faces, and so much room; the whole where there are none.
func aroundFaces(known *Findings, source []byte, info codec.Info, room float64) (declare.Region, error) {
	faces, err := facesOf(known, source, info, false, nil)
	if err != nil || len(faces) == 0 {
		return declare.Region{}, err
	}
	w, h := info.Upright()
	x0, y0, x1, y1 := face.Kept(faces, 1, 1)
	at := func(middle, half float64, side int) (first, length declare.Length) {
		low, high := max(0, middle-half), min(1, middle+half)
		from, to := math.Floor(low*float64(side)+1e-6), math.Ceil(high*float64(side)-1e-6)
		return declare.Length{Px: from}, declare.Length{Px: to - from}
	}
	r := declare.Region{Declared: true}
	r.X, r.W = at((x0+x1)/2, (x1-x0)/2*room, w)
	r.Y, r.H = at((y0+y1)/2, (y1-y0)/2*room, h)
	return r, nil
}

// storedPlace is where a place of the upright picture lies in the stored one, in pixels of either.
func storedPlace(info codec.Info, p [2]float64) [2]float64 {
	x, y := p[0], p[1]
	o := info.Orientation
	if o >= 5 {
		x, y = y, x
	}
	if o == 2 || o == 3 || o == 7 || o == 8 {
		x = float64(info.W) - x
	}
	if o == 3 || o == 4 || o == 6 || o == 7 {
		y = float64(info.H) - y
	}
	return [2]float64{x, y}
}

// drawn makes places of a drawing those of the part of it that was drawn on w×h pixels.
func (r *revision) drawn(part codec.Part, w, h int) {
	if part == (codec.Part{}) {
		return
	}
	kx, ky := float64(w)/part.W, float64(h)/part.H
	move := func(outline [][2]float64) {
		for i, p := range outline {
			outline[i] = [2]float64{(p[0] - part.X) * kx, (p[1] - part.Y) * ky}
		}
	}
	for _, a := range r.hidden {
		move(a.outline)
	}
	for _, outline := range r.erased {
		move(outline)
	}
	r.from = [2]float64{part.X * kx, part.Y * ky}
	r.whole = [2]float64{r.whole[0] * kx, r.whole[1] * ky}
}

// apply alters a picture that was decoded at scale eighths: premultiplied, as it is stored.
func (r *revision) apply(p *raster.RGBA, scale int) { r.applyAt(p, float64(scale)/8) }

func (r *revision) applyAt(p *raster.RGBA, k float64) {
	for _, a := range r.hidden {
		hide(p, a, k)
	}
	if r.field != nil {
		r.field.Fill(p, r.from[0]*k, r.from[1]*k, r.whole[0]*k, r.whole[1]*k, holeOf(r.erased, k, p.W, p.H))
	}
	if r.matte != nil {
		r.matte.Cut(p, r.from[0]*k, r.from[1]*k, r.whole[0]*k, r.whole[1]*k)
	}
}

// cells is how many spots of colour are left along the longer side of what is hidden.
const cells = 4

// hide leaves of a place no more than a few spots of colour, which run into each other, or fills it. Every pixel that the
// outline touches is hidden.
func hide(p *raster.RGBA, a hidden, k float64) {
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, q := range a.outline {
		x0, y0, x1, y1 = min(x0, q[0]*k), min(y0, q[1]*k), max(x1, q[0]*k), max(y1, q[1]*k)
	}
	left, top, right, bottom := max(0, int(math.Floor(x0))), max(0, int(math.Floor(y0))), min(p.W, int(math.Ceil(x1))), min(p.H, int(math.Ceil(y1)))
	if right <= left || bottom <= top {
		return
	}
	w, h := right-left, bottom-top
	var path raster.Path
	var points [][2]float64
	for _, q := range a.outline {
		points = append(points, [2]float64{q[0]*k - float64(left), q[1]*k - float64(top)})
	}
	path.Line(points...)
	inside := path.Mask(w, h)
	defer inside.Free()
	cols, rows := cells, cells
	if w > h {
		rows = max(1, (cells*h+w/2)/w)
	} else {
		cols = max(1, (cells*w+h/2)/h)
	}
	cols, rows = min(cols, w), min(rows, h)
	spots := raster.ResampleRGBA(p.View(left, top, right, bottom), raster.Axis{Step: float64(w) / float64(cols), Len: cols}, raster.Axis{Step: float64(h) / float64(rows), Len: rows})
	spots.Opaque = p.Opaque
	over := raster.ResampleRGBA(spots, raster.Axis{Step: float64(cols) / float64(w), Len: w}, raster.Axis{Step: float64(rows) / float64(h), Len: h})
	spots.Free()
	defer over.Free()
	fill := [4]uint8{a.fill.R, a.fill.G, a.fill.B, 255}
	for y := range h {
		to, from := p.Row(top + y)[4*left:], over.Row(y)
		for x := range w {
			if !touched(inside, x, y) {
				continue
			}
			if a.fill.Declared {
				copy(to[4*x:4*x+4], fill[:])
			} else {
				copy(to[4*x:4*x+4], from[4*x:])
			}
		}
	}
}

// touched reports whether a mask covers a pixel or one beside it: less than a 255th of one counts too.
func touched(m raster.Plane, x, y int) bool {
	for dy := max(0, y-1); dy <= min(m.H-1, y+1); dy++ {
		for dx := max(0, x-1); dx <= min(m.W-1, x+1); dx++ {
			if m.Pix[dy*m.Stride+dx] != 0 {
				return true
			}
		}
	}
	return false
}
