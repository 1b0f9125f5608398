package office

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"

	"ubiquon/internal/outbound"
)

// letter is an announcement on its way.
type letter struct {
	ID    string
	Body  []byte
	Tries int
	Due   time.Time
}

// maxTries is how often an announcement is sent before it is given up.
const maxTries = 30

var client = &http.Client{Timeout: 10 * time.Second}

// announce puts an announcement into the outbox; the caller holds the lock and
// saves.
func (f *Office) announce(item *Item, what string, at time.Time) {
	if f.o.Hook == "" {
		return
	}
	e := cloudevents.New("1.0")
	id := newID()
	e.SetID(id)
	e.SetType("example.skerry.office." + what)
	e.SetSource("/harbour-office")
	e.SetSubject(item.Kind + "/" + item.Ref)
	e.SetTime(at)
	body, err := e.MarshalJSON()
	if err != nil {
		f.o.Log.Error("an announcement cannot be written", "error", err)
		return
	}
	f.state.Outbox = append(f.state.Outbox, &letter{ID: id, Body: body, Due: at})
	select {
	case f.wake <- struct{}{}:
	default:
	}
}

// deliver sends what is due and returns how long to wait for more.
func (f *Office) deliver(ctx context.Context) time.Duration {
	for {
		f.mu.Lock()
		var due *letter
		wait := time.Minute
		for _, l := range f.state.Outbox {
			if until := time.Until(l.Due); until <= 0 {
				due = l
				break
			} else if until < wait {
				wait = until
			}
		}
		f.mu.Unlock()
		if due == nil {
			return wait
		}
		err := f.send(ctx, due)
		if ctx.Err() != nil {
			return 0
		}
		f.mu.Lock()
		due.Tries++
		if err != nil {
			due.Due = time.Now().Add(min(500*time.Millisecond<<min(due.Tries, 6), 20*time.Second))
			f.o.Log.Warn(
				"the gateway did not take an announcement; it will be sent again", "try", due.Tries, "error", err,
			)
		}
		if err == nil || due.Tries >= maxTries {
			f.state.Outbox = slices.DeleteFunc(f.state.Outbox, func(l *letter) bool { return l == due })
		}
		if err := f.save(); err != nil {
			f.o.Log.Error("the harbour office's state cannot be written", "error", err)
		}
		f.mu.Unlock()
	}
}

func (f *Office) send(ctx context.Context, l *letter) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, f.o.Hook, bytes.NewReader(l.Body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	if err := outbound.Sign(req.Header, f.o.Secret, l.ID, time.Now(), l.Body); err != nil {
		return err
	}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	resp.Body.Close()
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("the gateway answered %s", resp.Status)
	}
	return nil
}
