package prose

import (
	"bytes"
	"regexp"
)

// reference matches a link to an entry in HTML and CommonMark: ref: and the entry's id.
var reference = regexp.MustCompile(`( href="|\]\(<?)ref:([a-z0-9][a-z0-9-]{0,63})("|)`)

// resolveLinks replaces the links to entries by the entries' paths. A link to an entry
// without a path becomes one that leads nowhere.
func resolveLinks(form []byte, path func(id string) string) []byte {
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
		}
		return m[1]
	})
}
