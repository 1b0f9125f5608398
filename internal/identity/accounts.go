package identity

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"net/mail"
	"slices"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"

	"ubiquon/internal/admission"
	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
	"ubiquon/internal/store/audit"
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

// Accounts are the people of an environment, and their sessions. It is safe for concurrent
// use.
type Accounts struct {
	replica *replication.Replica
	store   *store.Store
	log     *slog.Logger
	keys    *Keys
	secret  []byte        // of the environment, signs cookies
	idle    time.Duration // without a request, after which a session ends
	longest time.Duration // after which a session ends

	// byAddress bounds the tries of one address, byBoth those of one address for one
	// account. Nobody can keep somebody else out from another address.
	byAddress, byBoth *access.Limiter
	// processor is where hashing, which takes 30 ms and 19 MiB, waits for its turn.
	processor *admission.Queue
	// decoy is compared with when there is no such account, which takes as long.
	decoy string
}

// AccountOptions of NewAccounts.
type AccountOptions struct {
	Replica *replication.Replica
	Keys    *Keys
	// Secret of the environment.
	Secret []byte
	// Idle and Longest are after how long without a request, and at all, a session ends; 0
	// means 8 hours and 3 days.
	Idle, Longest time.Duration
	// Hashing admits the hashing of passwords.
	Hashing *admission.Queue
}

// NewAccounts returns the accounts of an environment.
func NewAccounts(o AccountOptions) (*Accounts, error) {
	decoy, err := argon2id.CreateHash(rand.Text(), hashing)
	return &Accounts{
		replica: o.Replica,
		store:   o.Replica.Store(),
		log:     o.Replica.Log(),
		keys:    o.Keys,
		secret:  o.Secret,
		idle: cmp.Or(
			o.Idle, sessionIdle,
		),
		longest:   cmp.Or(o.Longest, sessionLongest),
		processor: o.Hashing,
		decoy:     decoy,
		byAddress: access.NewLimiter(20, 10),
		byBoth:    access.NewLimiter(10, 10),
	}, err
}

func (as *Accounts) hash(ctx context.Context, who, password string) (string, error) {
	leave, err := as.processor.Enter(ctx, who, false)
	if err != nil {
		return "", err
	}
	defer leave()
	return argon2id.CreateHash(password, hashing)
}

// fits tells whether a password is the one of a hash.
func (as *Accounts) fits(ctx context.Context, who, password, hash string) (bool, error) {
	leave, err := as.processor.Enter(ctx, who, false)
	if err != nil {
		return false, err
	}
	defer leave()
	ok, err := argon2id.ComparePasswordAndHash(password, hash)
	return err == nil && ok, nil
}

// Accounts lists accounts.
func (as *Accounts) Accounts(ctx context.Context) ([]*api.Account, error) {
	return as.store.Accounts.Accounts(ctx)
}

// CreateAccount makes an account. Without a password it returns the secret of a
// link with which one is chosen, once. An error that is the caller's is a
// *BadParameterError or accounts.ErrTaken.
func (as *Accounts) CreateAccount(
	ctx context.Context, a api.Account, password, by string,
) (*api.Account, string, error) {
	if err := checkAccount(&a); err != nil {
		return nil, "", err
	}
	if password != "" {
		if err := checkPassword(password, a.Email); err != nil {
			return nil, "", err
		}
		var err error
		if a.Password, err = as.hash(ctx, by, password); err != nil {
			return nil, "", err
		}
		a.HasPassword = true
	}
	if err := as.store.Accounts.AddAccount(ctx, &a, content.UserCause(by)); err != nil || password != "" {
		return &a, "", err
	}
	secret, err := as.invite(ctx, a.ID)
	return &a, secret, err
}

func checkAccount(a *api.Account) error {
	at, err := mail.ParseAddress(a.Email)
	if err != nil || at.Address != a.Email || len(a.Email) > maxEmail {
		return api.BadParameter("email", "%q is no e-mail address", a.Email)
	}
	if !slices.Contains(access.Roles, a.Role) {
		var names []string
		for _, r := range access.Roles {
			names = append(names, string(r))
		}
		return api.BadParameter(
			"role", "there is no role %q%s; there are %s", a.Role, strictyaml.DidYouMean(string(a.Role), names),
			strings.Join(names, ", "),
		)
	}
	a.Name = cmp.Or(strings.TrimSpace(a.Name), strings.Split(a.Email, "@")[0])
	return nil
}

func checkPassword(password, email string) error {
	switch {
	case len(password) < minPassword || len(password) > maxPassword:
		return api.BadParameter("password", "a password has %d to %d characters", minPassword, maxPassword)
	case strings.EqualFold(password, email):
		return api.BadParameter("password", "the password must not be the e-mail address")
	}
	return nil
}

func (as *Accounts) invite(ctx context.Context, account string) (string, error) {
	secret, good := rand.Text(), linkGood
	if account == "" {
		good = firstLinkGood
	}
	return secret, as.store.Accounts.AddInvitation(ctx, hashOf(secret), account, good)
}

// AccountLink returns the secret of a link with which the account chooses a new
// password, once.
func (as *Accounts) AccountLink(ctx context.Context, name, by string) (*api.Account, string, error) {
	a, err := as.store.Accounts.Account(ctx, name)
	if err != nil {
		return nil, "", err
	}
	secret, err := as.invite(ctx, a.ID)
	if err == nil {
		err = as.store.Audit.Add(ctx, content.UserCause(by), "account link", a.Email, nil, nil)
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
// error is accounts.ErrLastAdmin if nobody could administer then.
func (as *Accounts) ChangeAccount(
	ctx context.Context, name string, c AccountChange, by string,
) (*api.Account, error) {
	a, err := as.store.Accounts.Account(ctx, name)
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
	return as.store.Accounts.ChangeAccount(ctx, a.ID, content.UserCause(by), func(a *api.Account) {
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
func (as *Accounts) FirstLink(ctx context.Context) (string, error) {
	all, err := as.store.Accounts.Accounts(ctx)
	if err != nil || len(all) > 0 {
		return "", err
	}
	return as.invite(ctx, "")
}

// Prove checks the password of somebody who is signed in, before they change who may do
// what. Its errors are those of SignIn.
func (as *Accounts) Prove(
	ctx context.Context, cookie string, who *access.Principal, password string, by audit.Actor,
) error {
	if len(password) > maxPassword {
		return ErrWrongPassword
	}
	if _, err := as.checkPassword(ctx, who.Name, password, by); err != nil {
		return err
	}
	return as.store.Accounts.ProveSession(ctx, hashOf(cookie))
}

// ChangePassword gives somebody who is signed in another password, and ends their other
// sessions. Its errors are those of SignIn, and a *BadParameterError.
func (as *Accounts) ChangePassword(
	ctx context.Context, cookie string, who *access.Principal, old, password string, by audit.Actor,
) error {
	if err := checkPassword(password, who.Name); err != nil {
		return err
	}
	if len(old) > maxPassword {
		return ErrWrongPassword
	}
	a, err := as.checkPassword(ctx, who.Name, old, by)
	if err != nil {
		return err
	}
	hash, err := as.hash(ctx, by.Address, password)
	if err != nil {
		return err
	}
	by.Name, by.Kind = a.Email, string(access.ByAccount)
	return as.store.Accounts.ChangePassword(ctx, a, hash, hashOf(cookie), by)
}
