package vp8

// forwardDCT is the forward transform of what decoders invert (RFC 6386, section 14.3), in floating point: twice the
// orthonormal 4×4 DCT. Coefficients come column by column.
func forwardDCT(in *[4][4]float32, out *[16]float32) {
	const c1, c2 = 1.3065629648763766, 0.541196100146197 // √2·cos(π/8), √2·sin(π/8)
	var t [4][4]float32
	for x := range 4 {
		a, b, c, d := in[0][x]+in[3][x], in[1][x]+in[2][x], in[1][x]-in[2][x], in[0][x]-in[3][x]
		t[0][x], t[1][x], t[2][x], t[3][x] = a+b, c1*d+c2*c, a-b, c2*d-c1*c
	}
	for y := range 4 {
		r := &t[y]
		a, b, c, d := r[0]+r[3], r[1]+r[2], r[1]-r[2], r[0]-r[3]
		out[y], out[4+y], out[8+y], out[12+y] = (a+b)/2, (c1*d+c2*c)/2, (a-b)/2, (c2*d-c1*c)/2
	}
}

// inverseDCT adds the inverse transform of coefficients in raster order to a prediction (RFC 6386, section 14.3).
func inverseDCT(c *[16]int32, predicted []uint8, step int, out []uint8, stride int) {
	const c1, c2 = 20091, 35468
	var t [16]int32
	for x := range 4 {
		a, b := c[x]+c[8+x], c[x]-c[8+x]
		d := c[4+x]*c2>>16 - (c[12+x] + c[12+x]*c1>>16)
		e := c[4+x] + c[4+x]*c1>>16 + c[12+x]*c2>>16
		t[x], t[4+x], t[8+x], t[12+x] = a+e, b+d, b-d, a-e
	}
	for y := range 4 {
		r := t[4*y : 4*y+4]
		a, b := r[0]+r[2]+4, r[0]-r[2]+4
		d := r[1]*c2>>16 - (r[3] + r[3]*c1>>16)
		e := r[1] + r[1]*c1>>16 + r[3]*c2>>16
		p, o := predicted[y*step:y*step+4], out[y*stride:y*stride+4]
		o[0] = clamp(int32(p[0]) + (a+e)>>3)
		o[1] = clamp(int32(p[1]) + (b+d)>>3)
		o[2] = clamp(int32(p[2]) + (b-d)>>3)
		o[3] = clamp(int32(p[3]) + (a-e)>>3)
	}
}

// forwardWHT is the Walsh–Hadamard transform of a macroblock's sixteen DC coefficients, in place.
func forwardWHT(v *[16]float32) {
	sums(v)
	for i := range v {
		v[i] /= 2
	}
}

// inverseWHT inverts it as decoders do (RFC 6386, section 14.3).
func inverseWHT(v *[16]int32) {
	sums(v)
	for i := range v {
		v[i] = (v[i] + 3) >> 3
	}
}

// sums are the sums and differences of four by four, which are their own inverse but for a factor of 16.
func sums[T int32 | float32](v *[16]T) {
	for _, step := range [2][2]int{{1, 4}, {4, 1}} { // columns, then rows
		for i := range 4 {
			at, by := i*step[0], step[1]
			a, b := v[at]+v[at+3*by], v[at+by]+v[at+2*by]
			c, d := v[at+by]-v[at+2*by], v[at]-v[at+3*by]
			v[at], v[at+by], v[at+2*by], v[at+3*by] = a+b, d+c, a-b, d-c
		}
	}
}
