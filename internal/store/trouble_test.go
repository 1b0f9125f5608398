package store_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"

	"ubiquon/internal/store/db"
)

func TestTransientErrorsAreRecognised(t *testing.T) {
	code := func(c string) error { return fmt.Errorf("write: %w", &pgconn.PgError{Code: c}) }
	for _, c := range []struct {
		err  error
		want db.Trouble
	}{
		{code("53100"), db.PassingTrouble},
		{code("53300"), db.PassingTrouble},
		{code("53999"), db.PassingTrouble},
		{code("57P01"), db.PassingTrouble},
		{code("57014"), db.PassingTrouble},
		{code("25P03"), db.PassingTrouble},
		{code("40001"), db.PassingTrouble},
		{code("55P03"), db.PassingTrouble},
		{code("58030"), db.PassingTrouble},
		{code("08006"), db.PassingTrouble},
		{code("22021"), db.ContentTrouble},
		{code("23505"), db.ContentTrouble},
		{code("25001"), db.OurTrouble},
		{code("42703"), db.OurTrouble},
		{code("XX000"), db.OurTrouble},
		{code(""), db.OurTrouble},
		{io.ErrUnexpectedEOF, db.PassingTrouble},
		{&pgconn.ConnectError{}, db.PassingTrouble},
		{context.DeadlineExceeded, db.PassingTrouble},
		{db.ErrWriteTimeout, db.PassingTrouble},
		{errors.New("a defect"), db.OurTrouble},
		{db.ErrNotFound, db.OurTrouble},
		{nil, db.OurTrouble},
	} {
		got, told := db.TroubleOf(c.err)
		if got != c.want || (got == db.PassingTrouble) != (told != "") {
			t.Errorf("%v: %v %q, want %v", c.err, got, told, c.want)
		}
	}
	if _, told := db.TroubleOf(code("53100")); told != "the database has no room left on its disk" {
		t.Error(told)
	}
}
