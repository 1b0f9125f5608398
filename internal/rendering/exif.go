package rendering

import (
	"bytes"
	"encoding/binary"
)

// orientation reads the EXIF orientation of a JPEG; 1 where there is none.
func orientation(src []byte) int {
	for at := 2; at+4 <= len(src) && src[at] == 0xff; {
		marker, size := src[at+1], int(binary.BigEndian.Uint16(src[at+2:]))
		end := at + 2 + size
		if size < 2 || end > len(src) || marker == 0xda {
			break
		}
		if body := src[at+4 : end]; marker == 0xe1 && bytes.HasPrefix(body, []byte("Exif\x00\x00")) {
			return tiffOrientation(body[6:])
		}
		at = end
	}
	return 1
}

// tiffOrientation reads the orientation out of the first directory of a TIFF header.
func tiffOrientation(src []byte) int {
	if len(src) < 8 {
		return 1
	}
	var order binary.ByteOrder = binary.LittleEndian
	if string(src[:2]) == "MM" {
		order = binary.BigEndian
	}
	const tag, entry = 0x0112, 12
	at := int(order.Uint32(src[4:]))
	if at < 8 || at+2 > len(src) {
		return 1
	}
	n := int(order.Uint16(src[at:]))
	for i := range n {
		from := at + 2 + i*entry
		if from+entry > len(src) {
			break
		}
		if order.Uint16(src[from:]) == tag {
			if v := int(order.Uint16(src[from+8:])); v >= 1 && v <= 8 {
				return v
			}
		}
	}
	return 1
}
