package memory

// A sketch counts how often hashes were added, up to 255 and at times too high. The four counters of a hash lie in one block of 64, each
// in a quarter of its own. All counts are halved after two hundred additions for each value that it was made for, so that what was
// asked for long ago counts less.
type sketch struct {
	blocks [][64]uint8
	added  int
	most   int // additions until all is halved
}

const (
	leastEntries    = 1024
	countersAnEntry = 32 // at least: 8 in each quarter
	history         = 200
)

func newSketch(entries int) *sketch {
	s := &sketch{blocks: make([][64]uint8, 1)}
	s.fit(entries)
	return s
}

// fit makes it large enough for so many values. What was counted stays.
func (s *sketch) fit(entries int) {
	for len(s.blocks)*64 < entries*countersAnEntry {
		s.blocks = append(s.blocks, s.blocks...) // a hash's block has the same counts as the one that it leaves
	}
	s.most = max(s.most, entries*history)
}

// places are a hash's block and its counters in it.
func (s *sketch) places(hash uint64) (block *[64]uint8, at [4]uint8) {
	b := uint8(hash >> 56)
	c := uint8(hash >> 48)
	return &s.blocks[hash&uint64(len(s.blocks)-1)], [4]uint8{b & 15, 16 | b>>4, 32 | c&15, 48 | c>>4}
}

// add counts a hash once more.
func (s *sketch) add(hash uint64) {
	block, at := s.places(hash)
	n := min(block[at[0]], block[at[1]], block[at[2]], block[at[3]])
	if n < 255 {
		for _, i := range at {
			if block[i] == n {
				block[i]++
			}
		}
	}
	if s.added++; s.added >= s.most {
		s.added /= 2
		for i := range s.blocks {
			for j := range s.blocks[i] {
				s.blocks[i][j] /= 2
			}
		}
	}
}

// of is how often a hash was added.
func (s *sketch) of(hash uint64) uint8 {
	block, at := s.places(hash)
	return min(block[at[0]], block[at[1]], block[at[2]], block[at[3]])
}
