package proof

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/dunglas/httpsfv"
)

// HTTPSignature is an HTTP Message Signature (RFC 9421) that covers the digest of the body (RFC
// 9530).
type HTTPSignature struct {
	Keys []SignatureKey `yaml:"keys" json:"keys"`
	// Covers are the components that a signature must cover besides content-digest, as in
	// @method and @path.
	Covers []string `yaml:"covers" json:"covers,omitzero"`
}

// SignatureKey is a key by the id that signatures name it with: a shared secret (hmac-sha256), or a
// public key in PEM (ed25519, ecdsa-p256-sha256, ecdsa-p384-sha384, rsa-pss-sha512 or
// rsa-v1_5-sha256).
type SignatureKey struct {
	ID        string `yaml:"id"        json:"id"`
	Secret    string `yaml:"secret"    json:"secret,omitzero"`
	PublicKey string `yaml:"publicKey" json:"publicKey,omitzero"`
}

func (s *HTTPSignature) prove(m *Message, now time.Time) error {
	inputs, err := httpsfv.UnmarshalDictionary(m.Header.Values("Signature-Input"))
	if err != nil || len(inputs.Names()) == 0 {
		return errors.New("the header Signature-Input is needed (RFC 9421)")
	}
	signatures, err := httpsfv.UnmarshalDictionary(m.Header.Values("Signature"))
	if err != nil {
		return errors.New("the header Signature is no dictionary (RFC 9421)")
	}
	if err := checkDigest(m); err != nil {
		return err
	}
	var why error
	for _, label := range inputs.Names()[:min(len(inputs.Names()), 4)] {
		member, _ := inputs.Get(label)
		covered, isList := member.(httpsfv.InnerList)
		held, _ := signatures.Get(label)
		item, isItem := held.(httpsfv.Item)
		signature, isBytes := item.Value.([]byte)
		if !isList || !isItem || !isBytes {
			why = fmt.Errorf("the signature %q is not complete", label)
			continue
		}
		if why = s.one(m, covered, signature, now); why == nil {
			return nil
		}
	}
	return why
}

// one verifies one signature of the message.
func (s *HTTPSignature) one(m *Message, covered httpsfv.InnerList, signature []byte, now time.Time) error {
	base, names, err := signatureBase(m, covered)
	if err != nil {
		return err
	}
	for _, name := range append([]string{"content-digest"}, s.Covers...) {
		if !slices.Contains(names, strings.ToLower(name)) {
			return fmt.Errorf("the signature does not cover %s", name)
		}
	}
	created, ok := param[int64](covered.Params, "created")
	if !ok {
		return errors.New("the signature does not say when it was created")
	}
	if off := now.Sub(time.Unix(created, 0)); off.Abs() > Tolerance {
		return fmt.Errorf("created is %s off our clock, at most %s is allowed", off.Abs().Round(time.Second), Tolerance)
	}
	if expires, ok := param[int64](covered.Params, "expires"); ok && now.After(time.Unix(expires, 0)) {
		return errors.New("the signature has expired")
	}
	id, _ := param[string](covered.Params, "keyid")
	alg, _ := param[string](covered.Params, "alg")
	known := false
	for _, k := range s.Keys {
		if k.ID != id {
			continue
		}
		known = true
		if k.verify(alg, base, signature) {
			return nil
		}
	}
	if !known {
		return errors.New("the signature names a keyid that is not configured")
	}
	return errors.New("the signature does not fit the message")
}

func param[T any](p *httpsfv.Params, name string) (T, bool) {
	v, ok := p.Get(name)
	t, is := v.(T)
	return t, ok && is
}

// signatureBase is what is signed (RFC 9421, section 2.5), and the names of what it covers.
func signatureBase(m *Message, covered httpsfv.InnerList) (base []byte, names []string, err error) {
	at, err := url.Parse(m.URL)
	if err != nil {
		return nil, nil, err
	}
	var b strings.Builder
	for _, item := range covered.Items {
		name, _ := item.Value.(string)
		if len(item.Params.Names()) > 0 || slices.Contains(names, name) {
			return nil, nil, fmt.Errorf("the component %q is covered twice, or in a form that is not read here", name)
		}
		value, err := component(m, at, name)
		if err != nil {
			return nil, nil, err
		}
		names = append(names, name)
		fmt.Fprintf(&b, "%q: %s\n", name, value)
	}
	params, err := httpsfv.Marshal(httpsfv.List{covered})
	if err != nil {
		return nil, nil, err
	}
	fmt.Fprintf(&b, "\"@signature-params\": %s", params)
	return []byte(b.String()), names, nil
}

func component(m *Message, at *url.URL, name string) (string, error) {
	path := at.EscapedPath()
	if path == "" {
		path = "/"
	}
	switch name {
	case "@method":
		return m.Method, nil
	case "@target-uri":
		return m.URL, nil
	case "@authority":
		return strings.ToLower(at.Host), nil
	case "@scheme":
		return at.Scheme, nil
	case "@path":
		return path, nil
	case "@query":
		return "?" + at.RawQuery, nil
	case "@request-target":
		return at.RequestURI(), nil
	}
	values := m.Header.Values(name)
	if strings.HasPrefix(name, "@") || len(values) == 0 {
		return "", fmt.Errorf("the signature covers %q, which the message does not have", name)
	}
	trimmed := make([]string, len(values))
	for i, v := range values {
		trimmed[i] = strings.TrimSpace(v)
	}
	return strings.Join(trimmed, ", "), nil
}

// checkDigest holds the header Content-Digest against the body.
func checkDigest(m *Message) error {
	digests, err := httpsfv.UnmarshalDictionary(m.Header.Values(http.CanonicalHeaderKey("content-digest")))
	if err != nil {
		return errors.New("the header Content-Digest is no dictionary (RFC 9530)")
	}
	for _, name := range digests.Names() {
		member, _ := digests.Get(name)
		item, _ := member.(httpsfv.Item)
		given, _ := item.Value.([]byte)
		var sum []byte
		switch name {
		case "sha-256":
			own := sha256.Sum256(m.Body)
			sum = own[:]
		case "sha-512":
			own := sha512.Sum512(m.Body)
			sum = own[:]
		default:
			continue
		}
		if subtle.ConstantTimeCompare(sum, given) != 1 {
			return fmt.Errorf("Content-Digest (%s) does not fit the body", name)
		}
		return nil
	}
	return errors.New("the header Content-Digest with sha-256 or sha-512 is needed (RFC 9530)")
}

// verify tells whether a signature is the key's; alg is what the signature says, or empty.
func (k *SignatureKey) verify(alg string, base, signature []byte) bool {
	fits := func(own string) bool { return alg == "" || alg == own }
	if k.Secret != "" {
		mac := hmac.New(sha256.New, []byte(k.Secret))
		mac.Write(base)
		return fits("hmac-sha256") && subtle.ConstantTimeCompare(mac.Sum(nil), signature) == 1
	}
	public, err := k.public()
	if err != nil {
		return false
	}
	switch key := public.(type) {
	case ed25519.PublicKey:
		return fits("ed25519") && ed25519.Verify(key, base, signature)
	case *ecdsa.PublicKey:
		size := (key.Curve.Params().BitSize + 7) / 8
		if len(signature) != 2*size {
			return false
		}
		r, s := new(big.Int).SetBytes(signature[:size]), new(big.Int).SetBytes(signature[size:])
		if size == 48 {
			sum := sha512.Sum384(base)
			return fits("ecdsa-p384-sha384") && ecdsa.Verify(key, sum[:], r, s)
		}
		sum := sha256.Sum256(base)
		return fits("ecdsa-p256-sha256") && ecdsa.Verify(key, sum[:], r, s)
	case *rsa.PublicKey:
		if alg == "rsa-v1_5-sha256" {
			sum := sha256.Sum256(base)
			return rsa.VerifyPKCS1v15(key, crypto.SHA256, sum[:], signature) == nil
		}
		sum := sha512.Sum512(base)
		return fits("rsa-pss-sha512") &&
			rsa.VerifyPSS(key, crypto.SHA512, sum[:], signature, &rsa.PSSOptions{SaltLength: 64}) == nil
	}
	return false
}

func (k *SignatureKey) public() (any, error) {
	block, _ := pem.Decode([]byte(k.PublicKey))
	if block == nil {
		return nil, errors.New("it is no PEM")
	}
	public, err := x509.ParsePKIXPublicKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	if key, is := public.(*ecdsa.PublicKey); is && key.Curve.Params().BitSize > 384 {
		return nil, errors.New("of elliptic curves P-256 and P-384 are read")
	}
	return public, nil
}

func (s *HTTPSignature) check(path string, add func(path, format string, args ...any)) {
	if len(s.Keys) == 0 {
		add(path, "keys is missing")
	}
	for i := range s.Keys {
		k, at := &s.Keys[i], fmt.Sprintf("%s.keys[%d]", path, i)
		switch {
		case k.ID == "":
			add(at, "id is missing; signatures name their key by it")
		case (k.Secret == "") == (k.PublicKey == ""):
			add(at, "a key has a secret, or a publicKey")
		case k.PublicKey != "":
			if _, err := k.public(); err != nil {
				add(at+".publicKey", "it is not read as a public key in PEM: %v", err)
			}
		}
	}
}
