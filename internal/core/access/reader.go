package access

import "time"

// Kind says how somebody is known.
type Kind string

// The kinds of Reader.
const (
	Everyone  Kind = "everyone" // nobody in particular
	ByKey     Kind = "key"
	BySiteKey Kind = "site key" // a key that belongs to a site
	ByToken   Kind = "token"    // issued elsewhere
	ByAccount Kind = "account"
	// ByPreviewLink reads one entry, Only, and what it shows.
	ByPreviewLink Kind = "preview link"
)

// Principal is who asks, reader or writer.
type Principal struct {
	Kind Kind
	// Name is what others call them: a key's name, a token's subject, an account's
	// e-mail.
	Name string
	// ID of the key or account.
	ID string
	// Site that a key belongs to, if any.
	Site   string
	Rights Rights
	// Only is the entry that a preview link is for; Backs says that the link may read
	// what refers to it, too.
	Only  string
	Backs bool
	// Until is when a token, or a preview link, ends; zero for others.
	Until time.Time
	// Proved is when somebody who is signed in has last given the password.
	Proved time.Time
	// Meter counts what a key is used for; nil for others.
	Meter *Meter
}

// QueueName is what tells one who asks from others: an id, a token's subject, or, of
// those who are nobody in particular, the address that they ask from.
func (r *Principal) QueueName(address string) string {
	switch {
	case r.Kind == Everyone:
		return address
	case r.ID != "":
		return r.ID
	}
	return r.Name
}

// Identified tells whether it is somebody in particular.
func (r *Principal) Identified() bool { return r.Kind != Everyone }

// Role is what an account is there for. Each may do all that the ones before may.
type Role string

// The roles.
const (
	RoleReader   Role = "reader"   // sees everything but the secrets
	RoleEditor   Role = "editor"   // writes, and submits for review
	RoleApprover Role = "approver" // approves, publishes, schedules
	RoleAdmin    Role = "admin"    // sees to the service itself
)

// Roles lists every role, the least first.
var Roles = []Role{RoleReader, RoleEditor, RoleApprover, RoleAdmin}

// RoleNames lists the names of the roles, in the order of Roles.
func RoleNames() []string {
	out := make([]string, len(Roles))
	for i, r := range Roles {
		out[i] = string(r)
	}
	return out
}

// Grants of a role; none for an unknown one.
func (r Role) Grants() Grants {
	verbs := map[Role][]string{
		RoleReader: {Read}, RoleEditor: {Read, Write}, RoleApprover: {Read, Write, Publish}, RoleAdmin: Verbs,
	}[r]
	var out Grants
	for _, v := range verbs {
		out = append(out, Grant{Verb: v, Edition: Any, Type: Any})
	}
	return out
}
