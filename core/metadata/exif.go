package metadata

import "encoding/binary"

// Orientation reads the orientation out of Exif data (a TIFF structure, Exif 2.32 section 4.6.4): 1–8, or 1
// where there is none or the data is broken. It looks at the first directory only, which is where it is.
func Orientation(tiff []byte) int {
	if len(tiff) < 8 {
		return 1
	}
	var order binary.ByteOrder
	switch string(tiff[:4]) {
	case "II*\x00":
		order = binary.LittleEndian
	case "MM\x00*":
		order = binary.BigEndian
	default:
		return 1
	}
	at := int64(order.Uint32(tiff[4:]))
	if at+2 > int64(len(tiff)) {
		return 1
	}
	count := int64(order.Uint16(tiff[at:]))
	const tagOrientation, typeShort, entry = 0x0112, 3, 12
	for i := range count {
		e := at + 2 + i*entry
		if e+entry > int64(len(tiff)) {
			return 1
		}
		if order.Uint16(tiff[e:]) == tagOrientation && order.Uint16(tiff[e+2:]) == typeShort {
			if v := int(order.Uint16(tiff[e+8:])); v >= 1 && v <= 8 {
				return v
			}
			return 1
		}
	}
	return 1
}
