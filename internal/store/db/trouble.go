package db

import (
	"context"
	"errors"
	"io"
	"net"

	"github.com/jackc/pgx/v5/pgconn"

	"ubiquon/internal/admission"
)

// Trouble is what an error of the database comes from.
type Trouble int

// What an error of the database may come from.
const (
	// OurTrouble is a defect, or an error that is not the database's.
	OurTrouble Trouble = iota
	// PassingTrouble goes away by itself or by an operator's hand: the same may be tried
	// again.
	PassingTrouble
	// ContentTrouble is a value that the database refuses: trying again does not help.
	ContentTrouble
)

// troubles are SQLSTATE classes and codes (PostgreSQL, appendix A). A code goes before its
// class; what is not listed is OurTrouble.
var troubles = map[string]struct {
	trouble Trouble
	told    string // what is said of it; nothing of content
}{
	"08":    {PassingTrouble, "the database cannot be reached"},
	"22":    {ContentTrouble, ""},
	"23":    {ContentTrouble, ""},
	"25006": {PassingTrouble, "the database takes no writes: it is a standby"},
	"25P03": {PassingTrouble, "the database has ended the transaction"},
	"25P04": {PassingTrouble, "the database has ended the transaction"},
	"28":    {PassingTrouble, "the database refuses the gateway's user"},
	"3D000": {PassingTrouble, "the gateway's database does not exist"},
	"40":    {PassingTrouble, "others wrote the same at the same time"},
	"53100": {PassingTrouble, "the database has no room left on its disk"},
	"53200": {PassingTrouble, "the database is short of memory"},
	"53300": {PassingTrouble, "the database takes no more connections"},
	"53":    {PassingTrouble, "the database is short of something"},
	"55":    {PassingTrouble, "something else holds what this needs"},
	"57014": {PassingTrouble, "the database took too long"},
	"57":    {PassingTrouble, "the database is going down or starting"},
	"58":    {PassingTrouble, "the database has trouble with its disk or its machine"},
}

// TroubleOf tells what an error comes from, and what may be told of it to anybody; "" if
// that is nothing. The end of a context is passing trouble.
func TroubleOf(err error) (trouble Trouble, told string) {
	var refused *pgconn.PgError
	if errors.As(err, &refused) && len(refused.Code) == 5 {
		for _, key := range []string{refused.Code, refused.Code[:2]} {
			if t, known := troubles[key]; known {
				return t.trouble, t.told
			}
		}
		return OurTrouble, ""
	}
	var connecting *pgconn.ConnectError
	var network net.Error
	switch {
	case errors.Is(err, ErrWriteTimeout):
		return PassingTrouble, ErrWriteTimeout.Error()
	case errors.Is(err, ErrUnsure):
		return PassingTrouble, ErrUnsure.Error()
	case errors.Is(err, admission.ErrOverloaded):
		return PassingTrouble, admission.ErrOverloaded.Error()
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return PassingTrouble, "the database took too long"
	case errors.As(err, &connecting),
		errors.As(err, &network),
		errors.Is(err, io.EOF),
		errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, net.ErrClosed),
		pgconn.SafeToRetry(err):
		return PassingTrouble, "the database cannot be reached"
	}
	return OurTrouble, ""
}

// Passing tells whether an error goes away by itself, so that the same may be tried again.
func Passing(err error) bool {
	trouble, _ := TroubleOf(err)
	return err != nil && trouble == PassingTrouble
}

// BadValue tells whether PostgreSQL has refused a value that cannot be stored or compared.
func BadValue(err error) bool {
	trouble, _ := TroubleOf(err)
	return trouble == ContentTrouble
}

// ErrWriteTimeout is the error of a write whose transaction took too long; nothing of it
// is stored.
var ErrWriteTimeout = errors.New("the write took too long and was given up; nothing of it is stored")

// ErrUnsure is the error of a write that took too long when it was committed already: it may
// be stored.
var ErrUnsure = errors.New(
	"the write took too long, and it is not known whether it is stored; look at the entry, or send it again with " +
		"an Idempotency-Key",
)

// ErrModelMoved is the error of a write or read that was planned with another
// version of the model than the database has. Plan again with the present one.
var ErrModelMoved = errors.New("the model has changed meanwhile")

// ErrForeign is the error of a local edit of an entry that comes from an
// outside origin.
var ErrForeign = errors.New("the entry comes from an outside origin; edit it there")
