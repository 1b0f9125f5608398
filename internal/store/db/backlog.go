package db

import (
	"context"
	"time"
)

// PoolUse is how busy the connections for a purpose are.
type PoolUse struct {
	Purpose         string
	Busy, Idle, Max int32
	// Waits counts those that had to wait for a connection, Waited how long altogether.
	Waits  int64
	Waited time.Duration
}

// PoolUses returns how busy the connections of each purpose are.
func (d *DB) PoolUses() []PoolUse {
	var out []PoolUse
	for _, one := range []struct {
		name    string
		purpose Purpose
	}{
		{"control", Controlling},
		{"write", Writing},
		{"receive", Receiving},
		{"list", Listing},
		{"read", Reading},
		{"follow", Following},
	} {
		st := d.Conns(For(context.Background(), one.purpose)).Stat()
		out = append(
			out,
			PoolUse{
				Purpose: one.name,
				Busy:    st.AcquiredConns(),
				Idle:    st.IdleConns(),
				Max:     st.MaxConns(),
				Waits:   st.EmptyAcquireCount(),
				Waited:  st.EmptyAcquireWaitTime(),
			},
		)
	}
	return out
}
