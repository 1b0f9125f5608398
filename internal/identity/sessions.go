package identity

import (
	"cmp"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/store/audit"
	"ubiquon/internal/store/db"
)

// SignIn checks a password and returns the cookie of a new session, which
// replaces the one that was sent. Its error is ErrWrongPassword or ErrTooMany
// where that is the reason.
func (as *Accounts) SignIn(
	ctx context.Context, email, password string, by audit.Actor, agent, replaced string,
) (string, *api.Account, error) {
	if len(email) > maxEmail || len(password) > maxPassword {
		return "", nil, ErrWrongPassword // nobody has such a long one
	}
	a, err := as.checkPassword(ctx, email, password, by)
	if errors.Is(err, ErrWrongPassword) {
		by.Name, by.Kind = "somebody", "account"
		if err := as.store.Audit.Add(audit.WithActor(ctx, by), content.UserCause(""), "sign in refused",
			access.Printable(email), nil, nil); err != nil {
			return "", nil, err
		}
	}
	if err != nil {
		return "", nil, err
	}
	cookie, err := as.openSession(ctx, a, by, agent, replaced)
	return cookie, a, err
}

// checkPassword returns the account with the address and the password. Its error is
// ErrWrongPassword or ErrTooMany where that is the reason.
func (as *Accounts) checkPassword(
	ctx context.Context, email, password string, by audit.Actor,
) (*api.Account, error) {
	email = strings.ToLower(strings.TrimSpace(email))
	now := time.Now()
	from := access.Network(by.Address)
	if !as.byAddress.Allow(from, now) || !as.byBoth.Allow(from+" "+email, now) {
		return nil, access.ErrTooMany
	}
	a, err := as.store.Accounts.Account(ctx, email)
	if err != nil && !errors.Is(err, db.ErrNotFound) {
		return nil, err
	}
	hash := as.decoy
	if err == nil && a.Password != "" && a.Disabled == nil && a.Email == email {
		hash = a.Password
	}
	fits, err := as.fits(ctx, from, password, hash)
	if err == nil && (!fits || hash == as.decoy) {
		err = ErrWrongPassword
	}
	return a, err
}

func (as *Accounts) openSession(
	ctx context.Context, a *api.Account, by audit.Actor, agent, replaced string,
) (string, error) {
	cookie := as.signedCookie(rand.Text() + rand.Text())
	by.Name, by.Kind = a.Email, string(access.ByAccount)
	return cookie, as.store.Accounts.AddSession(
		ctx, a, hashOf(cookie), hashOf(replaced), as.SessionLongest(), by, access.Printable(agent),
	)
}

// signedCookie is a session's cookie: random, and signed with the environment's secret,
// so that nobody can have cookies looked up that were never given out.
func (as *Accounts) signedCookie(random string) string {
	mac := hmac.New(sha256.New, as.secret)
	mac.Write([]byte("session " + random))
	return random + "." + base64.RawURLEncoding.EncodeToString(mac.Sum(nil)[:15])
}

// SessionLongest is how long somebody stays signed in at most.
func (as *Accounts) SessionLongest() time.Duration { return as.longest }

// SessionIdle is after how long without a request a session ends.
func (as *Accounts) SessionIdle() time.Duration { return as.idle }

// SignOut ends the session of a cookie.
func (as *Accounts) SignOut(ctx context.Context, cookie string, by audit.Actor) error {
	by.Kind = string(access.ByAccount)
	return as.store.Accounts.EndSession(ctx, hashOf(cookie), by)
}

// Sessions lists where somebody is signed in.
func (as *Accounts) Sessions(ctx context.Context, who *access.Principal) ([]api.Session, error) {
	return as.store.Accounts.Sessions(ctx, who.ID, as.SessionIdle())
}

// Notifications returns how somebody is told of what.
func (as *Accounts) Notifications(ctx context.Context, who *access.Principal) (api.NotificationSettings, error) {
	a, err := as.store.Accounts.Account(ctx, who.ID)
	if err != nil {
		return api.NotificationSettings{}, err
	}
	return a.Notify, nil
}

// ChangeNotifications says how somebody is told of what, and returns it.
func (as *Accounts) ChangeNotifications(
	ctx context.Context, who *access.Principal, s api.NotificationSettings,
) (api.NotificationSettings, error) {
	for _, part := range []struct{ name, value string }{
		{"review", s.Review}, {"decision", s.Decision}, {"overdue", s.Overdue}, {"trouble", s.Trouble},
	} {
		if part.value != "" && !slices.Contains([]string{api.TellNow, api.TellDaily, api.TellNever}, part.value) {
			return s, api.BadParameter(part.name, "%q is none of now, daily and never", part.value)
		}
	}
	return s.WithDefaults(), as.store.Accounts.ChangeNotifications(ctx, who.ID, s)
}

// EndSession ends one of somebody's own sessions.
func (as *Accounts) EndSession(ctx context.Context, who *access.Principal, id string, by audit.Actor) error {
	by.Kind = string(access.ByAccount)
	return as.store.Accounts.EndSessionNamed(ctx, who.ID, id, by)
}

// SignedIn finds out whose session a cookie is, and the session's id; db.ErrNotFound
// if it is none, or its time is over.
func (as *Accounts) SignedIn(ctx context.Context, cookie string) (access.Principal, string, error) {
	random, _, _ := strings.Cut(cookie, ".")
	if !hmac.Equal([]byte(cookie), []byte(as.signedCookie(random))) {
		return access.Principal{}, "", db.ErrNotFound
	}
	s, err := as.store.Accounts.Session(ctx, hashOf(cookie), as.SessionIdle())
	if err != nil {
		return access.Principal{}, "", err
	}
	a := s.Account
	return access.Principal{
		Kind:   access.ByAccount,
		Name:   a.Email,
		ID:     a.ID,
		Proved: s.Proved,
		Rights: access.Rights{Open: as.keys.PublicGrants(), Own: a.Role.Grants()},
	}, s.ID, nil
}

// Welcome returns the account that a link is for, nil if it makes the first one;
// db.ErrNotFound if it is no good any more.
func (as *Accounts) Welcome(ctx context.Context, link string, by audit.Actor) (*api.Account, error) {
	if !as.byAddress.Allow(access.Network(by.Address), time.Now()) {
		return nil, access.ErrTooMany
	}
	return as.store.Accounts.Invitation(ctx, hashOf(link))
}

// ChoosePassword uses a link up, and signs in.
func (as *Accounts) ChoosePassword(
	ctx context.Context, link, email, name, password string, by audit.Actor, agent string,
) (string, *api.Account, error) {
	a, err := as.Welcome(ctx, link, by)
	if err != nil {
		return "", nil, err
	}
	if a == nil {
		a = &api.Account{Email: strings.ToLower(strings.TrimSpace(email)), Role: access.RoleAdmin}
	}
	a.Name = cmp.Or(name, a.Name)
	if err := checkAccount(a); err != nil {
		return "", nil, err
	}
	if err := checkPassword(password, a.Email); err != nil {
		return "", nil, err
	}
	if a.Password, err = as.hash(ctx, by.Address, password); err != nil {
		return "", nil, err
	}
	by.Name, by.Kind = a.Email, string(access.ByAccount)
	if err := as.store.Accounts.TakeInvitation(ctx, hashOf(link), a, by); err != nil {
		return "", nil, fmt.Errorf("the link: %w", err)
	}
	a.HasPassword = true
	cookie, err := as.openSession(ctx, a, by, agent, "")
	return cookie, a, err
}
