package gateway

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"

	"ubiquon/internal/admission"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/store"
)

const (
	// sessionLongest is how long somebody stays signed in at most, sessionIdle without
	// doing anything, unless the configuration says otherwise.
	sessionLongest = 3 * 24 * time.Hour
	sessionIdle    = 8 * time.Hour
	// linkGood is how long a link to choose a password is good, firstLinkGood the one
	// that makes the first account.
	linkGood      = 7 * 24 * time.Hour
	firstLinkGood = time.Hour
	// minPassword and maxPassword bound a password, in bytes.
	minPassword, maxPassword = 12, 200
	maxEmail                 = 200
)

// hashing is argon2id with what OWASP's password storage notes ask for at least:
// 19 MiB, two passes.
var hashing = &argon2id.Params{Memory: 19 << 10, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// ErrWrongPassword is the error of signing in with an address or a password that
// is wrong; which of them is not said.
var ErrWrongPassword = errors.New("the e-mail address or the password is wrong")

// ErrTooMany is the error of trying something too often.
var ErrTooMany = errors.New("too many tries; wait a little")

// accounts is what signing in takes beside the store.
type accounts struct {
	// byAddress bounds the tries of one address, byBoth those of one address for one
	// account. Nobody can keep somebody else out from another address.
	byAddress, byBoth *access.Limiter
	// processor is where hashing, which takes 30 ms and 19 MiB, waits for its turn.
	processor *admission.Queue
	// decoy is compared with when there is no such account, which takes as long.
	decoy string
}

func newAccounts(processor *admission.Queue) (accounts, error) {
	decoy, err := argon2id.CreateHash(rand.Text(), hashing)
	return accounts{byAddress: access.NewLimiter(20, 10), byBoth: access.NewLimiter(10, 10), decoy: decoy, processor: processor}, err
}

func (a *accounts) hash(ctx context.Context, who, password string) (string, error) {
	leave, err := a.processor.Enter(ctx, who, false)
	if err != nil {
		return "", err
	}
	defer leave()
	return argon2id.CreateHash(password, hashing)
}

// fits tells whether a password is the one of a hash.
func (a *accounts) fits(ctx context.Context, who, password, hash string) (bool, error) {
	leave, err := a.processor.Enter(ctx, who, false)
	if err != nil {
		return false, err
	}
	defer leave()
	ok, err := argon2id.ComparePasswordAndHash(password, hash)
	return err == nil && ok, nil
}

// Accounts lists accounts.
func (g *Gateway) Accounts(ctx context.Context) ([]*store.Account, error) {
	return g.store.Accounts(ctx)
}

// CreateAccount makes an account. Without a password it returns the secret of a
// link with which one is chosen, once. An error that is the caller's is a
// *BadAccessError or store.ErrTaken.
func (g *Gateway) CreateAccount(ctx context.Context, a store.Account, password, by string) (*store.Account, string, error) {
	if err := checkAccount(&a); err != nil {
		return nil, "", err
	}
	if password != "" {
		if err := checkPassword(password, a.Email); err != nil {
			return nil, "", err
		}
		var err error
		if a.Password, err = g.accounts.hash(ctx, by, password); err != nil {
			return nil, "", err
		}
		a.HasPassword = true
	}
	if err := g.store.AddAccount(ctx, &a, userCause(by)); err != nil || password != "" {
		return &a, "", err
	}
	secret, err := g.invite(ctx, a.ID)
	return &a, secret, err
}

func checkAccount(a *store.Account) error {
	at, err := mail.ParseAddress(a.Email)
	if err != nil || at.Address != a.Email || len(a.Email) > maxEmail {
		return badAccess("email", "%q is no e-mail address", a.Email)
	}
	if !slices.Contains(access.Roles, a.Role) {
		var names []string
		for _, r := range access.Roles {
			names = append(names, string(r))
		}
		return badAccess("role", "there is no role %q%s; there are %s", a.Role, strictyaml.DidYouMean(string(a.Role), names), strings.Join(names, ", "))
	}
	a.Name = cmp.Or(strings.TrimSpace(a.Name), strings.Split(a.Email, "@")[0])
	return nil
}

func checkPassword(password, email string) error {
	switch {
	case len(password) < minPassword || len(password) > maxPassword:
		return badAccess("password", "a password has %d to %d characters", minPassword, maxPassword)
	case strings.EqualFold(password, email):
		return badAccess("password", "the password must not be the e-mail address")
	}
	return nil
}

func (g *Gateway) invite(ctx context.Context, account string) (string, error) {
	secret, good := rand.Text(), linkGood
	if account == "" {
		good = firstLinkGood
	}
	return secret, g.store.AddInvitation(ctx, hashOf(secret), account, good)
}

// AccountLink returns the secret of a link with which the account chooses a new
// password, once.
func (g *Gateway) AccountLink(ctx context.Context, name, by string) (*store.Account, string, error) {
	a, err := g.store.Account(ctx, name)
	if err != nil {
		return nil, "", err
	}
	secret, err := g.invite(ctx, a.ID)
	if err == nil {
		err = g.store.Note(ctx, userCause(by), "account link", a.Email, nil, nil)
	}
	return a, secret, err
}

// AccountChange is what is changed of an account; nil parts stay.
type AccountChange struct {
	Name     *string
	Role     *access.Role
	Disabled *bool
}

// ChangeAccount changes an account, and ends its sessions if it is disabled. Its
// error is store.ErrLastAdmin if nobody could administer then.
func (g *Gateway) ChangeAccount(ctx context.Context, name string, c AccountChange, by string) (*store.Account, error) {
	a, err := g.store.Account(ctx, name)
	if err != nil {
		return nil, err
	}
	next := *a
	if c.Role != nil {
		next.Role = *c.Role
	}
	if c.Name != nil {
		next.Name = *c.Name
	}
	if err := checkAccount(&next); err != nil {
		return nil, err
	}
	return g.store.ChangeAccount(ctx, a.ID, userCause(by), func(a *store.Account) {
		a.Name, a.Role = next.Name, next.Role
		if c.Disabled != nil {
			a.Disabled = nil
			if *c.Disabled {
				now := time.Now()
				a.Disabled = &now
			}
		}
	})
}

// FirstLink returns the secret of a link that makes the first account, "" if
// there is an account already.
func (g *Gateway) FirstLink(ctx context.Context) (string, error) {
	all, err := g.store.Accounts(ctx)
	if err != nil || len(all) > 0 {
		return "", err
	}
	return g.invite(ctx, "")
}

// SignIn checks a password and returns the cookie of a new session, which
// replaces the one that was sent. Its error is ErrWrongPassword or ErrTooMany
// where that is the reason.
func (g *Gateway) SignIn(ctx context.Context, email, password string, by store.Actor, agent, replaced string) (string, *store.Account, error) {
	if len(email) > maxEmail || len(password) > maxPassword {
		return "", nil, ErrWrongPassword // nobody has such a long one
	}
	a, err := g.checkPassword(ctx, email, password, by)
	if errors.Is(err, ErrWrongPassword) {
		by.Name, by.Kind = "somebody", "account"
		if err := g.store.Note(store.WithActor(ctx, by), userCause(""), "sign in refused", access.Printable(email), nil, nil); err != nil {
			return "", nil, err
		}
	}
	if err != nil {
		return "", nil, err
	}
	cookie, err := g.openSession(ctx, a, by, agent, replaced)
	return cookie, a, err
}

// checkPassword returns the account with the address and the password. Its error is
// ErrWrongPassword or ErrTooMany where that is the reason.
func (g *Gateway) checkPassword(ctx context.Context, email, password string, by store.Actor) (*store.Account, error) {
	email = strings.ToLower(strings.TrimSpace(email))
	now := time.Now()
	from := access.Network(by.Address)
	if !g.accounts.byAddress.Allow(from, now) || !g.accounts.byBoth.Allow(from+" "+email, now) {
		return nil, ErrTooMany
	}
	a, err := g.store.Account(ctx, email)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	hash := g.accounts.decoy
	if err == nil && a.Password != "" && a.Disabled == nil && a.Email == email {
		hash = a.Password
	}
	fits, err := g.accounts.fits(ctx, from, password, hash)
	if err == nil && (!fits || hash == g.accounts.decoy) {
		err = ErrWrongPassword
	}
	return a, err
}

// Prove checks the password of somebody who is signed in, before they change who may do
// what. Its errors are those of SignIn.
func (g *Gateway) Prove(ctx context.Context, cookie string, who *access.Reader, password string, by store.Actor) error {
	if len(password) > maxPassword {
		return ErrWrongPassword
	}
	if _, err := g.checkPassword(ctx, who.Name, password, by); err != nil {
		return err
	}
	return g.store.ProveSession(ctx, hashOf(cookie))
}

// ChangePassword gives somebody who is signed in another password, and ends their other
// sessions. Its errors are those of SignIn, and a *BadAccessError.
func (g *Gateway) ChangePassword(ctx context.Context, cookie string, who *access.Reader, old, password string, by store.Actor) error {
	if err := checkPassword(password, who.Name); err != nil {
		return err
	}
	if len(old) > maxPassword {
		return ErrWrongPassword
	}
	a, err := g.checkPassword(ctx, who.Name, old, by)
	if err != nil {
		return err
	}
	hash, err := g.accounts.hash(ctx, by.Address, password)
	if err != nil {
		return err
	}
	by.Name, by.Kind = a.Email, string(access.ByAccount)
	return g.store.ChangePassword(ctx, a, hash, hashOf(cookie), by)
}

func (g *Gateway) openSession(ctx context.Context, a *store.Account, by store.Actor, agent, replaced string) (string, error) {
	cookie := g.signedCookie(rand.Text() + rand.Text())
	by.Name, by.Kind = a.Email, string(access.ByAccount)
	return cookie, g.store.AddSession(ctx, a, hashOf(cookie), hashOf(replaced), g.SessionLongest(), by, access.Printable(agent))
}

// signedCookie is a session's cookie: random, and signed with the environment's secret,
// so that nobody can have cookies looked up that were never given out.
func (g *Gateway) signedCookie(random string) string {
	mac := hmac.New(sha256.New, g.secret)
	mac.Write([]byte("session " + random))
	return random + "." + base64.RawURLEncoding.EncodeToString(mac.Sum(nil)[:15])
}

// SessionLongest is how long somebody stays signed in at most.
func (g *Gateway) SessionLongest() time.Duration { return cmp.Or(g.o.SessionLongest, sessionLongest) }

func (g *Gateway) sessionIdle() time.Duration { return cmp.Or(g.o.SessionIdle, sessionIdle) }

// SignOut ends the session of a cookie.
func (g *Gateway) SignOut(ctx context.Context, cookie string, by store.Actor) error {
	by.Kind = string(access.ByAccount)
	return g.store.EndSession(ctx, hashOf(cookie), by)
}

// Sessions lists where somebody is signed in.
func (g *Gateway) Sessions(ctx context.Context, who *access.Reader) ([]store.Session, error) {
	return g.store.Sessions(ctx, who.ID, g.sessionIdle())
}

// EndSession ends one of somebody's own sessions.
func (g *Gateway) EndSession(ctx context.Context, who *access.Reader, id string, by store.Actor) error {
	by.Kind = string(access.ByAccount)
	return g.store.EndSessionNamed(ctx, who.ID, id, by)
}

// SignedIn finds out whose session a cookie is, and the session's id; store.ErrNotFound
// if it is none, or its time is over.
func (g *Gateway) SignedIn(ctx context.Context, cookie string) (access.Reader, string, error) {
	random, _, _ := strings.Cut(cookie, ".")
	if !hmac.Equal([]byte(cookie), []byte(g.signedCookie(random))) {
		return access.Reader{}, "", store.ErrNotFound
	}
	s, err := g.store.Session(ctx, hashOf(cookie), g.sessionIdle())
	if err != nil {
		return access.Reader{}, "", err
	}
	a := s.Account
	return access.Reader{Kind: access.ByAccount, Name: a.Email, ID: a.ID, Proved: s.Proved, Rights: access.Rights{Open: g.keys.opened(), Own: a.Role.Grants()}}, s.ID, nil
}

// Welcome returns the account that a link is for, nil if it makes the first one;
// store.ErrNotFound if it is no good any more.
func (g *Gateway) Welcome(ctx context.Context, link string, by store.Actor) (*store.Account, error) {
	if !g.accounts.byAddress.Allow(access.Network(by.Address), time.Now()) {
		return nil, ErrTooMany
	}
	return g.store.Invitation(ctx, hashOf(link))
}

// ChoosePassword uses a link up, and signs in.
func (g *Gateway) ChoosePassword(ctx context.Context, link, email, name, password string, by store.Actor, agent string) (string, *store.Account, error) {
	a, err := g.Welcome(ctx, link, by)
	if err != nil {
		return "", nil, err
	}
	if a == nil {
		a = &store.Account{Email: strings.ToLower(strings.TrimSpace(email)), Role: access.RoleAdmin}
	}
	a.Name = cmp.Or(name, a.Name)
	if err := checkAccount(a); err != nil {
		return "", nil, err
	}
	if err := checkPassword(password, a.Email); err != nil {
		return "", nil, err
	}
	if a.Password, err = g.accounts.hash(ctx, by.Address, password); err != nil {
		return "", nil, err
	}
	by.Name, by.Kind = a.Email, string(access.ByAccount)
	if err := g.store.TakeInvitation(ctx, hashOf(link), a, by); err != nil {
		return "", nil, fmt.Errorf("the link: %w", err)
	}
	a.HasPassword = true
	cookie, err := g.openSession(ctx, a, by, agent, "")
	return cookie, a, err
}

// Acts returns lines of the audit log, the newest first.
func (g *Gateway) Acts(ctx context.Context, f store.ActFilter) ([]store.Act, error) {
	return g.store.Acts(ctx, f)
}

// Note adds a line to the audit log for what was not written by a transaction
// that adds its own. before and after may be nil.
func (g *Gateway) Note(ctx context.Context, by, what, subject string, before, after any) error {
	return g.store.Note(ctx, userCause(by), what, subject, before, after)
}
