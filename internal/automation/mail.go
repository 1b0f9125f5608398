package automation

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"

	"ubiquon/internal/mailer"
)

// ErrNoMail is the error of mail that cannot be sent since no server is set up.
var ErrNoMail = errors.New("no mail can be sent: no mail server is set up, or mail is off")

// mailServer is the server that the settings name.
func (a *Service) mailServer() (mailer.Server, error) {
	m := a.settings.State().Mail
	if m == nil || m.Off {
		return mailer.Server{}, failure{ErrNoMail}
	}
	password, err := a.settings.Resolve(m.Password)
	return mailer.Server{Address: m.Server, From: m.From, TLS: m.TLS, User: m.User, Password: password}, err
}

// recipients are the addresses that names stand for: of accounts that are not disabled for a
// role, those of a target, or the address itself; each once.
func (a *Service) recipients(ctx context.Context, names []string) ([]string, error) {
	var out []string
	add := func(address string) {
		if at, err := mail.ParseAddress(address); err == nil && !slices.Contains(out, at.Address) {
			out = append(out, at.Address)
		}
	}
	for _, name := range names {
		role, isRole := strings.CutPrefix(name, "role:")
		target, isTarget := strings.CutPrefix(name, "target:")
		switch {
		case isTarget:
			t, is := a.settings.State().Targets[target]
			if !is {
				return nil, never("there is no target %q any more", target)
			}
			if t.Off {
				continue
			}
			more, err := a.recipients(ctx, slices.DeleteFunc(slices.Clone(t.Mail), func(to string) bool {
				return strings.HasPrefix(to, "target:")
			}))
			if err != nil {
				return nil, err
			}
			for _, address := range more {
				add(address)
			}
		case isRole:
			accounts, err := a.store.Accounts.Accounts(ctx)
			if err != nil {
				return nil, err
			}
			for _, account := range accounts {
				if string(account.Role) == role && account.Disabled == nil {
					add(account.Email)
				}
			}
		default:
			add(name)
		}
	}
	return out, nil
}

// messageID makes a message's id of a name.
func (a *Service) messageID(name string) string {
	host := "ubiquon"
	if u, err := url.Parse(a.address); err == nil {
		host = cmp.Or(u.Hostname(), host)
	}
	return url.PathEscape(name) + "@" + host
}

// sendOnce sends a message. Its error is a failure where no further try would help.
func (a *Service) sendOnce(ctx context.Context, server mailer.Server, m mailer.Message) error {
	err := mailer.Send(ctx, server, a.o.Dial, m)
	var permanent *mailer.PermanentError
	if errors.As(err, &permanent) {
		return failure{err}
	}
	return err
}

// TestMail sends a message to an address, and returns what the server said.
func (a *Service) TestMail(ctx context.Context, to string) error {
	server, err := a.mailServer()
	if err != nil {
		return err
	}
	return mailer.Send(ctx, server, a.o.Dial, mailer.Message{
		ID: a.messageID("test"), To: to, Subject: "Test message of " + a.replica.Environment(),
		Text: fmt.Sprintf("Mail of the environment %s at %s arrives here.\n", a.replica.Environment(), a.address),
	})
}
