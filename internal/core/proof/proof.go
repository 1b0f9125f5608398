// Package proof decides whether an announcement comes from whom it says: signatures of Standard
// Webhooks, HMAC over the body, HTTP Message Signatures (RFC 9421), Basic, a token in a header, and
// networks. It holds no state.
package proof

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Tolerance is how far a signature's timestamp may be from now.
const Tolerance = 5 * time.Minute

// ErrNotProven is the error of an announcement whose sender is not proven. The text after it says
// which proof failed and how, without repeating anything secret.
var ErrNotProven = errors.New("not proven to come from the origin")

// Proof says how announcements are proven. Everything that it names must hold; of Any, one. None
// takes them from everybody.
type Proof struct {
	// StandardWebhooks holds the secrets (whsec_ and base64), any of which will do.
	StandardWebhooks Texts          `yaml:"standardWebhooks" json:"standardWebhooks,omitzero"`
	HMAC             *HMAC          `yaml:"hmac"             json:"hmac,omitzero"`
	HTTPSignature    *HTTPSignature `yaml:"httpSignature"    json:"httpSignature,omitzero"`
	// Basic holds user:password, any of which will do (RFC 7617).
	Basic  Texts   `yaml:"basic"  json:"basic,omitzero"`
	Bearer *Bearer `yaml:"bearer" json:"bearer,omitzero"`
	// Addresses are the networks that announcements may come from, as in 192.0.2.0/24.
	Addresses []string `yaml:"addresses" json:"addresses,omitzero"`
	Any       []Proof  `yaml:"any"       json:"any,omitzero"`
	None      bool     `yaml:"none"      json:"none,omitzero"`
}

// Texts is a list of texts of which one may be written without the list.
type Texts []string

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (t *Texts) UnmarshalYAML(node ast.Node) error {
	switch n := node.(type) {
	case *ast.StringNode:
		*t = Texts{n.Value}
		return nil
	case *ast.SequenceNode:
		for _, one := range n.Values {
			text, is := one.(*ast.StringNode)
			if !is {
				return errors.New("a list of texts is needed, as in [secret:OLD, secret:NEW]")
			}
			*t = append(*t, text.Value)
		}
		return nil
	}
	return errors.New("a text is needed, or a list of them")
}

// MarshalJSON implements json.Marshaler. One text is written without a list.
func (t Texts) MarshalJSON() ([]byte, error) {
	if len(t) == 1 {
		return json.Marshal(t[0])
	}
	return json.Marshal([]string(t))
}

// Bearer is a token in a header.
type Bearer struct {
	// Header has the token alone; the default is Authorization, with the word Bearer before it
	// (RFC 6750).
	Header string `yaml:"header" json:"header,omitzero"`
	Token  Texts  `yaml:"token"  json:"token"`
}

// Message is an announcement as it came.
type Message struct {
	Method string
	// URL is the whole address that it was sent to.
	URL     string
	Header  http.Header
	Body    []byte
	Address netip.Addr // of who sent it
}

// Secrets calls f with every secret of the proof, and what it is called; f may change it. The proof
// must be a Clone.
func (p *Proof) Secrets(f func(place string, text *string)) {
	each := func(place string, texts Texts) {
		for i := range texts {
			f(place+"-"+strconv.Itoa(i+1), &texts[i])
		}
	}
	each("hook", p.StandardWebhooks)
	each("basic", p.Basic)
	if p.HMAC != nil {
		each("hmac", p.HMAC.Secret)
	}
	if p.Bearer != nil {
		each("bearer", p.Bearer.Token)
	}
	if p.HTTPSignature != nil {
		for i := range p.HTTPSignature.Keys {
			if k := &p.HTTPSignature.Keys[i]; k.Secret != "" {
				f("key-"+strconv.Itoa(i+1), &k.Secret)
			}
		}
	}
	for i := range p.Any {
		p.Any[i].Secrets(func(place string, text *string) { f(fmt.Sprintf("any-%d-%s", i+1, place), text) })
	}
}

// Clone returns a copy whose secrets can be changed.
func (p Proof) Clone() Proof {
	p.StandardWebhooks, p.Basic = slices.Clone(p.StandardWebhooks), slices.Clone(p.Basic)
	if p.HMAC != nil {
		own := *p.HMAC
		own.Secret = slices.Clone(own.Secret)
		p.HMAC = &own
	}
	if p.Bearer != nil {
		own := *p.Bearer
		own.Token = slices.Clone(own.Token)
		p.Bearer = &own
	}
	if p.HTTPSignature != nil {
		own := *p.HTTPSignature
		own.Keys = slices.Clone(own.Keys)
		p.HTTPSignature = &own
	}
	p.Any = slices.Clone(p.Any)
	for i := range p.Any {
		p.Any[i] = p.Any[i].Clone()
	}
	return p
}

// step is one proof and the function that decides it.
type step struct {
	name  string
	prove func(m *Message, now time.Time) error
}

// steps lists what the proof consists of, without Any.
func (p *Proof) steps() (out []step) {
	if len(p.StandardWebhooks) > 0 {
		out = append(out, step{"standardWebhooks", p.standard})
	}
	if p.HMAC != nil {
		out = append(out, step{"hmac", p.HMAC.prove})
	}
	if p.HTTPSignature != nil {
		out = append(out, step{"httpSignature", p.HTTPSignature.prove})
	}
	if len(p.Basic) > 0 {
		out = append(out, step{"basic", p.basic})
	}
	if p.Bearer != nil {
		out = append(out, step{"bearer", p.Bearer.prove})
	}
	if len(p.Addresses) > 0 {
		out = append(out, step{"addresses", p.network})
	}
	return out
}

// Prove decides. Its error wraps ErrNotProven and names the proof that failed.
func (p *Proof) Prove(m *Message, now time.Time) error {
	if p.None {
		return nil
	}
	steps := p.steps()
	if len(steps) == 0 && len(p.Any) == 0 {
		return fmt.Errorf("%w: its proof is not configured", ErrNotProven)
	}
	for _, s := range steps {
		if err := s.prove(m, now); err != nil {
			return fmt.Errorf("%w: %s: %w", ErrNotProven, s.name, err)
		}
	}
	if len(p.Any) == 0 {
		return nil
	}
	var why []string
	for i := range p.Any {
		err := p.Any[i].Prove(m, now)
		if err == nil {
			return nil
		}
		why = append(why, strings.TrimPrefix(err.Error(), ErrNotProven.Error()+": "))
	}
	return fmt.Errorf("%w: %s", ErrNotProven, strings.Join(why, "; "))
}

// Describe names what proves announcements, as in "hmac and addresses".
func (p *Proof) Describe() string {
	if p.None {
		return "none"
	}
	var names []string
	for _, s := range p.steps() {
		names = append(names, s.name)
	}
	if len(p.Any) > 0 {
		var any []string
		for i := range p.Any {
			any = append(any, p.Any[i].Describe())
		}
		names = append(names, strings.Join(any, " or "))
	}
	return strings.Join(names, " and ")
}

// Challenge is the WWW-Authenticate header for who is not proven (RFC 9110).
func (p *Proof) Challenge() string {
	scheme := "StandardWebhooks"
	switch {
	case len(p.Basic) > 0:
		scheme = "Basic"
	case p.Bearer != nil && p.Bearer.Header == "":
		scheme = "Bearer"
	case len(p.StandardWebhooks) == 0:
		scheme = "Signature"
	}
	return scheme + ` realm="ubiquon"`
}

func (p *Proof) standard(m *Message, now time.Time) error {
	id, stamp := m.Header.Get(standardwebhooks.HeaderWebhookID), m.Header.Get(standardwebhooks.HeaderWebhookTimestamp)
	if id == "" || stamp == "" || m.Header.Get(standardwebhooks.HeaderWebhookSignature) == "" {
		return errors.New("the headers webhook-id, webhook-timestamp and webhook-signature are needed")
	}
	if err := timely("webhook-timestamp", stamp, now); err != nil {
		return err
	}
	for _, secret := range p.StandardWebhooks {
		w, err := standardwebhooks.NewWebhook(secret)
		if err != nil {
			return errors.New("a configured secret is not whsec_ and base64")
		}
		if w.VerifyIgnoringTimestamp(m.Body, m.Header) == nil {
			return nil
		}
	}
	return errors.New("the signature does not fit the body")
}

// timely returns an error for a time, in seconds since 1970 or as RFC 3339, that is too far from now.
func timely(what, stamp string, now time.Time) error {
	at, err := time.Parse(time.RFC3339, stamp)
	if seconds, wrong := strconv.ParseInt(stamp, 10, 64); wrong == nil {
		if err = nil; seconds > 1e11 {
			at = time.UnixMilli(seconds)
		} else {
			at = time.Unix(seconds, 0)
		}
	}
	if err != nil {
		return fmt.Errorf("%s is not a number of seconds", what)
	}
	if off := now.Sub(at); off.Abs() > Tolerance {
		return fmt.Errorf(
			"%s is %s off our clock, at most %s is allowed",
			what,
			off.Abs().Round(time.Second),
			Tolerance,
		)
	}
	return nil
}

// same compares in constant time, also for texts of different lengths.
func same(a, b string) bool {
	x, y := sha256.Sum256([]byte(a)), sha256.Sum256([]byte(b))
	return subtle.ConstantTimeCompare(x[:], y[:]) == 1
}

// oneOf tells whether a text is one of several, without telling which by the time that it takes.
func oneOf(texts []string, given string) bool {
	found := false
	for _, text := range texts {
		if same(text, given) {
			found = true
		}
	}
	return found
}

func (p *Proof) basic(m *Message, _ time.Time) error {
	user, password, ok := (&http.Request{Header: m.Header}).BasicAuth()
	switch {
	case !ok:
		return errors.New("the header Authorization with Basic credentials is needed")
	case !oneOf(p.Basic, user+":"+password):
		return errors.New("user and password are not those that are configured")
	}
	return nil
}

func (b *Bearer) prove(m *Message, _ time.Time) error {
	name, token := b.Header, ""
	if name == "" {
		name = "Authorization"
		scheme, rest, _ := strings.Cut(m.Header.Get(name), " ")
		if strings.EqualFold(scheme, "Bearer") {
			token = strings.TrimSpace(rest)
		}
	} else {
		token = m.Header.Get(name)
	}
	switch {
	case token == "":
		return fmt.Errorf("the header %s with a token is needed", name)
	case !oneOf(b.Token, token):
		return fmt.Errorf("the token in %s is not the one that is configured", name)
	}
	return nil
}

func (p *Proof) network(m *Message, _ time.Time) error {
	for _, text := range p.Addresses {
		if within, err := prefix(text); err == nil && within.Contains(m.Address.Unmap()) {
			return nil
		}
	}
	return fmt.Errorf("it comes from %s, which is in none of the networks configured", m.Address)
}

func prefix(text string) (netip.Prefix, error) {
	if at, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(at, at.BitLen()), nil
	}
	return netip.ParsePrefix(text)
}

// Check returns everything that is wrong with the proof, a line each, with the path before it.
func (p *Proof) Check() (wrong []string) {
	if !p.None && len(p.steps())+len(p.Any) == 0 {
		return []string{
			"prove is missing; nobody could announce anything. Name standardWebhooks, hmac, httpSignature, basic, bearer " +
				"or addresses; or none: true for announcements from everybody",
		}
	}
	add := func(path, format string, args ...any) {
		wrong = append(wrong, "prove"+path+": "+fmt.Sprintf(format, args...))
	}
	p.check("", add)
	return wrong
}

func (p *Proof) check(path string, add func(path, format string, args ...any)) {
	n := len(p.steps()) + len(p.Any)
	switch {
	case p.None && n > 0:
		add(path, "none stands alone; with it nothing else is looked at")
	case !p.None && n == 0:
		add(path, "nothing is named that proves an announcement")
	}
	if p.HMAC != nil {
		p.HMAC.check(path+".hmac", add)
	}
	if p.HTTPSignature != nil {
		p.HTTPSignature.check(path+".httpSignature", add)
	}
	if p.Bearer != nil && len(p.Bearer.Token) == 0 {
		add(path+".bearer", "token is missing")
	}
	for i, text := range p.Addresses {
		if _, err := prefix(text); err != nil {
			add(fmt.Sprintf("%s.addresses[%d]", path, i), "%q is no network, as in 192.0.2.0/24", text)
		}
	}
	for i := range p.Any {
		p.Any[i].check(fmt.Sprintf("%s.any[%d]", path, i), add)
	}
}

// Standard proves an announcement by the Standard Webhooks scheme, made with any of the secrets at a
// time near now.
func Standard(secrets []string, header http.Header, body []byte, now time.Time) error {
	p := Proof{StandardWebhooks: secrets}
	return p.Prove(&Message{Header: header, Body: body}, now)
}
