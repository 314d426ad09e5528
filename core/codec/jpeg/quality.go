package jpeg

import "encoding/binary"

// luminance is the table of ITU-T T.81, annex K.1, in the order in which files have it (zigzag).
var luminance = [64]int{
	16, 11, 12, 14, 12, 10, 16, 14, 13, 14, 18, 17, 16, 19, 24, 40, 26, 24, 22, 22, 24, 49, 35, 37, 29, 40, 58, 51, 61, 60, 57, 51,
	56, 55, 64, 72, 92, 78, 64, 68, 87, 69, 55, 56, 80, 109, 81, 87, 95, 98, 103, 104, 103, 62, 77, 113, 121, 112, 100, 120, 92, 101, 103, 99,
}

// Quality is the quality on libjpeg's scale whose table for luma is nearest to the file's own, 1–100; 0 where the
// file has none that can be read.
func Quality(data []byte) int {
	for at := 2; at+4 <= len(data) && data[at] == 0xff; {
		marker, n := data[at+1], int(binary.BigEndian.Uint16(data[at+2:]))
		if n < 2 || at+2+n > len(data) || marker == 0xda {
			return 0
		}
		if marker == 0xdb {
			for body := data[at+4 : at+2+n]; len(body) >= 65; {
				wide := int(body[0] >> 4)
				size := 64 * (1 + wide)
				if len(body) < 1+size {
					return 0
				}
				if body[0]&15 == 0 {
					return nearestQuality(body[1:1+size], wide == 1)
				}
				body = body[1+size:]
			}
		}
		at += 2 + n
	}
	return 0
}

func nearestQuality(table []byte, wide bool) int {
	have, standard := 0, 0
	for i, v := range luminance {
		q := int(table[min(i, len(table)-1)])
		if wide {
			q = int(binary.BigEndian.Uint16(table[2*i:]))
		}
		if q < 255 || wide { // where it isn't cut off
			have += q
			standard += v
		}
	}
	if standard == 0 {
		return 1
	}
	// libjpeg scales by 5000÷q below 50, by 200−2q from there on, in hundredths.
	percent := float64(have) * 100 / float64(standard)
	if percent > 100 {
		return max(1, int(5000/percent+0.5))
	}
	return min(100, int((200-percent)/2+0.5))
}
