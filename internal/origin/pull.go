package origin

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"ubiquon/internal/gitssh"
)

// Pull says where content is read: of one of HTTP, Folder, Git, Feed and Push.
type Pull struct {
	// HTTP is the address that lists and items are below.
	HTTP string `yaml:"http" json:"http,omitzero"`
	// Folder has Markdown, JSON, YAML and TOML files. It must be within one that the node
	// allows.
	Folder string `yaml:"folder" json:"folder,omitzero"`
	// Git is such a folder in a repository.
	Git *Git `yaml:"git" json:"git,omitzero"`
	// Feed is the address of an RSS, Atom or JSON feed.
	Feed string `yaml:"feed" json:"feed,omitzero"`
	// Push has the origin write its items here.
	Push bool `yaml:"push" json:"push,omitzero"`

	Auth Auth `yaml:"auth" json:"auth,omitzero"`
	// Page says how a list over HTTP goes on. Empty: lists come whole.
	Page Paging `yaml:"page" json:"page,omitzero"`
	// UpdatedSince is the parameter of lists over HTTP that has a time (RFC 3339), for those items alone that
	// have changed since: they are asked for every minute, or as often as everything is compared. Where a body
	// is sent, {since} has it.
	UpdatedSince string `yaml:"updatedSince" json:"updatedSince,omitzero"`
}

// Auth says how we prove who we are, in one of these ways.
type Auth struct {
	Basic  string  `yaml:"basic"  json:"basic,omitzero"`  // user:password (RFC 7617)
	Bearer string  `yaml:"bearer" json:"bearer,omitzero"` // a token (RFC 6750)
	Header *Header `yaml:"header" json:"header,omitzero"`
	OAuth2 *OAuth2 `yaml:"oauth2" json:"oauth2,omitzero"`
}

// Header is a header with a secret.
type Header struct {
	Name  string `yaml:"name"  json:"name"`
	Value string `yaml:"value" json:"value"`
}

// OAuth2 gets tokens by client credentials (RFC 6749, section 4.4).
type OAuth2 struct {
	Token  string   `yaml:"token"  json:"token"` // the address that gives them
	Client string   `yaml:"client" json:"client"`
	Secret string   `yaml:"secret" json:"secret"`
	Scopes []string `yaml:"scopes" json:"scopes,omitzero"`
}

// Git is a repository that is read over http or https, or in a folder that the node allows.
type Git struct {
	Address string `yaml:"address" json:"address"`
	// Branch that is read; empty for the repository's own.
	Branch string `yaml:"branch" json:"branch,omitzero"`
	// Below is the directory that is read; empty for all.
	Below string `yaml:"below" json:"below,omitzero"`
	// Token is the password; the user is User, or "git".
	Token string `yaml:"token" json:"token,omitzero"`
	User  string `yaml:"user"  json:"user,omitzero"`
	// Key is a private key, as ssh-keygen writes it, for ssh:// addresses; without it Token is the password.
	// Host is the public key that the host must have: ssh-ed25519 AAAA….
	Key  string `yaml:"key"  json:"key,omitzero"`
	Host string `yaml:"host" json:"host,omitzero"`
}

// Request is how something is asked for over HTTP.
type Request struct {
	// Path is below the origin's address; {kind} and {key} are filled in.
	Path string `yaml:"path" json:"path,omitzero"`
	// Body is sent as JSON, with POST. In its texts {kind}, {key}, {page}, {offset}, {cursor} and
	// {since} are filled in; one that is nothing else is a number, or null for none.
	Body any `yaml:"body" json:"body,omitempty"`
	// From finds the item in the answer to one that is asked for; empty for all of it.
	From string `yaml:"from" json:"from,omitzero"`
}

// Paging is how a list goes on: by a Link header with rel="next" (RFC 8288), a number of the page, an
// offset, or a cursor. Number, Offset and Cursor name the parameter of the address; where a body is
// sent, it has them.
type Paging struct {
	Link   bool   `yaml:"-"      json:"-"`
	Number string `yaml:"number" json:"number,omitzero"`
	First  int    `yaml:"first"  json:"first,omitzero"` // number of the first page
	Offset string `yaml:"offset" json:"offset,omitzero"`
	Cursor string `yaml:"cursor" json:"cursor,omitzero"`
	Next   string `yaml:"next"   json:"next,omitzero"` // JSONPath of the next cursor
	// Size is how many items a page has, sent as the parameter SizeAs; a page with fewer is the
	// last. Without it a page without any is.
	Size   int    `yaml:"size"   json:"size,omitzero"`
	SizeAs string `yaml:"sizeAs" json:"sizeAs,omitzero"`
}

// UnmarshalYAML implements yaml.NodeUnmarshaler.
func (p *Paging) UnmarshalYAML(node ast.Node) error {
	if text, ok := node.(*ast.StringNode); ok {
		if text.Value != "link" {
			return fmt.Errorf("pull.page is %q; it may be link, or one of number, offset and cursor with the name of "+
				"its parameter", text.Value)
		}
		p.Link = true
		return nil
	}
	type form Paging
	return yaml.NodeToValue(node, (*form)(p), yaml.Strict())
}

// MarshalJSON implements json.Marshaler.
func (p Paging) MarshalJSON() ([]byte, error) {
	if p.Link {
		return []byte(`"link"`), nil
	}
	type form Paging
	return json.Marshal(form(p))
}

// IsZero tells that lists come whole.
func (p Paging) IsZero() bool { return p == Paging{} }

// files tells whether items are files.
func (p *Pull) files() bool { return p.Folder != "" || p.Git != nil }

// Kind names what is read: http, folder, git, feed or push.
func (p *Pull) Kind() string {
	switch {
	case p.Folder != "":
		return "folder"
	case p.Git != nil:
		return "git"
	case p.Feed != "":
		return "feed"
	case p.Push:
		return "push"
	}
	return "http"
}

func (p *Pull) check() (wrong []string) {
	add := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	given := 0
	for _, is := range []bool{p.HTTP != "", p.Folder != "", p.Git != nil, p.Feed != "", p.Push} {
		if is {
			given++
		}
	}
	if given > 1 {
		add("pull: content is read of one of http, folder, git, feed and push, not of two")
	}
	switch {
	case given == 0, p.HTTP != "":
		if err := webAddress(p.HTTP); err != nil {
			add("pull.http: %v", err)
		}
	case p.Feed != "":
		if err := webAddress(p.Feed); err != nil {
			add("pull.feed: %v", err)
		}
	case p.Git != nil:
		if p.Git.Address == "" {
			add("pull.git.address is missing")
		} else if u, is := gitssh.Address(p.Git.Address); is {
			access := p.Git.access()
			for _, what := range access.Check(u) {
				add("pull.git.%s", what)
			}
		} else if strings.Contains(p.Git.Address, "://") && webAddress(p.Git.Address) != nil {
			add("pull.git.address: %q is neither an http or ssh address nor a folder", p.Git.Address)
		}
		if strings.HasPrefix(p.Git.Below, "/") || strings.Contains("/"+p.Git.Below+"/", "/../") {
			add("pull.git.below: %q is no directory within the repository", p.Git.Below)
		}
	}
	ways := 0
	for _, is := range []bool{p.Auth.Basic != "", p.Auth.Bearer != "", p.Auth.Header != nil, p.Auth.OAuth2 != nil} {
		if is {
			ways++
		}
	}
	if ways > 1 {
		add("pull.auth: name one of basic, bearer, header and oauth2")
	}
	if o := p.Auth.OAuth2; o != nil {
		if err := webAddress(o.Token); err != nil {
			add("pull.auth.oauth2.token: %v", err)
		}
	}
	if h := p.Auth.Header; h != nil && h.Name == "" {
		add("pull.auth.header.name is missing")
	}
	if p.UpdatedSince != "" && p.HTTP == "" {
		add("pull.updatedSince is for lists over HTTP")
	}
	if p.Page.Cursor != "" && p.Page.Next == "" {
		add("pull.page.next is missing; it finds the next cursor in an answer")
	}
	return wrong
}

func webAddress(text string) error {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return fmt.Errorf("%q is no http address", text)
	case u.User != nil:
		return errors.New("credentials do not belong into an address; see auth")
	}
	return nil
}
