package store_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"

	"ubiquon/internal/store"
)

func TestTroubleIsToldApart(t *testing.T) {
	code := func(c string) error { return fmt.Errorf("write: %w", &pgconn.PgError{Code: c}) }
	for _, c := range []struct {
		err  error
		want store.Trouble
	}{
		{code("53100"), store.PassingTrouble}, {code("53300"), store.PassingTrouble}, {code("53999"), store.PassingTrouble}, {code("57P01"), store.PassingTrouble}, {code("57014"), store.PassingTrouble},
		{code("25P03"), store.PassingTrouble}, {code("40001"), store.PassingTrouble}, {code("55P03"), store.PassingTrouble}, {code("58030"), store.PassingTrouble}, {code("08006"), store.PassingTrouble},
		{code("22021"), store.ContentTrouble}, {code("23505"), store.ContentTrouble},
		{code("25001"), store.OurTrouble}, {code("42703"), store.OurTrouble}, {code("XX000"), store.OurTrouble}, {code(""), store.OurTrouble},
		{io.ErrUnexpectedEOF, store.PassingTrouble}, {&pgconn.ConnectError{}, store.PassingTrouble}, {context.DeadlineExceeded, store.PassingTrouble}, {store.ErrWriteTimeout, store.PassingTrouble},
		{errors.New("a defect"), store.OurTrouble}, {store.ErrNotFound, store.OurTrouble}, {nil, store.OurTrouble},
	} {
		got, told := store.TroubleOf(c.err)
		if got != c.want || (got == store.PassingTrouble) != (told != "") {
			t.Errorf("%v: %v %q, want %v", c.err, got, told, c.want)
		}
	}
	if _, told := store.TroubleOf(code("53100")); told != "the database has no room left on its disk" {
		t.Error(told)
	}
}
