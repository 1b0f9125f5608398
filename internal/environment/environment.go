// Package environment puts one environment together: the replica that follows its change
// log, and the services that read, write, ingest, react, know who asks, and explain.
package environment

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"os"
	"time"

	"ubiquon/internal/admission"
	"ubiquon/internal/authoring"
	"ubiquon/internal/automation"
	"ubiquon/internal/background"
	"ubiquon/internal/blob"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/core/seal"
	"ubiquon/internal/delivery"
	"ubiquon/internal/diagnose"
	"ubiquon/internal/files"
	"ubiquon/internal/identity"
	"ubiquon/internal/ingest"
	"ubiquon/internal/outbound"
	"ubiquon/internal/pages"
	"ubiquon/internal/replication"
	"ubiquon/internal/settings"
	"ubiquon/internal/store"
)

// Options of Open.
type Options struct {
	Store *store.Store
	// Model that the environment gets if it has none yet. A model that is there is
	// changed with ApplyModel only.
	Model *model.Model
	// ApplyModel applies Model to an environment that has another one, unless
	// content would be lost.
	ApplyModel bool
	// Settings that the environment gets if it has none yet, or with Settings.Apply.
	Settings settings.Seed
	// SecretKeys encrypt secrets; nil: a key that lies in the database does.
	SecretKeys *seal.Ring
	Cache      cache.Options
	// Files is what is configured of files, and Blobs where their bytes are kept; nil: in a
	// temporary directory that Close removes.
	Files files.Config
	Blobs blob.Store
	// Outbound says where calls may go.
	Outbound outbound.Options
	// Address under which builders reach this service, as in http://host:port.
	// It may be set later, before Start, with SetAddress.
	Address string
	// Folders are the directories that origins in folders may be in, and Work is where copies of
	// repositories are kept; "" means a temporary directory.
	Folders []string
	Work    string
	// Public is where hubs of feeds reach this service, as in https://gateway.example; "" where they
	// do not.
	Public string
	// Reconcile is how often origins are compared with what is held; 0 means 5
	// minutes.
	Reconcile time.Duration
	// Name that the others see this node by; default: host and process.
	Name string
	// KeepChanges is how long a change stays in the log at least; 0 means 30 days.
	KeepChanges time.Duration
	// KeepEvents and KeepAudit are how long events and lines of the audit log are kept; 0
	// means 90 days and two years.
	KeepEvents, KeepAudit time.Duration
	// ReadTimeout bounds how long one answer is computed; 0 means 10 seconds.
	ReadTimeout time.Duration
	// Quiet starts the node as a quiet copy: without schedules, rules, builds, origins and
	// calls, until it is woken.
	Quiet bool
	// Processor is where compiling requests and hashing passwords wait for their turn, and
	// whatever else shares it; nil for one of its own.
	Processor *admission.Queue
	// Limits are the budgets of this node.
	Limits limits.Limits
	// SessionIdle and SessionLongest are after how long without a request, and at all,
	// somebody must sign in again; 0 means 8 hours and 3 days.
	SessionIdle, SessionLongest time.Duration
	// Issuer of tokens that are accepted beside keys; nil for none.
	Issuer *access.Issuer
	Log    *slog.Logger
}

// Environment is one node's service of one environment. It is safe for concurrent use.
type Environment struct {
	Replica      *replication.Replica
	Addresses    *picture.Addresses
	Delivery     *delivery.Service
	Documents    *delivery.Documents
	Authoring    *authoring.Service
	Ingest       *ingest.Service
	Automation   *automation.Service
	Settings     *settings.Service
	Pages        *pages.Service
	Files        *files.Service
	Keys         *identity.Keys
	Accounts     *identity.Accounts
	PreviewLinks *identity.PreviewLinks
	Audit        *identity.Audit
	Diagnosis    *diagnose.Service

	store *store.Store
	log   *slog.Logger
	// temporary is a directory that Close removes, if there is one.
	temporary string
	work      *background.Group
	quiet     bool
	keepFor   retention
}

// Open checks the configuration against the model, applies the model and returns an
// environment that answers reads. Start lets it follow the change log and work.
func Open(ctx context.Context, o Options) (*Environment, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	o.Log = o.Log.With("environment", o.Store.Environment)
	bounds := o.Limits.WithDefaults()
	if o.Processor == nil {
		o.Processor = admission.ForProcessor(bounds)
	}
	computing := admission.New(
		admission.Options{
			AtOnce:              bounds.Computing,
			PerPrincipal:        bounds.ComputingPerPrincipal,
			Heavy:               bounds.ComputingHeavy,
			Waiting:             bounds.Waiting,
			WaitingPerPrincipal: bounds.WaitingPerPrincipal,
			Patience:            time.Duration(bounds.Patience),
		},
	)
	e := &Environment{
		store: o.Store,
		log:   o.Log,
		work:  background.New(),
		quiet: o.Quiet,
		Audit: identity.NewAudit(o.Store),
		keepFor: retention{
			cmp.Or(o.KeepChanges, keepChanges), cmp.Or(o.KeepEvents, keepEvents), cmp.Or(o.KeepAudit, keepAudit),
		},
	}
	o.Cache.Admission = computing
	o.Cache.Keep = func(r *cache.Response) bool { return e.Delivery.StillValid(r) }
	if o.Cache.Refresh == nil {
		o.Cache.Refresh = func(r *cache.Response) { e.Delivery.QueueRefresh(r) }
	}
	var err error
	if e.Replica, err = replication.New(ctx, replication.Options{
		Store: o.Store, Cache: o.Cache, Name: o.Name,
		Limits: bounds, Work: e.work, Log: o.Log,
	}); err != nil {
		return nil, err
	}
	caller := outbound.New(o.Outbound)
	if err := e.openFiles(&o); err != nil {
		return nil, err
	}
	e.openServices(o, computing, caller)
	if err := e.Replica.Open(ctx, e.hooks(), o.Model, o.ApplyModel); err != nil {
		return nil, err
	}
	secret, err := e.openSecret(ctx)
	if err != nil {
		return nil, err
	}
	if err := e.Settings.Open(ctx, o.Settings); err != nil {
		return nil, err
	}
	if e.Ingest, err = ingest.New(ingest.Options{
		Replica: e.Replica, Origins: e.Settings.Origins, Outbound: o.Outbound, Folders: o.Folders,
		Work: cmp.Or(o.Work, e.temporary, os.TempDir()), Address: o.Public, MirrorOf: e.Files.MirrorOf,
		Reconcile: cmp.Or(o.Reconcile, 5*time.Minute), Apply: e.applyOutside, Signal: e.Automation.Signal,
	}); err != nil {
		return nil, err
	}
	e.Settings.OnChange(e.Automation.SettingsChanged)
	e.Settings.OnChange(e.Ingest.SettingsChanged)
	e.Settings.OnChange(e.Pages.SettingsChanged)
	if err := e.openIdentity(o, caller, secret); err != nil {
		return nil, err
	}
	e.Diagnosis = diagnose.New(diagnose.Options{
		Replica: e.Replica, Delivery: e.Delivery, Ingest: e.Ingest, Authoring: e.Authoring, Automation: e.Automation,
		Keys: e.Keys, Pages: e.Pages,
	})
	return e, errors.Join(e.Keys.Load(ctx), e.Documents.Load(ctx))
}

// Start begins to follow the change log, to process events, to run rules and
// to call builders, until Close.
func (e *Environment) Start(ctx context.Context) error {
	if e.quiet {
		e.log.Warn(
			"this is a quiet copy: it runs no schedules, rules and builds, and calls nobody, until it is woken " +
				"(ubiquon wake)",
		)
	} else {
		e.work.Wake()
	}
	if err := e.Automation.Start(ctx); err != nil {
		return err
	}
	e.Replica.Start()
	e.Ingest.Start()
	e.Authoring.Start()
	e.Settings.Start()
	e.Pages.Start()
	e.Files.Start()
	e.Keys.Start()
	e.work.Go(e.retain)
	e.Delivery.Start()
	if err := e.Replica.AwaitCurrent(ctx); err != nil {
		return err
	}
	e.work.Go(e.Delivery.WarmFromLastRun)
	return nil
}

// Close stops all background work, letting jobs that run come to their end for
// up to five seconds. It does not close the store.
func (e *Environment) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := e.Ingest.Stop(ctx); err != nil {
		e.log.Warn("some jobs did not end in time; they will be taken up again", "error", err)
	}
	if err := errors.Join(e.Delivery.RememberPopular(ctx), e.Pages.Stop(ctx),
		e.store.Changes.ForgetNode(ctx, e.Replica.Node.ID)); err != nil {
		e.log.Debug("this node did not take its leave", "error", err)
	}
	e.work.Stop()
	if e.temporary != "" {
		_ = os.RemoveAll(e.temporary)
	}
}
