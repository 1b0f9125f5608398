package ingest

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"os"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/proof"
	"ubiquon/internal/origin"
	"ubiquon/internal/store/db"
)

// secretHeaders are left out of calls that are kept: they may prove their sender.
var secretHeaders = []string{"authorization", "cookie", "proxy-authorization"}

// capture keeps a call without acting on it.
func (in *Service) capture(ctx context.Context, name string, m *proof.Message) (out Received, err error) {
	if !in.announced.Allow(name, time.Now()) {
		in.uncounted.Add(1)
		return out, access.ErrTooMany
	}
	c := api.CapturedCall{
		Origin: name, Method: m.Method, Address: m.Address.String(), Header: map[string]string{}, Body: string(m.Body),
	}
	for header, values := range m.Header {
		lower := strings.ToLower(header)
		if slices.Contains(secretHeaders, lower) || strings.Contains(lower, "token") || strings.Contains(lower, "key") {
			c.Header[lower] = "(left out)"
			continue
		}
		c.Header[lower] = access.Printable(strings.Join(values, ", "))
	}
	out.Captured = true
	err = in.store.Events.KeepCaptured(ctx, &c)
	in.news.Tell("events")
	return out, err
}

// Capture has the calls of a hook, of an origin that is configured or of one that is to be, kept
// without acting on them for so long; 0 ends it. It returns the calls that are kept.
func (in *Service) Capture(ctx context.Context, name, by string, span time.Duration) (api.CapturedCalls, error) {
	if err := in.store.Events.Capture(ctx, name, by, span); err != nil {
		return api.CapturedCalls{}, err
	}
	in.news.Tell("events")
	return in.Captured(ctx, name)
}

// Captured lists the calls of a hook that were kept without acting on them.
func (in *Service) Captured(ctx context.Context, name string) (out api.CapturedCalls, err error) {
	if out.Until, err = in.store.Events.CapturedUntil(ctx, name); err != nil {
		return out, err
	}
	out.Items, err = in.store.Events.Captured(ctx, name)
	return out, err
}

// toTry is an origin as it is configured, or, with a configuration, as that has it; then what it keeps on
// disk is apart from what the origin itself keeps, and goes at the end.
func (in *Service) toTry(name string, given *origin.Config) (source *origin.Source, end func(), err error) {
	if given == nil {
		if source = in.known()[name]; source == nil {
			return nil, nil, fmt.Errorf("origin %q: %w", name, ErrUnknownOrigin)
		}
		return source, func() {}, nil
	}
	with := in.reading(name)
	if with.Work, err = os.MkdirTemp("", "ubiquon-try-*"); err != nil {
		return nil, nil, err
	}
	end = func() {
		if err := os.RemoveAll(with.Work); err != nil {
			in.log.Warn("what was tried is left on disk", "directory", with.Work, "error", err)
		}
	}
	if source, err = origin.New(name, *given, with); err != nil {
		end()
		return nil, nil, err
	}
	return source, end, nil
}

// Try says what would become of a call; with a configuration, under that. Nothing is kept or done.
func (in *Service) Try(
	ctx context.Context,
	t api.HookTry,
	given *origin.Config,
	address string,
) (out api.HookTried, err error) {
	source, end, err := in.toTry(t.Origin, given)
	if err != nil {
		return out, err
	}
	defer end()
	m := proof.Message{Method: http.MethodPost, URL: address, Header: http.Header{}, Body: []byte(t.Body)}
	if t.Captured != "" {
		kept, err := in.store.Events.Captured(ctx, t.Origin)
		if err != nil {
			return out, err
		}
		i := slices.IndexFunc(kept, func(c api.CapturedCall) bool { return c.ID == t.Captured })
		if i < 0 {
			return out, fmt.Errorf("the captured call %s: %w", t.Captured, db.ErrNotFound)
		}
		m.Body, t.Header = []byte(kept[i].Body), kept[i].Header
		m.Address = addressOf(kept[i].Address)
	}
	for name, value := range t.Header {
		m.Header.Set(name, value)
	}
	out.Proof, out.Announced = source.Config.Prove.Describe(), []api.HookAnnounced{}
	if err := source.Prove(&m, time.Now()); err != nil {
		if !errors.Is(err, proof.ErrNotProven) {
			return out, err
		}
		out.Refused = access.Printable(err.Error())
	}
	all, err := source.Decode(m.Header, m.Body)
	if err != nil {
		out.Unreadable = access.Printable(err.Error())
		return out, nil
	}
	for i := range all {
		one := api.HookAnnounced{Decoded: all[i].Decoded, MessageID: all[i].ID, Unknown: all[i].Unknown}
		one.Type, _ = source.TypeOf(all[i].OriginKind)
		out.Announced = append(out.Announced, one)
	}
	return out, nil
}

// addressOf reads an address that was kept.
func addressOf(text string) netip.Addr {
	at, _ := netip.ParseAddr(text) // none is none
	return at
}

// TryItem says what an item becomes here; with a configuration, under that. Nothing is kept.
func (in *Service) TryItem(
	ctx context.Context,
	t api.OriginTry,
	given *origin.Config,
) (out api.OriginTried, err error) {
	source, end, err := in.toTry(t.Origin, given)
	if err != nil {
		return out, err
	}
	defer end()
	if out.Type = t.Type; out.Type == "" {
		types := slices.Sorted(maps.Keys(source.Config.Types))
		if len(types) == 0 {
			return out, api.BadParameter("type", "origin %s maps no type", t.Origin)
		}
		out.Type = types[0]
	}
	if _, is := source.Config.Types[out.Type]; !is {
		return out, api.BadParameter("type", "%q is none of the types that origin %s maps", out.Type, t.Origin)
	}
	if out.Item = t.Item; out.Item == nil {
		if out.Item, err = source.Raw(ctx, out.Type, t.Key); err != nil {
			return out, err
		}
	}
	out.Problems = []string{}
	m := in.replica.Model()
	item, err := source.Map(m, out.Type, out.Item)
	out.Key, out.ID, out.Version, out.Lost = item.Key, item.ID, item.Version, item.Lost
	if err != nil {
		out.Problems = append(out.Problems, err.Error())
		return out, nil
	}
	whole, err := in.resolve(ctx, []origin.Item{item}, func(bad origin.BadItem) {
		out.Problems = append(out.Problems, bad.Err.Error())
	})
	if err != nil {
		return out, err
	}
	typ := m.Type(out.Type)
	fields := content.Normalise(m, typ, item.ID, item.Saved)
	out.Fields, out.Published = fields, item.Live != nil
	if len(whole) > 0 {
		if problems := content.Check(m, typ, item.ID, content.Mirrored(fields), content.For{Publish: out.Published}); len(
			problems,
		) > 0 {
			out.Problems = reasonsOf(problems)
		}
	}
	if item.Live != nil && !reflect.DeepEqual(item.Live, item.Saved) {
		out.Live = content.Normalise(m, typ, item.ID, item.Live)
	}
	return out, nil
}

// Replay has an event processed again. Its error is db.ErrNotFound if there is none.
func (in *Service) Replay(ctx context.Context, id string) (api.EventDetail, error) {
	e, err := in.store.Events.Get(ctx, id)
	if err != nil {
		return api.EventDetail{}, err
	}
	if e.Decoded == nil || in.known()[e.Origin] == nil {
		return api.EventDetail{}, api.BadParameter(
			"id",
			"nothing is known that event %s announces to origin %s",
			id,
			e.Origin,
		)
	}
	err = in.store.Events.Again(ctx, id, func(tx pgx.Tx) error {
		_, err := in.jobs.InsertTx(ctx, tx, eventJob{Event: id}, in.queued(e.Origin))
		return err
	})
	if err != nil {
		return api.EventDetail{}, err
	}
	in.news.Tell("events")
	return in.Event(ctx, id)
}
