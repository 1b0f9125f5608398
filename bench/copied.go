package main

import (
	"bytes"
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// copied are the tables that an import fills.
var copied = []string{"entry", "revision", "document", "change", "taken"}

// againstCopy measures how long PostgreSQL takes for COPY of the rows that the import has made, into tables with
// the same indexes, table by table: the least that an import can take.
func (c *contentHarness) againstCopy(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, c.url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var took time.Duration
	rows, size := 0, 0
	for _, table := range copied {
		if _, err := conn.Exec(ctx, `create table copy_of_`+table+` (like `+table+` including all)`); err != nil {
			return err
		}
		var held bytes.Buffer
		if _, err := conn.PgConn().CopyTo(ctx, &held, `copy `+table+` to stdout (format binary)`); err != nil {
			return err
		}
		size += held.Len()
		begin := time.Now()
		tag, err := conn.PgConn().CopyFrom(ctx, &held, `copy copy_of_`+table+` from stdin (format binary)`)
		if err != nil {
			return err
		}
		took += time.Since(begin)
		rows += int(tag.RowsAffected())
		fmt.Printf("    %s: %d rows in %s\n", table, tag.RowsAffected(), time.Since(begin).Round(time.Millisecond))
		if _, err := conn.Exec(ctx, `drop table copy_of_`+table); err != nil {
			return err
		}
	}
	rate := float64(c.y.entries) / took.Seconds()
	fmt.Printf("  COPY of the same: %d rows, %d MB, %.0f entries/s: the import is %.2f of it\n", rows, size>>20, rate,
		c.y.figures["import, entries a second"]/rate)
	c.y.note("import, of COPY of the same", c.y.figures["import, entries a second"]/rate)
	return nil
}
