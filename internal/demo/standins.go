package demo

import (
	"context"
	"errors"
	"net"
	"net/http"
	"path/filepath"
	"time"

	"ubiquon/internal/standin/board"
	"ubiquon/internal/standin/mailbox"
	"ubiquon/internal/standin/office"
	"ubiquon/internal/standin/slipway"
	"ubiquon/internal/standin/weather"

	"github.com/emersion/go-smtp"
)

func (d *Demo) startOffice(ctx context.Context, o Options, l net.Listener) error {
	seed, err := OfficeSeed(d.Connection.Office + "/pictures/")
	if err != nil {
		return err
	}
	f, err := office.Open(
		office.Options{
			Dir: filepath.Join(o.Data, "office"), Seed: seed, Credentials: d.Connection.OfficeCredentials,
			Hook: d.Connection.Gateway + "/hooks/harbour-office", Secret: d.Connection.HookSecret, Pictures: Pictures(),
			Log: o.Log,
		},
	)
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.Handle("/weather", weather.New(time.Now()))
	mux.Handle("/", f)
	d.office = d.serve(l, mux)
	d.running.Go(func() { f.Run(ctx) })
	return nil
}

func (d *Demo) startSlipway(ctx context.Context, o Options, l net.Listener) error {
	s, err := slipway.Open(
		slipway.Options{
			Dir:     filepath.Join(o.Data, "slipway"),
			Gateway: d.Connection.Gateway + "/content/main/published",
			Key:     d.Connection.Keys.Site,
			Secret:  d.Connection.SlipwaySecret,
			Delay:   o.SlipwayDelay,
			Log:     o.Log,
		},
	)
	if err != nil {
		return err
	}
	d.slipway = d.serve(l, s)
	d.running.Go(func() { s.Run(ctx) })
	return nil
}

// startBoardAndMailbox starts the pier display and the mail server.
func (d *Demo) startBoardAndMailbox(o Options, listeners []net.Listener) {
	d.board = d.serve(listeners[4], board.New(board.Options{
		Gateway: d.Connection.Gateway + "/content/main/published", Key: d.Connection.Keys.Board,
		Secret: d.Connection.BoardSecret, Log: o.Log,
	}))
	d.mail = mailbox.New(mailbox.Options{Log: o.Log})
	d.mailbox = d.serve(listeners[5], d.mail)
	d.running.Go(func() {
		if err := d.mail.ServeSMTP(listeners[6]); err != nil && !errors.Is(err, smtp.ErrServerClosed) {
			d.failed <- err
		}
	})
}
