// Package service puts a running process together: the database, which it starts itself if none is
// configured, the environment, and the HTTP server. It owns their lifecycle.
package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/blob"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/model"
	"ubiquon/internal/environment"
	"ubiquon/internal/files"
	"ubiquon/internal/outbound"
	"ubiquon/internal/server"
	"ubiquon/internal/settings"
	"ubiquon/internal/store"
	"ubiquon/internal/store/cluster"
	"ubiquon/internal/store/db"
)

// Options of Open.
type Options struct {
	// Database is a PostgreSQL URL; empty starts a private cluster under Data.
	Database string
	Data     string
	// Locked says that the caller holds the data directory's lock.
	Locked bool
	// Scratch lets the private cluster trade safety for speed; for tests.
	Scratch     bool
	Environment string
	// Listener that is served; Close closes it.
	Listener net.Listener
	// Address under which builders reach the service; empty means the listener's.
	Address string
	Model   *model.Model
	// ApplyModel is that of environment.Options.
	ApplyModel bool
	// Settings are those of environment.Options.
	Settings settings.Seed
	// SecretKey has the keys that encrypt secrets, as seal.ReadRing reads them. Without one, a
	// service with a private cluster makes one, in the file secret.key under Data.
	SecretKey string
	Cache     cache.Options
	// Files is that of environment.Options. Their bytes are kept in FilesDirectory, by default the
	// directory files under Data, or in Objects, if that has an address.
	Files          files.Config
	FilesDirectory string
	Objects        blob.ObjectStore
	Outbound       outbound.Options
	// Issuer of tokens that are accepted beside keys; nil for none.
	Issuer    *access.Issuer
	Reconcile time.Duration
	// Folders are those of environment.Options.
	Folders []string
	// Proxies are those of server.Options.
	Proxies []netip.Prefix
	// Batch and TrustedOnly are those of server.Options, ReadTimeout that of
	// environment.Options.
	Batch       int
	TrustedOnly bool
	ReadTimeout time.Duration
	// KeepChanges and the next ones are those of environment.Options.
	KeepChanges, KeepEvents, KeepAudit time.Duration
	Limits                             limits.Limits
	SessionIdle, SessionLongest        time.Duration
	// Quiet is that of environment.Options.
	Quiet bool
	// Drain is how long Close goes on serving, unready, before it ends what is open.
	Drain time.Duration
	// Metrics is that of server.Options.
	Metrics []netip.Prefix
	// Name that the other nodes see this one by; default: host and process.
	Name    string
	Console fs.FS
	Log     *slog.Logger
}

// address is where others reach the service, given where it listens.
func (o *Options) address(own string) string {
	if o.Address != "" {
		return strings.TrimSuffix(o.Address, "/")
	}
	return own
}

// Service is a service that is put together.
type Service struct {
	Environment *environment.Environment
	// Address of the HTTP server, as in http://127.0.0.1:8400.
	Address string
	store   *store.Store
	cluster *cluster.Cluster
	http    *http.Server
	server  *server.Server
	handler atomic.Pointer[http.Handler]
	stop    context.CancelFunc
	o       Options
	lock    *os.File
	failed  chan error
}

// Open brings up the database and the environment. It waits for a database that cannot be
// reached; nothing is served before Start, except that meanwhile.
func Open(ctx context.Context, o Options) (s *Service, err error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if os.Getenv("GOGC") == "" {
		// What lives long is small beside what each request leaves behind: collecting
		// half as often costs a little memory and saves much time.
		debug.SetGCPercent(200)
	}
	limitMemory(o.Log)
	s = &Service{o: o, Address: "http://" + o.Listener.Addr().String(), failed: make(chan error, 1)}
	defer func() {
		if err != nil {
			s.Close()
		}
	}()
	url := o.Database
	if url == "" {
		if !o.Locked {
			if s.lock, err = Lock(o.Data); err != nil {
				return s, err
			}
		}
		if s.cluster, err = cluster.Start(ctx, cluster.Options{
			Dir: o.Data, Scratch: o.Scratch,
			Log: o.Log,
		}); err != nil {
			return s, err
		}
		url = s.cluster.URL
	}
	processor := admission.ForProcessor(o.Limits.WithDefaults())
	if err := s.openStore(ctx, url, processor); err != nil {
		return s, err
	}
	keys, err := o.secretKeys()
	if err != nil {
		return s, err
	}
	blobs, err := o.blobs(ctx)
	if err != nil {
		return s, err
	}
	s.Environment, err = environment.Open(
		ctx,
		environment.Options{
			Store:          s.store,
			Model:          o.Model,
			ApplyModel:     o.ApplyModel,
			Settings:       o.Settings,
			SecretKeys:     keys,
			Cache:          o.Cache,
			Files:          o.Files,
			Blobs:          blobs,
			Outbound:       o.Outbound,
			Issuer:         o.Issuer,
			ReadTimeout:    o.ReadTimeout,
			KeepChanges:    o.KeepChanges,
			KeepEvents:     o.KeepEvents,
			KeepAudit:      o.KeepAudit,
			Quiet:          o.Quiet,
			Limits:         o.Limits,
			Processor:      processor,
			SessionIdle:    o.SessionIdle,
			SessionLongest: o.SessionLongest,
			Name:           o.Name,
			Address:        o.address(s.Address),
			Reconcile:      o.Reconcile,
			Folders:        o.Folders,
			Work:           o.Data,
			Public:         o.Address,
			Log:            o.Log,
		},
	)
	return s, err
}

// openStore connects to the database, and waits for one that cannot be reached yet.
func (s *Service) openStore(ctx context.Context, url string, processor *admission.Queue) (err error) {
	o := s.o
	for wait := time.Second; ; wait = min(2*wait, longestDatabaseWait) {
		s.store, err = store.Open(
			ctx, o.Environment,
			db.Options{URL: url, Processor: processor, Reads: int32(o.Limits.WithDefaults().Computing), Log: o.Log},
		)
		if err == nil {
			return nil
		}
		if o.Database == "" || !db.Passing(err) || ctx.Err() != nil {
			return err
		}
		if s.http == nil {
			o.Log.Warn("the database is not there; waiting for it", "error", err)
			s.serve(http.HandlerFunc(waiting))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
}

// longestWrite is how long a write may go on in the background as the node goes down.
const longestWrite = 100 * time.Second

// longestDatabaseWait bounds the pause between tries to reach the database at the start.
const longestDatabaseWait = 5 * time.Second

// waiting is served while there is no database: the process is live, and not ready.
func waiting(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	if r.URL.Path == "/health/live" {
		_, _ = io.WriteString(w, `{"status":"live"}`+"\n") // who asks may be gone
		return
	}
	w.Header().Set("Retry-After", "1")
	w.WriteHeader(http.StatusServiceUnavailable)
	_, _ = io.WriteString(
		w, `{"type":"/problems/away","status":503,"detail":"this node waits for its database"}`+"\n",
	)
}

// serve serves the listener with a handler, from now on or instead of the one before.
func (s *Service) serve(h http.Handler) {
	s.handler.Store(&h)
	if s.http != nil {
		return
	}
	s.http = server.Listening(
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { (*s.handler.Load()).ServeHTTP(w, r) }),
	)
	go func() {
		if err := s.http.Serve(s.o.Listener); !errors.Is(err, http.ErrServerClosed) {
			s.failed <- err
		}
	}()
}

// Lock keeps two services from using one data directory, which it makes if need
// be. Closing the file ends the lock, and so does the end of the process.
func Lock(data string) (*os.File, error) {
	if err := os.MkdirAll(data, 0o755); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(data, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf(
			"another ubiquon is running on %s; stop it, or give another directory with --data", data,
		)
	}
	return f, nil
}

// Start lets the environment work and serves the listener.
func (s *Service) Start(ctx context.Context) error {
	// Made first: what the environment computes ahead is compiled as requests are.
	web := server.New(server.Options{
		Environment: s.Environment,
		Console:     s.o.Console,
		Proxies:     s.o.Proxies,
		Metrics:     s.o.Metrics,
		Batch:       s.o.Batch,
		TrustedOnly: s.o.TrustedOnly,
		Secure:      strings.HasPrefix(s.o.Address, "https:"),
		Log:         s.o.Log,
	})
	if err := s.Environment.Start(ctx); err != nil {
		return err
	}
	s.server = web
	s.serve(s.server)
	ctx, s.stop = context.WithCancel(context.WithoutCancel(ctx))
	go giveBack(ctx)
	return nil
}

// Failed delivers the error with which serving ended by itself.
func (s *Service) Failed() <-chan error { return s.failed }

// Close goes down without dropping a request: the node is unready and goes on serving for
// the time of Drain, streams end, the requests at hand are finished, the listener closes.
// Then it stops everything that Open and Start have started, the private cluster last.
func (s *Service) Close() {
	if s.stop != nil {
		s.stop()
	}
	if s.server != nil {
		s.Environment.Replica.Leave()
		s.http.SetKeepAlivesEnabled(false) // clients connect again, perhaps elsewhere
		time.Sleep(s.o.Drain)
		s.server.Guard.EndStreams()
	}
	if s.http != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		if err := s.http.Shutdown(ctx); err != nil {
			s.http.Close() // streams do not end by themselves
		}
		cancel()
	} else {
		s.o.Listener.Close()
	}
	if s.server != nil {
		ctx, cancel := context.WithTimeout(context.Background(), longestWrite)
		s.server.Guard.FinishWrites(ctx)
		cancel()
	}
	if s.Environment != nil {
		s.Environment.Close()
	}
	if s.store != nil {
		s.store.DB.Close()
	}
	if s.cluster != nil {
		s.cluster.Stop()
	}
	if s.lock != nil {
		s.lock.Close()
	}
}

// FirstKey returns the secret of a new key that may do everything, if there is
// none that may manage yet; else "".
func (s *Service) FirstKey(ctx context.Context) (string, error) {
	keys, err := s.Environment.Keys.Keys(ctx)
	if err != nil {
		return "", err
	}
	for _, k := range keys {
		if k.Revoked == nil && k.Grants.Allows(access.Administer) {
			return "", nil
		}
	}
	_, secret, err := s.Environment.Keys.CreateKey(
		ctx, access.Key{Name: "first admin", Grants: Everything()}, "first start",
	)
	return secret, err
}

// FirstLink returns the address at which the first account is made, once; "" if
// there is an account already.
func (s *Service) FirstLink(ctx context.Context) (string, error) {
	link, err := s.Environment.Accounts.FirstLink(ctx)
	if err != nil || link == "" {
		return "", err
	}
	return s.o.address(s.Address) + "/console/welcome#" + link, nil
}

// Everything is the grants of an administrator.
func Everything() access.Grants { return access.RoleAdmin.Grants() }

// Listen opens a TCP listener, with an error that says what to do.
func Listen(address, flag string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf(
			"%s is taken by another program; choose another address with --%s, port 0 picks a free one", address,
			flag,
		)
	}
	if err != nil {
		return nil, fmt.Errorf("--%s: %w", flag, err)
	}
	return l, nil
}
