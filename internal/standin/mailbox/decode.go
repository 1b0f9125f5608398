package mailbox

import (
	"encoding/base64"
	"io"
	"mime/quotedprintable"
	"net/mail"
	"strings"
)

// decoded reads the text of a message without its transfer encoding.
func decoded(m *mail.Message) io.Reader {
	switch strings.ToLower(m.Header.Get("Content-Transfer-Encoding")) {
	case "quoted-printable":
		return quotedprintable.NewReader(m.Body)
	case "base64":
		return base64.NewDecoder(base64.StdEncoding, m.Body)
	}
	return m.Body
}
