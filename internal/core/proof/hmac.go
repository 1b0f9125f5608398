package proof

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"slices"
	"strings"
	"time"
)

// HMAC is a signature in a header, made with a shared secret over the body.
type HMAC struct {
	// Header has the signature.
	Header string `yaml:"header" json:"header"`
	// Algorithm is sha256, sha512 or sha1; the default is sha256.
	Algorithm string `yaml:"algorithm" json:"algorithm,omitzero"`
	// Encoding is hex or base64; the default is hex.
	Encoding string `yaml:"encoding" json:"encoding,omitzero"`
	// Prefix stands before the signature, as in sha256=.
	Prefix string `yaml:"prefix" json:"prefix,omitzero"`
	// TimestampHeader has the time of sending, in seconds or milliseconds since 1970 or by
	// RFC 3339; it may be Tolerance from now.
	TimestampHeader string `yaml:"timestampHeader" json:"timestampHeader,omitzero"`
	// Signs is what is signed: body, which is the default, or a text with {timestamp} and
	// {body} in it.
	Signs string `yaml:"signs" json:"signs,omitzero"`
	// Secret holds the secrets, any of which will do.
	Secret Texts `yaml:"secret" json:"secret"`
}

var algorithms = map[string]func() hash.Hash{
	"": sha256.New, "sha1": sha1.New, "sha256": sha256.New, "sha512": sha512.New,
}

func (h *HMAC) prove(m *Message, now time.Time) error {
	given := m.Header.Get(h.Header)
	if given == "" {
		return fmt.Errorf("the header %s is needed", h.Header)
	}
	text, ok := strings.CutPrefix(given, h.Prefix)
	if !ok {
		return fmt.Errorf("the header %s does not begin with %q", h.Header, h.Prefix)
	}
	var signature []byte
	var err error
	if h.Encoding == "base64" {
		if signature, err = base64.StdEncoding.DecodeString(text); err != nil {
			signature, err = base64.RawURLEncoding.DecodeString(strings.TrimRight(text, "="))
		}
	} else {
		signature, err = hex.DecodeString(text)
	}
	if err != nil {
		return fmt.Errorf("the signature in %s is not %s", h.Header, encodingOf(h.Encoding))
	}
	stamp := ""
	if h.TimestampHeader != "" {
		if stamp = m.Header.Get(h.TimestampHeader); stamp == "" {
			return fmt.Errorf("the header %s is needed", h.TimestampHeader)
		}
		if err := timely(h.TimestampHeader, stamp, now); err != nil {
			return err
		}
	}
	signed := m.Body
	if h.Signs != "" && h.Signs != "body" {
		before, after, _ := strings.Cut(h.Signs, "{body}")
		fill := strings.NewReplacer("{timestamp}", stamp)
		signed = slices.Concat([]byte(fill.Replace(before)), m.Body, []byte(fill.Replace(after)))
	}
	found := 0
	for _, secret := range h.Secret {
		mac := hmac.New(algorithms[h.Algorithm], []byte(secret))
		mac.Write(signed)
		found |= subtle.ConstantTimeCompare(mac.Sum(nil), signature)
	}
	if found == 0 {
		return errors.New("the signature does not fit the body")
	}
	return nil
}

func encodingOf(name string) string {
	if name == "" {
		return "hex"
	}
	return name
}

func (h *HMAC) check(path string, add func(path, format string, args ...any)) {
	if h.Header == "" {
		add(path, "header is missing; it names the header that has the signature")
	}
	if len(h.Secret) == 0 {
		add(path, "secret is missing")
	}
	if algorithms[h.Algorithm] == nil {
		add(path+".algorithm", "%q is none of sha256, sha512 and sha1", h.Algorithm)
	}
	if e := h.Encoding; e != "" && e != "hex" && e != "base64" {
		add(path+".encoding", "%q is neither hex nor base64", e)
	}
	switch {
	case h.Signs == "" || h.Signs == "body":
	case strings.Count(h.Signs, "{body}") != 1:
		add(path+".signs", "%q has no {body} in it; write body, or as in {timestamp}.{body}", h.Signs)
	case strings.Contains(h.Signs, "{timestamp}") && h.TimestampHeader == "":
		add(path+".signs", "{timestamp} needs timestampHeader, which names its header")
	}
	if h.TimestampHeader != "" && !strings.Contains(h.Signs, "{timestamp}") {
		add(path+".timestampHeader", "the time is not signed; name it in signs, as in {timestamp}.{body}")
	}
}
