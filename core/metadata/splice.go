package metadata

// A Splice is a run of a file that is made of another: N bytes of that one from From on, or, where Put has any, its bytes.
type Splice struct {
	From int64  `json:"from,omitempty"`
	N    int64  `json:"n,omitempty"`
	Put  []byte `json:"put,omitempty"`
}

// Len is how many bytes the splice makes.
func (s Splice) Len() int64 {
	if len(s.Put) > 0 {
		return int64(len(s.Put))
	}
	return s.N
}

// splices puts a file together of runs of another.
type splices []Splice

// keep adds the other file's bytes from..to.
func (s *splices) keep(from, to int) {
	if from >= to {
		return
	}
	if k := len(*s); k > 0 && len((*s)[k-1].Put) == 0 && (*s)[k-1].From+(*s)[k-1].N == int64(from) {
		(*s)[k-1].N += int64(to - from)
		return
	}
	*s = append(*s, Splice{From: int64(from), N: int64(to - from)})
}

// put adds bytes of its own.
func (s *splices) put(b ...byte) {
	if len(b) == 0 {
		return
	}
	if k := len(*s); k > 0 && len((*s)[k-1].Put) > 0 {
		(*s)[k-1].Put = append((*s)[k-1].Put, b...)
		return
	}
	*s = append(*s, Splice{Put: append([]byte{}, b...)})
}

// changed adds from..to of a copy in which some bytes were changed in place.
func (s *splices) changed(data, copied []byte, from, to int) {
	for from < to {
		n := from
		for n < to && data[n] == copied[n] {
			n++
		}
		s.keep(from, n)
		for from = n; n < to && data[n] != copied[n]; n++ {
		}
		s.put(copied[from:n]...)
		from = n
	}
}

// apply makes the file.
func (s splices) apply(data []byte) []byte {
	n := int64(0)
	for _, x := range s {
		n += x.Len()
	}
	out := make([]byte, 0, n)
	for _, x := range s {
		if len(x.Put) > 0 {
			out = append(out, x.Put...)
		} else {
			out = append(out, data[x.From:x.From+x.N]...)
		}
	}
	return out
}

// CheckSplices says whether splices that somebody else has made are of a file of size bytes, and how many they make.
func CheckSplices(all []Splice, size int64) (n int64, ok bool) {
	for _, s := range all {
		if len(s.Put) == 0 && (s.From < 0 || s.N <= 0 || s.From > size || s.N > size-s.From) {
			return 0, false
		}
		n += s.Len()
	}
	return n, n > 0 && n <= 2*size+1<<20
}
