package environment

import (
	"cmp"
	"context"
	"crypto/hkdf"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/admission"
	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/automation"
	"ubiquon/internal/blob"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/delivery"
	"ubiquon/internal/files"
	"ubiquon/internal/health"
	"ubiquon/internal/identity"
	"ubiquon/internal/ingest"
	"ubiquon/internal/outbound"
	"ubiquon/internal/pages"
	"ubiquon/internal/replication"
	"ubiquon/internal/settings"
	"ubiquon/internal/store/writing"
)

// applyOutside writes what an origin has, with the files that it names.
func (e *Environment) applyOutside(
	ctx context.Context, edits []writing.Edit, by string, cause content.Cause,
) (writing.Applied, error) {
	if err := e.Files.Resolve(ctx, edits, by, cause); err != nil {
		return writing.Applied{}, err
	}
	return e.Authoring.Apply(ctx, edits, by, cause)
}

// besideItems returns what is in a file that lies beside the items of an origin.
func (e *Environment) besideItems(ctx context.Context, name, path string, most int64) ([]byte, error) {
	source := e.Ingest.Source(name)
	if source == nil {
		return nil, fmt.Errorf("origin %q: %w", name, ingest.ErrUnknownOrigin)
	}
	return source.OpenFile(ctx, path, most)
}

// openFiles says where files are kept, and what addresses they have.
func (e *Environment) openFiles(o *Options) (err error) {
	e.Addresses = &picture.Addresses{
		Base: strings.TrimSuffix(o.Files.Address, "/"), Environment: o.Store.Environment, Ladder: o.Files.Ladder,
		Now: time.Now,
	}
	if len(e.Addresses.Ladder) == 0 {
		e.Addresses.Ladder = picture.DefaultLadder
	}
	if o.Blobs != nil {
		return nil
	}
	if e.temporary, err = os.MkdirTemp("", "ubiquon-files-*"); err != nil {
		return err
	}
	o.Blobs, err = blob.OpenDirectory(e.temporary)
	return err
}

// openSecret returns what keys are hashed with. Addresses are signed with a key of their own.
func (e *Environment) openSecret(ctx context.Context) ([]byte, error) {
	secret, err := e.store.Keys.Secret(ctx)
	if err != nil {
		return nil, err
	}
	e.Addresses.Secret, err = hkdf.Key(sha256.New, secret, nil, "addresses of files", sha256.Size)
	return secret, err
}

// openServices makes the services that take up the model.
func (e *Environment) openServices(o Options, computing *admission.Queue, caller *outbound.Caller) {
	e.Settings = settings.New(settings.Options{
		Replica: e.Replica, Keys: o.SecretKeys, Purge: func(q api.CacheQuery) int { return e.Delivery.Purge(q) },
		Address: func(address string) error { return o.Outbound.CheckAddress(context.Background(), address) },
	})
	e.Delivery = delivery.New(
		delivery.Options{
			Replica:       e.Replica,
			Computing:     computing,
			Compiling:     o.Processor,
			Files:         e.Addresses,
			Timeout:       cmp.Or(o.ReadTimeout, 10*time.Second),
			NoteAddresses: func() bool { return len(e.Settings.State().Downstream) > 0 },
		},
	)
	e.Documents = delivery.NewDocuments(e.Replica, e.Delivery)
	e.Authoring = authoring.New(
		e.Replica,
		authoring.ModelChecks{
			Fits: e.Settings.Fits, NewType: e.Settings.NewTypeWarnings, Breaks: e.Delivery.BrokenRequests,
		},
		func(ctx context.Context, entry, reason string) {
			e.Automation.Signal(ctx, rule.LateFails, entry, reason, 0)
		},
	)
	e.Files = files.New(files.Options{
		Replica: e.Replica, Blobs: o.Blobs, Addresses: e.Addresses, Config: o.Files, Apply: e.Authoring.Apply,
		Outbound: o.Outbound, Beside: e.besideItems,
	})
	e.Pages = pages.New(pages.Options{
		Replica: e.Replica, Delivery: e.Delivery, Settings: e.Settings,
		Request: func(ctx context.Context, tx pgx.Tx, site string, causes []rebuild.Cause, sequence int64) error {
			_, err := e.store.Builds.RequestIn(ctx, tx, site, causes, sequence, false)
			return err
		},
		Judged:   func(site string) { e.Automation.PagesJudged(site) },
		Outbound: o.Outbound,
		Signal: func(ctx context.Context, event, subject, detail string, within time.Duration) {
			e.Automation.Signal(ctx, event, subject, detail, within)
		},
	})
	e.Automation = automation.New(automation.Options{
		Pages: e.Pages, Replica: e.Replica, Settings: e.Settings, Address: o.Address, Caller: caller, Dial: o.Outbound.Dial,
		Apply: e.Authoring.Apply, Schedule: e.Authoring.AddSchedules, Warm: e.Delivery.WarmAll,
		Origins: func() map[string]health.State { return e.Ingest.OriginHealth() },
	})
}

func (e *Environment) openIdentity(o Options, caller *outbound.Caller, secret []byte) error {
	var err error
	sites := func() map[string]rebuild.Site { return e.Settings.State().Sites }
	e.Keys, e.PreviewLinks, err = identity.NewKeys(
		identity.KeyOptions{Replica: e.Replica, Secret: secret, Sites: sites, Issuer: o.Issuer, Fetch: caller.Get},
	)
	if err != nil {
		return err
	}
	e.Accounts, err = identity.NewAccounts(
		identity.AccountOptions{
			Replica: e.Replica,
			Keys:    e.Keys,
			Secret:  secret,
			Idle:    o.SessionIdle,
			Longest: o.SessionLongest,
			Hashing: o.Processor,
		},
	)
	return err
}

// hooks are what the services do as changes are applied.
func (e *Environment) hooks() replication.Hooks {
	return replication.Hooks{
		ModelChanged: func(m *model.Model, version int64) error {
			e.Authoring.ModelChanged()
			return e.Delivery.TakeModel(m, version)
		},
		ModelTaken: e.Settings.ModelChanged,
		AccessChanged: func(ctx context.Context, changes []content.Change) error {
			return errors.Join(e.Keys.Changed(ctx, changes), e.Documents.Changed(ctx, changes))
		},
		SettingsChanged: e.Settings.Changed,
		Probes:          e.Pages.Probes,
		Deltas:          e.Pages.Deltas,
		Applied: func(ctx context.Context, expired []*cache.Response, sequence int64) {
			e.Files.ContentChanged()
			e.Automation.ContentChanged(ctx, expired, sequence)
		},
		Restarted: func(ctx context.Context, lost bool) error {
			return errors.Join(
				e.Keys.Load(ctx), e.Documents.Load(ctx), e.Settings.Load(ctx), e.Automation.TellAnew(ctx),
				e.Pages.Restarted(ctx, lost),
			)
		},
	}
}
