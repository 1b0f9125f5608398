package content

import (
	"fmt"
	"math"
	"net/url"
	"slices"
	"strings"

	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
)

// FileID returns the id of the file that a value of the kind File refers to, "" if it refers to none.
// An id alone is such a value, too, until it is stored.
func FileID(v any) string {
	if id, ok := v.(string); ok {
		return id
	}
	value, _ := v.(map[string]any)
	id, _ := value["file"].(string)
	return id
}

// FileIDs lists the files that the fields of an entry refer to, each once.
func FileIDs(t *model.Type, fields Fields) []string {
	var out []string
	for _, leaf := range Leaves(t, fields, false) {
		if leaf.Field.Kind != model.File {
			continue
		}
		if id := FileID(leaf.Value); id != "" && !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	return out
}

// MirrorMark is the member of a value of the kind File by which an origin's mapping says that what
// is at an address is to be mirrored. It is never stored.
const MirrorMark = "mirror"

// FileNames lists what is said of a file where nothing is asked for by name, in the order of delivery;
// of one that lies elsewhere nothing else is known.
var FileNames = []string{"url", "alt", "width", "height", "mediaType", "bytes"}

// ownDescription are the members by which a value describes its file for its own use.
var ownDescription = []string{"alt", "focus"}

func (c *checker) file(_ *model.Field, path string, v any) {
	value, ok := v.(map[string]any)
	id, isText := value["file"].(string)
	if ok && value["file"] != nil {
		if !isText || !idForm.MatchString(id) {
			c.kind(path+".file", "the id of a file", value["file"])
		}
		for name, v := range value {
			switch name {
			case "file":
			case "alt":
				if s, isText := v.(string); !isText || len(s) > 4000 {
					c.kind(path+".alt", "a text of at most 4000 bytes", v)
				}
			case "focus":
				if wrong := checkFocus(v); wrong != "" {
					c.add(path+".focus", "focus", "%s", wrong)
				}
			default:
				c.add(path+"."+name, "unknown", "of a file of the library only %s are said here, not %s%s",
					strings.Join(ownDescription, " and "), name, strictyaml.DidYouMean(name, ownDescription))
			}
		}
		return
	}
	address, _ := value["url"].(string)
	if u, err := url.Parse(address); !ok || err != nil || address == "" || !isFileAddress(address, u) {
		c.add(
			path,
			"kind",
			`a file is written {"file": id of a file} or, if it lies elsewhere, {"url": http address, "alt": description}`,
		)
		return
	}
	for name := range value {
		if !slices.Contains(FileNames, name) {
			c.add(
				path+"."+name,
				"unknown",
				"a file that lies elsewhere has %s, not %s",
				strings.Join(FileNames, ", "),
				name,
			)
		}
	}
}

// checkFocus says what is wrong with a focal region, "" if nothing is.
func checkFocus(v any) string {
	region, ok := v.(map[string]any)
	if !ok || len(region) != len(model.FocusFields) {
		return "a focal region has x, y, width and height, as fractions of the picture"
	}
	var n [4]float64
	for i, name := range model.FocusFields {
		f, isNumber := region[name].(float64)
		if !isNumber || math.IsNaN(f) || f < 0 || f > 1 {
			return fmt.Sprintf("%s of a focal region is a fraction of the picture, from 0 to 1", name)
		}
		n[i] = f
	}
	const slack = 1e-6
	if n[2] <= 0 || n[3] <= 0 || n[0]+n[2] > 1+slack || n[1]+n[3] > 1+slack {
		return "a focal region lies within the picture and is larger than nothing"
	}
	return ""
}

// checkFile checks an entry of the built-in type as a whole.
func (c *checker) checkFile(fields Fields) {
	if focus := fields["focus"]; focus != nil {
		if wrong := checkFocus(focus); wrong != "" {
			c.add("fields.focus", "focus", "%s", wrong)
		}
	}
	if name, _ := fields["name"].(string); name != "" && CleanFileName(name) != name {
		c.add(
			"fields.name",
			"name",
			"%q is no name of a file; without path parts and control characters it is %q",
			name,
			CleanFileName(name),
		)
	}
	if hash, _ := fields["hash"].(string); hash != "" && !ValidHash(hash) {
		c.add("fields.hash", "hash", "the hash is a SHA-256 in 64 small hexadecimal digits")
	}
}

// ValidHash tells whether a text can be the SHA-256 of a file: 64 small hexadecimal digits.
func ValidHash(s string) bool {
	return len(s) == 64 &&
		!strings.ContainsFunc(s, func(r rune) bool { return (r < '0' || r > '9') && (r < 'a' || r > 'f') })
}

// CleanFileName returns a name as files have it: the last part of a path, without control characters
// and what is special to some file system, at most 200 bytes; "file" where nothing is left.
func CleanFileName(name string) string {
	name = strings.ToValidUTF8(name, "")
	if i := strings.LastIndexAny(name, `/\`); i >= 0 {
		name = name[i+1:]
	}
	name = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || strings.ContainsRune(`<>:"|?*`, r) ||
			r >= 0x202a && r <= 0x202e ||
			r >= 0x2066 && r <= 0x2069 {
			return -1
		}
		return r
	}, name)
	name = strings.Trim(name, " .")
	for len(name) > 200 {
		// The ending stays.
		dot := strings.LastIndexByte(name, '.')
		if dot < 1 || len(name)-dot > 20 {
			dot = len(name)
		}
		cut := []rune(name[:dot])
		name = string(cut[:len(cut)-1]) + name[dot:]
	}
	if name == "" {
		return "file"
	}
	return name
}

// FileValue is a file as its documents and those of entries that show it deliver it, made of the
// fields of its own document. Draft says that it has not been published.
func FileValue(id string, fields Fields, draft bool) map[string]any {
	out := map[string]any{"id": id}
	for _, name := range fileMembers {
		out[name] = fields[name]
	}
	if fields["decorative"] == true {
		out["alt"] = ""
	}
	if draft {
		out["draft"] = true
	}
	return out
}

var fileMembers = []string{
	"alt", "width", "height", "mediaType", "bytes", "caption", "credit", "color", "focus", "decorative", "name", "frames",
	"placeholder", "hash",
}

// file returns the delivered form of a value of the kind File.
func (l *layout) file(v any) any {
	in, _ := v.(map[string]any)
	id := FileID(in)
	if id == "" {
		out := map[string]any{}
		for _, name := range FileNames {
			out[name] = in[name]
		}
		return out
	}
	l.targets = append(l.targets, l.top+"/"+id)
	if l.around.File == nil {
		return nil
	}
	held := l.around.File(l.edition, l.locale, id)
	if held == nil {
		return nil
	}
	out := make(map[string]any, len(held))
	for name, v := range held {
		out[name] = v
	}
	for _, name := range ownDescription {
		if in[name] != nil {
			out[name] = in[name]
		}
	}
	return out
}
