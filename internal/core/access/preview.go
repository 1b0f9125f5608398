package access

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"time"
)

// previewPrefix begins the token of a preview link.
const previewPrefix = "ubv_"

// ErrPreviewOver is the error of a preview link whose time is over.
var ErrPreviewOver = errors.New("the preview link has expired; make a new one")

// ErrPreviewRevoked is the error of a preview link that was revoked, or whose entry or
// maker is gone.
var ErrPreviewRevoked = errors.New("the preview link has been revoked; ask for a new one")

// PreviewLink lets who has it read one entry, and what that shows, in preview. It is
// signed, so that one that was made up is known without looking it up; what it reaches
// is kept under its id.
type PreviewLink struct {
	ID      string    `json:"id"`
	Entry   string    `json:"entry"`
	Expires time.Time `json:"expires"`
}

// Token writes the link, signed with the environment's secret (HMAC-SHA-256).
func (l PreviewLink) Token(secret []byte) string {
	src, _ := json.Marshal(l) // a text and a time
	payload := base64.RawURLEncoding.EncodeToString(src)
	return previewPrefix + payload + "." + sign(secret, payload)
}

// IsPreviewLink tells whether a text has the form of a link's token.
func IsPreviewLink(text string) bool { return strings.HasPrefix(text, previewPrefix) }

// ReadPreviewLink reads what Token has written. Its error is ErrMalformed or
// ErrPreviewOver.
func ReadPreviewLink(token string, secret []byte, now time.Time) (PreviewLink, error) {
	var l PreviewLink
	payload, signature, _ := strings.Cut(strings.TrimPrefix(token, previewPrefix), ".")
	if !hmac.Equal([]byte(signature), []byte(sign(secret, payload))) {
		return l, ErrMalformed
	}
	src, err := base64.RawURLEncoding.DecodeString(payload)
	if err != nil || json.Unmarshal(src, &l) != nil {
		return l, ErrMalformed
	}
	if !now.Before(l.Expires) {
		return l, ErrPreviewOver
	}
	return l, nil
}

func sign(secret []byte, payload string) string {
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(previewPrefix + payload))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil))
}
