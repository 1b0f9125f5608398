package automation

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/mailer"
	"ubiquon/internal/settings"
)

// notify has the accounts told that an event concerns: who may approve, of what waits; who has
// submitted it, of what was decided; who asked for that, of trouble.
func (a *Service) notify(ctx context.Context, tx pgx.Tx, o *rule.Occurrence) error {
	if m := a.settings.State().Mail; m == nil || m.Off {
		return nil
	}
	accounts, err := a.store.Accounts.Accounts(ctx)
	if err != nil {
		return err
	}
	var writer string
	if o.Event == rule.Approved || o.Event == rule.Returned {
		if writer, err = a.submitter(ctx, o); err != nil {
			return err
		}
	}
	for _, account := range accounts {
		how := toldHow(account, o, writer)
		if account.Disabled != nil || how == api.TellNever || strings.EqualFold(account.Email, o.By) {
			continue
		}
		subject, text := a.notificationText(o)
		n := api.Notification{
			Account: account.ID, Event: o.Event, Entry: o.Entry, Subject: subject, Text: text, Daily: how == api.TellDaily,
		}
		due := time.Time{}
		if n.Daily {
			due = nextDigest(a.settings.State().Mail, time.Now())
		}
		if err := a.store.Outbox.Add(ctx, tx, n, due); err != nil {
			return err
		}
	}
	return nil
}

// toldHow says how an account is told of an event.
func toldHow(account *api.Account, o *rule.Occurrence, writer string) string {
	approves := account.Role.Grants().
		Allows(access.Need{Verb: access.Publish, Edition: content.Published, Type: o.Type})
	switch o.Event {
	case rule.Submitted, rule.HandedIn:
		if approves {
			return account.Notify.Review
		}
	case overdue:
		if approves || strings.EqualFold(account.Email, writer) {
			return account.Notify.Overdue
		}
	case rule.Approved, rule.Returned:
		if strings.EqualFold(account.Email, writer) {
			return account.Notify.Decision
		}
	default:
		if slices.Contains(rule.ServiceEvents, o.Event) && account.Role == access.RoleAdmin {
			return account.Notify.Trouble
		}
	}
	return api.TellNever
}

// overdue is the event of notifications of entries that wait for long. No rule is for it.
const overdue = "overdue"

// submitter is who has submitted the entry that was decided on.
func (a *Service) submitter(ctx context.Context, o *rule.Occurrence) (string, error) {
	e, err := a.store.Entries.Get(ctx, o.Entry)
	if err != nil {
		return "", nil // gone by now: nobody is told
	}
	for _, r := range e.Reviews { // the newest first
		if r.What == content.Submitted {
			return r.By, nil
		}
	}
	return "", nil
}

func (a *Service) notificationText(o *rule.Occurrence) (subject, text string) {
	title := cmp.Or(o.Title, o.Entry, o.Subject)
	var b strings.Builder
	switch o.Event {
	case rule.Submitted, rule.HandedIn:
		subject = "Waiting for approval: " + title
		fmt.Fprintf(&b, "%s asks for approval of the %s “%s”.\n", o.By, o.Type, title)
		if o.Event == rule.HandedIn {
			b.Reset()
			fmt.Fprintf(&b, "The %s “%s” was handed in from outside.\n", o.Type, title)
		}
	case rule.Approved:
		subject = "Approved: " + title
		fmt.Fprintf(&b, "%s has approved the %s “%s”.\n", o.By, o.Type, title)
	case rule.Returned:
		subject = "Returned: " + title
		fmt.Fprintf(&b, "%s has returned the %s “%s”.\n", o.By, o.Type, title)
	case overdue:
		subject = "Still waiting for approval: " + title
		fmt.Fprintf(&b, "The %s “%s” has waited for approval since %s. %s has submitted it.\n", o.Type, title,
			o.At.UTC().Format("2 January 15:04 UTC"), o.By)
	default:
		subject = fmt.Sprintf("%s: %s", strings.ReplaceAll(o.Event, "-", " "), title)
	}
	if o.Detail != "" {
		fmt.Fprintf(&b, "\n%s\n", o.Detail)
	}
	if d := o.Differences(a.replica.Model()); d != "" && (o.Event == rule.Submitted || o.Event == rule.HandedIn) {
		fmt.Fprintf(&b, "\nWhat differs from what readers get:\n\n%s\n", d)
	}
	if o.Entry != "" {
		fmt.Fprintf(&b, "\nOpen it: %s\n", a.linkTo("/entries/"+o.Entry))
	}
	return subject, b.String()
}

// nextDigest is when the daily mail is sent next.
func nextDigest(m *settings.Mail, now time.Time) time.Time {
	at, zone := "07:00", time.UTC
	if m != nil {
		at = cmp.Or(m.DigestAt, at)
		if l, err := time.LoadLocation(m.Zone); err == nil {
			zone = l
		}
	}
	clock, err := time.Parse("15:04", at)
	if err != nil {
		clock = time.Date(0, 1, 1, 7, 0, 0, 0, time.UTC)
	}
	local := now.In(zone)
	due := time.Date(local.Year(), local.Month(), local.Day(), clock.Hour(), clock.Minute(), 0, 0, zone)
	if !due.After(now) {
		due = time.Date(local.Year(), local.Month(), local.Day()+1, clock.Hour(), clock.Minute(), 0, 0, zone)
	}
	return due
}

// notificationAttempts is how often a mail is tried before it has failed for good.
const notificationAttempts = 10

// sendNotifications sends what accounts are told, when it is due. Every node tries.
func (a *Service) sendNotifications(ctx context.Context) {
	for {
		all, next, err := a.store.Outbox.Claim(ctx)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			a.work.Failures.Failed(a.log, "notifications cannot be read; trying on", "error", err)
			next = time.Second
		}
		for _, together := range mailsOf(all) {
			a.sendMail(ctx, together)
		}
		if len(all) > 0 {
			a.news.Tell("runs")
			continue
		}
		if !background.Sleep(ctx, min(max(next, 10*time.Millisecond), time.Second), a.wakeMail) {
			return
		}
	}
}

// mailsOf groups notifications by the mail that they are sent in: those of a day of one account
// in one, others each in their own.
func mailsOf(all []api.Notification) (out [][]api.Notification) {
	daily := map[string]int{}
	for _, n := range all {
		if i, is := daily[n.Account]; is && n.Daily {
			out[i] = append(out[i], n)
			continue
		}
		if n.Daily {
			daily[n.Account] = len(out)
		}
		out = append(out, []api.Notification{n})
	}
	return out
}

func (a *Service) sendMail(ctx context.Context, together []api.Notification) {
	ids := make([]int64, len(together))
	for i, n := range together {
		ids[i] = n.ID
	}
	first := together[0]
	var err error
	if first.Email == "" {
		err = never("the account is gone, or disabled")
	} else {
		var server mailer.Server
		if server, err = a.mailServer(); err == nil {
			err = a.sendOnce(ctx, server, a.messageOf(together))
		}
	}
	if ctx.Err() != nil {
		return
	}
	if err == nil {
		err = a.store.Outbox.Sent(ctx, ids)
	} else {
		again := againAfter(err, 1)
		if again > 0 {
			again = rebuild.Backoff(first.Attempts)
		}
		if first.Attempts >= notificationAttempts {
			again = 0
		}
		a.log.Warn("a notification was not sent", "account", first.Account, "attempt", first.Attempts, "again", again,
			"error", err)
		err = a.store.Outbox.Failed(ctx, ids, err.Error(), again)
	}
	if err != nil && ctx.Err() == nil {
		a.log.Error("what became of a notification cannot be noted; it is sent again", "error", err)
	}
}

// messageOf writes the mail of notifications that are sent together.
func (a *Service) messageOf(together []api.Notification) mailer.Message {
	first := together[0]
	m := mailer.Message{
		ID: a.messageID(fmt.Sprintf("%s-note-%d", a.replica.Environment(), first.ID)),
		To: first.Email, Subject: first.Subject, Text: first.Text,
	}
	if first.Daily {
		m.Subject = fmt.Sprintf("Today: %d %s", len(together), plural(len(together), "matter", "matters"))
		var b strings.Builder
		for _, n := range together {
			fmt.Fprintf(&b, "* %s\n\n%s\n", n.Subject, indent(n.Text))
		}
		m.Text = b.String()
	}
	m.Text += "\n-- \nHow you are told of what: " + a.linkTo("/you") + "\n"
	return m
}

func plural(n int, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}

func indent(text string) string {
	return "  " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n  ") + "\n"
}

// inLocale takes of fields the values of the default locale.
func inLocale(m *model.Model, t *model.Type, fields content.Fields) content.Fields {
	if fields == nil {
		return nil
	}
	out := content.Fields{}
	for _, f := range t.Fields {
		v := fields[f.Name]
		if byLocale, is := v.(map[string]any); is && f.Translated {
			v = byLocale[m.Default()]
		}
		if v != nil {
			out[f.Name] = v
		}
	}
	return out
}

// Notifications lists what accounts were told, the newest first.
func (a *Service) Notifications(ctx context.Context, f api.NotificationFilter) ([]api.Notification, error) {
	return a.store.Outbox.List(ctx, "", f.State, f.Limit)
}
