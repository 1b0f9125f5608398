package prose

import (
	"bytes"
	"regexp"
)

// reference matches a link to an entry in any of the forms: ref: and the entry's
// id.
var reference = regexp.MustCompile(`( href="|"href":"|\]\()ref:([a-z0-9][a-z0-9-]{0,63})("|)`)

// Entries calls found for the id of every entry that a tree, as Forms gives it,
// links to.
func Entries(tree any, found func(id string)) {
	node, _ := tree.(map[string]any)
	if id, ok := node["entry"].(string); ok {
		found(id)
	}
	children, _ := node["children"].([]any)
	for _, c := range children {
		Entries(c, found)
	}
}

// Follow replaces the links to entries by the entries' paths. A link to an entry
// without a path becomes one that leads nowhere.
func Follow(form []byte, path func(id string) string) []byte {
	if !bytes.Contains(form, []byte("ref:")) {
		return form
	}
	return reference.ReplaceAllFunc(form, func(link []byte) []byte {
		m := reference.FindSubmatch(link)
		to := path(string(m[2]))
		switch {
		case to != "":
			return bytes.Join([][]byte{m[1], m[3]}, []byte(to))
		case m[1][0] == ' ':
			return nil // an anchor without an address
		case m[1][0] == '"':
			return []byte(`"href":""`)
		}
		return m[1]
	})
}
