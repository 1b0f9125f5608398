package content

import "slices"

// Mirrored puts, in fields, the files in the place of addresses that mirroring makes of what is new.
func Mirrored(v Fields) Fields {
	return MirroredAs(v, func(address string) string { return MakeID("mirrored", "file", address) })
}

// MirroredAs puts, in fields, files in the place of the addresses that they are to be mirrored from.
func MirroredAs(v Fields, of func(address string) string) Fields {
	if v == nil {
		return nil
	}
	out, _ := mirroredValue(map[string]any(v), of).(map[string]any)
	return out
}

func mirroredValue(v any, of func(address string) string) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			if address, is := inner.(string); is && name == MirrorMark {
				out["file"] = of(address)
				continue
			}
			out[name] = mirroredValue(inner, of)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = mirroredValue(v[i], of)
		}
		return out
	}
	return v
}

// HasMirrors tells whether a value names files that are to be mirrored.
func HasMirrors(v any) bool {
	switch v := v.(type) {
	case Fields:
		return HasMirrors(map[string]any(v))
	case map[string]any:
		for name, inner := range v {
			if name == MirrorMark || HasMirrors(inner) {
				return true
			}
		}
	case []any:
		return slices.ContainsFunc(v, HasMirrors)
	}
	return false
}
