package writing

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/store/db"
)

// Consequences compares two models and counts the entries that a difference
// touches. What no entry would lose is safe.
func (wr *Writer) Consequences(ctx context.Context, from, to *model.Model) ([]api.Consequence, error) {
	return consequences(ctx, wr.db.Conns(ctx), wr.environment, from, to)
}

func consequences(
	ctx context.Context, q db.Querier, environment string, from, to *model.Model,
) ([]api.Consequence, error) {
	differences := model.Compare(from, to)
	out := make([]api.Consequence, len(differences))
	var types []string
	for i, d := range differences {
		out[i].Difference = d
		if d.Severity == model.Safe {
			continue
		}
		if d.Type == "" { // a locale: it may be written in any
			types = from.TypeNames()
		} else if !slices.Contains(types, d.Type) {
			types = append(types, d.Type)
		}
	}
	if types == nil {
		return out, nil
	}
	conversion := model.Convert(from, to)
	rows, err := q.Query(
		ctx,
		`select e.type, e.live, r.fields from entry e join revision r on r.environment = e.environment and r.entry =
			e.id and r.number = e.revision
		where e.environment = $1 and e.type = any($2)`,
		environment,
		types,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var typ string
		var live, newest content.Fields
		if err := rows.Scan(&typ, &live, &newest); err != nil {
			return nil, err
		}
		lost := conversion.Losing(typ, newest)
		for _, f := range conversion.Losing(typ, live) {
			if !slices.Contains(lost, f) {
				lost = append(lost, f)
			}
		}
		for i := range out {
			d := &out[i]
			switch {
			case d.Severity == model.NeedsDefault && d.Type == typ && newest[d.Field] == nil,
				d.Severity == model.Loses && d.Type == typ && (d.Field == "" || slices.Contains(lost, d.Field)),
				d.Severity == model.Loses && d.Type == "" &&
					slices.Contains(content.WrittenIn(from.Type(typ), newest), strings.TrimPrefix(d.Where, "locale ")):
				d.Entries++
			}
		}
	}
	for i := range out {
		if d := &out[i]; d.Severity == model.Loses && d.Entries == 0 {
			d.Severity = model.Safe
			d.Text += " (no entry has any)"
		}
	}
	return out, rows.Err()
}

// LossError is the error of applying a model that would lose content.
type LossError struct {
	Consequences []api.Consequence // those that lose something
}

// Error implements error.
func (e *LossError) Error() string {
	lines := make([]string, len(e.Consequences))
	for i, c := range e.Consequences {
		lines[i] = fmt.Sprintf("%s: %s (%d entries)", c.Where, c.Text, c.Entries)
	}
	return "the model would lose content:\n" + strings.Join(lines, "\n")
}

// ModelOptions say how a model is applied.
type ModelOptions struct {
	// AllowLoss applies a model that loses content.
	AllowLoss bool
	// IfVersion, if not 0, refuses when the present model has another version,
	// with ErrModelMoved.
	IfVersion int64
	// Progress is told how many of the entries are converted.
	Progress func(done, total int)
	// Also adds statements to the transaction, and returns what they are announced by. It is
	// called although the model is the present one already.
	Also func(*db.Batch) ([]content.Change, error)
}

// ApplyModel makes m the environment's model, which it creates if need be,
// converts what is stored and renders documents again where they differ, in one
// transaction that keeps writers out. It does nothing when m is the model
// already. Its error is a *LossError when content would be lost.
func (wr *Writer) ApplyModel(ctx context.Context, m *model.Model, cause content.Cause, o ModelOptions) error {
	src, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return wr.db.InBatches(ctx, func(conn *pgxpool.Conn) error {
		var held []byte
		var version int64
		var b db.Batch
		b.Exec(`begin`)
		b.Exec(`select pg_advisory_xact_lock($1, hashtext($2))`, db.LockContent, wr.environment)
		b.Query(
			func(r pgx.Rows) error { return r.Scan(&held, &version) },
			`select model, model_version from environment where name = $1`, wr.environment,
		)
		if err := b.Run(ctx, conn); err != nil {
			return err
		}
		if o.IfVersion != 0 && o.IfVersion != version {
			return db.ErrModelMoved
		}
		var relaid []content.Change
		touches := map[string][]string{model.Everything: {model.Everything}}
		if held != nil {
			old, err := model.FromJSON(held)
			if err != nil {
				return err
			}
			if same, _ := json.Marshal(old); bytes.Equal(same, src) {
				if o.Also == nil {
					return nil
				}
				return wr.endModel(ctx, conn, &db.Batch{}, nil, o)
			}
			c, err := wr.convert(ctx, conn, old, m, o)
			if err != nil {
				return err
			}
			relaid = c.relaid
			touches = model.Convert(old, m).AffectedResponses()
			if c.many {
				relaid, touches = nil, model.Convert(old, m).AffectedFields()
			}
		}
		var last db.Batch
		last.Exec(`insert into environment (name, model, model_version) values ($1, $2, 1)
			on conflict (name) do update set model = excluded.model, model_version = environment.model_version +
			1`, wr.environment, src)
		changes := append([]content.Change{{Kind: content.ModelChange, Fields: touches, Cause: cause}}, relaid...)
		return wr.endModel(ctx, conn, &last, changes, o)
	})
}

// endModel ends the transaction of a model, which changes announce.
func (wr *Writer) endModel(
	ctx context.Context, conn *pgxpool.Conn, last *db.Batch, changes []content.Change, o ModelOptions,
) error {
	if o.Also != nil {
		more, err := o.Also(last)
		if err != nil {
			return err
		}
		changes = append(changes, more...)
	}
	if err := wr.changes.Queue(last, [][]content.Change{changes}); err != nil {
		return err
	}
	last.Exec(`commit`)
	return last.Run(ctx, conn)
}
