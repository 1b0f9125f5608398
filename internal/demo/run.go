package demo

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/environment"
	"ubiquon/internal/files"
	"ubiquon/internal/outbound"
	"ubiquon/internal/server"
	"ubiquon/internal/service"
	"ubiquon/internal/standin/breakwater"
	"ubiquon/internal/standin/mailbox"
	"ubiquon/internal/store/cluster"
)

// Options of Start.
type Options struct {
	Data                    string
	Listen, Office, Slipway string // addresses; port 0 picks a free one
	Breakwater, Board       string
	Mailbox, SMTP           string // its page, and where it takes mail
	// Fresh throws away what an earlier run left.
	Fresh bool
	// Nodes is how many nodes serve, behind a front that hands requests to them in
	// turn; 0 and 1 mean one, without a front.
	Nodes int
	// Swap moves the dispatches from the harbour office to a folder of Markdown, and shows that the site stays
	// the same.
	Swap bool
	// SlipwayDelay makes every build take longer.
	SlipwayDelay time.Duration
	// Scratch lets the database trade safety for speed; for tests.
	Scratch bool
	// Reconcile is how often the office is compared with; 0 means 5 minutes.
	Reconcile time.Duration
	Console   fs.FS
	// Say gets a line of progress at a time; nil for silence.
	Say io.Writer
	Log *slog.Logger
}

// Demo is the running demo: a service and the outside around it.
type Demo struct {
	Connection  ConnectionInfo
	Environment *environment.Environment
	Data        string // its directory
	service     *service.Service
	office      *http.Server
	slipway     *http.Server
	edge        *http.Server
	board       *http.Server
	mailbox     *http.Server
	mail        *mailbox.Mailbox
	front       *http.Server
	nodes       []*service.Service // beside the first
	lock        *os.File
	stop        context.CancelFunc
	running     sync.WaitGroup
	failed      chan error
}

// Start brings everything up; when it returns, all of it is ready.
func Start(ctx context.Context, o Options) (d *Demo, err error) {
	o.Log = cmp.Or(o.Log, slog.New(slog.DiscardHandler))
	say := func(format string, args ...any) {
		if o.Say != nil {
			fmt.Fprintf(o.Say, format+"\n", args...)
		}
	}
	d = &Demo{Data: o.Data, failed: make(chan error, 2)}
	defer func() {
		if err != nil {
			d.Close()
		}
	}()
	// Before anything is touched: another demo may be running on the directory.
	if d.lock, err = service.Lock(o.Data); err != nil {
		return d, err
	}
	if o.Fresh {
		if err := clear(o.Data); err != nil {
			return d, err
		}
	}
	card, err := loadConnection(o.Data)
	if err != nil {
		return d, err
	}
	listeners, err := listenAll(o)
	if err != nil {
		return d, err
	}
	for i, address := range []*string{
		&card.Gateway, &card.Office, &card.Slipway, &card.Breakwater, &card.Board, &card.Mailbox,
	} {
		*address = "http://" + listeners[i].Addr().String()
	}
	card.SMTP = listeners[6].Addr().String()
	if card.Tides, err = tideRepository(ctx, o.Data); err != nil {
		return d, err
	}
	d.Connection = card
	d.startBoardAndMailbox(o, listeners)
	say("Starting PostgreSQL and the gateway (data in %s)", o.Data)
	base, err := serviceOptions(o, card, listeners[0])
	if err != nil {
		return d, err
	}
	if o.Nodes > 1 {
		base.Address, base.Name = card.Gateway, "node 1"
		if base.Listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return d, err
		}
	}
	d.service, err = service.Open(ctx, base)
	if err != nil {
		return d, fmt.Errorf(
			"%w\nIf an earlier version of the demo left the data in %s, begin anew with --fresh", err, o.Data,
		)
	}
	d.Environment = d.service.Environment
	ctx, d.stop = context.WithCancel(ctx)
	if err := d.startOffice(ctx, o, listeners[1]); err != nil {
		return d, err
	}
	d.edge = d.serve(
		listeners[3],
		breakwater.New(breakwater.Options{Gateway: card.Gateway, Secret: card.BreakwaterSecret, Log: o.Log}),
	)
	if err := d.service.Start(ctx); err != nil {
		return d, err
	}
	if err := d.keepKeys(ctx); err != nil {
		return d, err
	}
	return d, d.fill(ctx, o, base, listeners, say)
}

// fill starts further nodes, writes and reads the content, and has the site built.
func (d *Demo) fill(
	ctx context.Context, o Options, base service.Options, listeners []net.Listener, say func(string, ...any),
) error {
	if d.Connection.Nodes = nil; o.Nodes > 1 {
		if err := d.startNodes(ctx, o, base, listeners[0]); err != nil {
			return fmt.Errorf("further nodes: %w", err)
		}
		say("Started %d nodes", o.Nodes)
	}
	if err := d.followOffice(ctx); err != nil {
		return err
	}
	if err := d.load(ctx, say); err != nil {
		return err
	}
	if err := d.startSlipway(ctx, o, listeners[2]); err != nil {
		return err
	}
	if o.Swap {
		if err := d.swap(ctx, o.Data, say); err != nil {
			return err
		}
	}
	return writeConnection(CardFile(o.Data), d.Connection)
}

// serviceOptions are those of the first node.
func serviceOptions(o Options, card ConnectionInfo, l net.Listener) (service.Options, error) {
	m, err := Model()
	if err != nil {
		return service.Options{}, err
	}
	seed, err := Settings(
		"http://127.0.0.1:8410",
		card.Office,
		"http://127.0.0.1:8420",
		card.Slipway,
		"http://127.0.0.1:8440",
		card.Board,
		"127.0.0.1:8451",
		card.SMTP,
		"env:OFFICE_CREDENTIALS",
		card.OfficeCredentials,
		"env:OFFICE_SECRET",
		card.HookSecret,
		"env:SLIPWAY_SECRET",
		card.SlipwaySecret,
		"/demo/tides",
		card.Tides,
		"env:TIDES_SECRET",
		card.TidesSecret,
		"env:BOARD_SECRET",
		card.BoardSecret,
	)
	if err != nil {
		return service.Options{}, err
	}
	seed.Downstream = map[string]outbound.Target{
		"breakwater": {Call: card.Breakwater + "/invalidations", Secret: card.BreakwaterSecret},
	}
	return service.Options{
		Data:        o.Data,
		Locked:      true,
		Scratch:     o.Scratch,
		Environment: "main",
		Listener:    l,
		Model:       m,
		Settings:    seed,
		Outbound:    outbound.Options{Private: true},
		Files:       files.Config{Address: card.Gateway},
		Folders:     []string{o.Data},
		Reconcile:   o.Reconcile,
		Console:     o.Console,
		Log:         o.Log,
	}, nil
}

// load writes the line's own content and reads the harbour office's.
func (d *Demo) load(ctx context.Context, say func(format string, args ...any)) error {
	n, err := LoadContent(ctx, d.Environment)
	if err != nil {
		return fmt.Errorf("the line's own content: %w", err)
	}
	if n > 0 {
		say("Wrote %d entries of the line's own", n)
	}
	for _, name := range []string{"harbour-office", "tide-tables", "weather"} {
		cause := content.Cause{Kind: "reconcile", Name: name}
		done, err := d.Environment.Ingest.Reconcile(ctx, name, cause, false, func(typ string, n int) {
			say("Read %d of type %s from %s", n, typ, name)
		})
		if err != nil {
			return err
		}
		if len(done.Bad) > 0 {
			return fmt.Errorf("the origin %s holds content that does not fit: %s", name, strings.Join(done.Bad, "; "))
		}
	}
	return nil
}

// clear takes away what an earlier demo left, and nothing else.
func clear(data string) error {
	database, err := cluster.DataDir(data)
	if err != nil {
		return err
	}
	left := []string{database}
	for _, name := range []string{
		"office", "slipway", "files", "tides", "dispatches", "git", "demo.json", "secret.key", secretsFile,
	} {
		left = append(left, filepath.Join(data, name))
	}
	for _, path := range left {
		if err := os.RemoveAll(path); err != nil {
			return err
		}
	}
	return nil
}

func listenAll(o Options) ([]net.Listener, error) {
	var out []net.Listener
	for _, one := range [][2]string{
		{o.Listen, "listen"},
		{o.Office, "office"},
		{o.Slipway, "slipway"},
		{cmp.Or(o.Breakwater, "127.0.0.1:0"), "breakwater"},
		{cmp.Or(o.Board, "127.0.0.1:0"), "board"},
		{cmp.Or(o.Mailbox, "127.0.0.1:0"), "mailbox"},
		{cmp.Or(o.SMTP, "127.0.0.1:0"), "smtp"},
	} {
		l, err := service.Listen(one[0], one[1])
		if err != nil {
			for _, open := range out {
				open.Close()
			}
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}

func (d *Demo) serve(l net.Listener, h http.Handler) *http.Server {
	hs := server.Listening(h)
	go func() {
		if err := hs.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			d.failed <- err
		}
	}()
	return hs
}

// keepKeys makes the card's keys known where they are not.
func (d *Demo) keepKeys(ctx context.Context) error {
	read := func(edition string) access.Grant {
		return access.Grant{Verb: access.Read, Edition: edition, Type: access.Any}
	}
	for _, k := range []struct {
		key    access.Key
		secret string
	}{
		{access.Key{Name: "demo published", Grants: access.Grants{read(content.Published)}}, d.Connection.Keys.Published},
		{
			access.Key{Name: "demo preview", Grants: access.Grants{read(content.Published), read(content.Preview)}},
			d.Connection.Keys.Preview,
		},
		{access.Key{Name: "demo admin", Grants: service.Everything()}, d.Connection.Keys.Admin},
		{
			access.Key{Name: "skerry-web", Site: "skerry-web", Grants: access.Grants{read(content.Published)}},
			d.Connection.Keys.Site,
		},
		{
			access.Key{Name: "skerry-board", Site: "skerry-board", Grants: access.Grants{read(content.Published)}},
			d.Connection.Keys.Board,
		},
	} {
		if _, err := d.Environment.Keys.Authenticate(ctx, k.secret, "", time.Now()); err == nil {
			continue
		}
		if err := d.Environment.Keys.KeepKey(ctx, &k.key, k.secret, "demo"); err != nil {
			return err
		}
	}
	present, err := d.Environment.Accounts.Accounts(ctx)
	if err != nil || len(present) > 0 {
		return err
	}
	for _, a := range d.Connection.Accounts {
		if _, _, err := d.Environment.Accounts.CreateAccount(ctx, api.Account{
			Email: a.Email, Name: a.Name,
			Role: a.Role,
		}, a.Password, "demo"); err != nil {
			return err
		}
	}
	return nil
}

// Failed delivers the error with which one of the servers ended by itself.
func (d *Demo) Failed() <-chan error {
	if d.service == nil {
		return d.failed
	}
	go func() { d.failed <- <-d.service.Failed() }()
	return d.failed
}

// Close stops everything, PostgreSQL last.
func (d *Demo) Close() {
	if d.stop != nil {
		d.stop()
	}
	for _, hs := range []*http.Server{d.edge, d.front, d.office, d.slipway, d.board, d.mailbox} {
		if hs != nil {
			hs.Close()
		}
	}
	if d.mail != nil {
		d.mail.Close()
	}
	d.running.Wait()
	for _, s := range d.nodes {
		s.Close() // the first one has the database
	}
	if d.service != nil {
		d.service.Close()
	}
	if d.lock != nil {
		d.lock.Close()
	}
}
