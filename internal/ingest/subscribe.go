package ingest

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/core/access"
	"ubiquon/internal/core/proof"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/events"
)

const (
	// leaseAsked is for how long a subscription is asked, and renewBefore how much of it is left when
	// it is asked for again.
	leaseAsked  = 7 * 24 * time.Hour
	renewBefore = 24 * time.Hour
	// hubSilent is how long a hub that does not verify is left alone before it is asked again.
	hubSilent = time.Hour
)

// subscribe asks the hub of a feed to tell what is new (WebSub), unless it does, or was asked lately.
func (in *Service) subscribe(ctx context.Context, source *origin.Source) {
	hub := source.Hub()
	if hub.Address == "" || in.with.Address == "" {
		return
	}
	held, err := in.store.Rejected.Subscription(ctx, source.Name)
	if err != nil {
		in.work.Failures.Failed(in.log, "the subscription of a feed is not known", "error", err)
		return
	}
	if held != nil && held.Hub == hub.Address && held.Topic == hub.Topic &&
		held.State == events.SubscriptionActive && held.Until != nil && time.Until(*held.Until) > renewBefore {
		return
	}
	s := events.Subscription{Hub: hub.Address, Topic: hub.Topic, Secret: rand.Text()}
	if held != nil && held.Hub == hub.Address {
		s.Secret = held.Secret
	}
	silent := held != nil && held.State == events.SubscriptionAsked
	mine, err := in.store.Rejected.ClaimSubscription(ctx, source.Name, &s, hubSilent)
	if err == nil && mine {
		if err = in.askHub(ctx, source.Name, &s); err == nil && silent {
			err = errors.New("it has not verified the one that was asked for last")
		}
	}
	if err != nil && ctx.Err() == nil {
		in.work.Failures.Failed(
			in.log,
			"the hub of feed "+source.Name+" does not take a subscription; it is asked again "+
				"in an hour, and the feed now and then",
			"error",
			err,
		)
	}
}

// askHub sends a request for a subscription (WebSub, section 5.1).
func (in *Service) askHub(ctx context.Context, name string, s *events.Subscription) error {
	form := url.Values{
		"hub.mode": {"subscribe"}, "hub.topic": {s.Topic}, "hub.callback": {in.with.Address + "/hooks/" + name},
		"hub.secret": {s.Secret}, "hub.lease_seconds": {strconv.Itoa(int(leaseAsked.Seconds()))},
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Hub, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	resp, err := in.outbound.NewClient().Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<10)) // as much as there is
	if resp.StatusCode/100 != 2 {
		detail := fmt.Sprintf("the hub answers %s: %s", resp.Status, access.Printable(string(text)))
		return in.store.Rejected.SettleSubscription(ctx, name, events.SubscriptionRefused, detail, 0)
	}
	return nil
}

// VerifySubscription answers a hub that asks whether a subscription is meant (WebSub, section 5.3). ok is
// false where none of the kind was asked for.
func (in *Service) VerifySubscription(
	ctx context.Context,
	name string,
	q url.Values,
) (challenge string, ok bool, err error) {
	source := in.known()[name]
	if source == nil || !source.Feed() {
		return "", false, nil
	}
	held, err := in.store.Rejected.Subscription(ctx, name)
	if err != nil || held == nil || q.Get("hub.topic") != held.Topic {
		return "", false, err
	}
	switch q.Get("hub.mode") {
	case "subscribe":
		lease, err := strconv.Atoi(q.Get("hub.lease_seconds"))
		if err != nil || lease <= 0 || lease > 365*24*3600 {
			lease = int(leaseAsked.Seconds())
		}
		in.log.Info("the hub of a feed tells what is new", "origin", name, "seconds", lease)
		return q.Get("hub.challenge"), true, in.store.Rejected.SettleSubscription(
			ctx, name, events.SubscriptionActive, "", time.Duration(lease)*time.Second)
	case "denied":
		return "", true, in.store.Rejected.SettleSubscription(
			ctx, name, events.SubscriptionRefused, access.Printable(q.Get("hub.reason")), 0)
	}
	return "", false, nil // we never ask to end one
}

// fromHub proves a call of the hub of a feed by the secret of the subscription (WebSub, section 8).
func (in *Service) fromHub(ctx context.Context, name string, m *proof.Message, now time.Time) error {
	held, err := in.store.Rejected.Subscription(ctx, name)
	if err != nil {
		return err
	}
	if held == nil {
		return fmt.Errorf("%w: there is no subscription", proof.ErrNotProven)
	}
	algorithm, _, _ := strings.Cut(m.Header.Get("X-Hub-Signature"), "=")
	if algorithm != "sha1" && algorithm != "sha256" && algorithm != "sha512" {
		return fmt.Errorf("%w: the header X-Hub-Signature is needed", proof.ErrNotProven)
	}
	p := proof.Proof{HMAC: &proof.HMAC{
		Header: "X-Hub-Signature", Algorithm: algorithm, Prefix: algorithm + "=", Secret: proof.Texts{held.Secret},
	}}
	return p.Prove(m, now)
}
