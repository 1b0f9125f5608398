package rendering

import (
	"bytes"
	"encoding/binary"
	"io"
	"os"
)

// headBytes is how much of a picture is looked at for what it says of itself.
const headBytes = 1 << 20

// headerOf reads what a JPEG says of itself, without a child process, which takes a tenth of a second
// to start; known is false where it takes a decoder to tell.
func headerOf(path string) (f Facts, known bool) {
	file, err := os.Open(path)
	if err != nil {
		return f, false
	}
	defer file.Close()
	src, err := io.ReadAll(io.LimitReader(file, headBytes))
	if err != nil || len(src) < 4 || src[0] != 0xff || src[1] != 0xd8 {
		return f, false
	}
	for at := 2; at+4 <= len(src) && src[at] == 0xff; {
		marker, size := src[at+1], int(binary.BigEndian.Uint16(src[at+2:]))
		end := at + 2 + size
		if size < 2 || end > len(src) {
			return f, false
		}
		body := src[at+4 : end]
		switch {
		case marker == 0xe2 && bytes.HasPrefix(body, []byte("ICC_PROFILE\x00")):
			f.Profiled = true
		case marker >= 0xc0 && marker <= 0xcf && marker != 0xc4 && marker != 0xc8 && marker != 0xcc && len(body) >= 6:
			f.Height, f.Width = int(binary.BigEndian.Uint16(body[1:])), int(binary.BigEndian.Uint16(body[3:]))
			f.Frames = 1
			return f.oriented(orientation(src)), f.Width > 0 && f.Height > 0
		}
		at = end
	}
	return f, false
}

// oriented are the facts of a picture that is to be turned as its EXIF orientation says.
func (f Facts) oriented(orientation int) Facts {
	if orientation >= 5 {
		f.Width, f.Height = f.Height, f.Width
	}
	f.Turned = orientation > 1
	return f
}

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
