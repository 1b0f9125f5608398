package strictyaml

import (
	"fmt"
	"strconv"
	"strings"
)

// Bytes is a size written as in "64KB", "8MB" or "1GB", in powers of 1,024. It reads
// and writes as text in YAML and JSON.
type Bytes int64

var byteUnits = []struct {
	suffix string
	bytes  int64
}{{"GB", 1 << 30}, {"MB", 1 << 20}, {"KB", 1 << 10}, {"", 1}}

// UnmarshalText implements encoding.TextUnmarshaler.
func (b *Bytes) UnmarshalText(text []byte) error {
	s := strings.ToUpper(strings.TrimSpace(string(text)))
	for _, u := range byteUnits {
		digits, ok := strings.CutSuffix(s, u.suffix)
		if !ok {
			continue
		}
		n, err := strconv.ParseInt(strings.TrimSpace(digits), 10, 64)
		if err == nil && n > 0 && n <= (1<<50)/u.bytes {
			*b = Bytes(n * u.bytes)
			return nil
		}
		break
	}
	return fmt.Errorf("%q is no number of bytes; write it as in 256MB", string(text))
}

// String writes the size with the largest unit that divides it.
func (b Bytes) String() string {
	for _, u := range byteUnits {
		if b != 0 && int64(b)%u.bytes == 0 {
			return strconv.FormatInt(int64(b)/u.bytes, 10) + u.suffix
		}
	}
	return strconv.FormatInt(int64(b), 10)
}

// MarshalText implements encoding.TextMarshaler.
func (b Bytes) MarshalText() ([]byte, error) { return []byte(b.String()), nil }
