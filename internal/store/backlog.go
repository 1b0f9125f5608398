package store

import (
	"context"
	"time"
)

// Backlog is what waits, is late, or has failed within a day.
type Backlog struct {
	WaitingEvents   int        `json:"waitingEvents"`
	WaitingSince    *time.Time `json:"waitingSince"` // the oldest of them
	FailedEvents    int        `json:"failedEvents"`
	RefusedEvents   int        `json:"refusedEvents"`
	LateSchedules   int        `json:"lateSchedules"`
	LateSince       *time.Time `json:"lateSince"`
	FailedSchedules int        `json:"failedSchedules"`
	WaitingBuilds   int        `json:"waitingBuilds"`
	FailingBuilds   int        `json:"failingBuilds"` // that wait because others before them have failed
	RulesBehind     int64      `json:"rulesBehind"`   // changes that no rule has looked at
}

// Backlog counts what waits, is late, or has failed within a day.
func (s *Store) Backlog(ctx context.Context) (Backlog, error) {
	var b Backlog
	err := s.pool(ctx).QueryRow(ctx, `select w.n, w.since, e.failed, e.refused, l.n, l.since, f.n, u.waiting, u.failing,
			greatest(0, coalesce((select sequence from change where environment = $1 order by sequence desc limit 1), 0) - coalesce((select sequence from position where environment = $1 and name = 'rules'), 0))
		from (select count(*) n, min(received) since from event where environment = $1 and state = 'waiting') w,
			(select count(*) filter (where state = 'failed') failed, count(*) filter (where state = 'refused') refused from event where environment = $1 and received > clock_timestamp() - interval '1 day') e,
			(select count(*) n, min(at) since from schedule where environment = $1 and state = 'pending' and at < clock_timestamp() - interval '5 seconds') l,
			(select count(*) n from schedule where environment = $1 and state = 'failed' and finished > clock_timestamp() - interval '1 day') f,
			(select count(*) filter (where state = 'waiting') waiting, count(*) filter (where failures > 0) failing from build where environment = $1 and state in ('waiting', 'running')) u`,
		s.Environment).Scan(&b.WaitingEvents, &b.WaitingSince, &b.FailedEvents, &b.RefusedEvents, &b.LateSchedules, &b.LateSince, &b.FailedSchedules, &b.WaitingBuilds, &b.FailingBuilds, &b.RulesBehind)
	return b, err
}

// PoolUse is how busy the connections for a purpose are.
type PoolUse struct {
	Purpose         string
	Busy, Idle, Max int32
	// Waits counts those that had to wait for a connection, Waited how long altogether.
	Waits  int64
	Waited time.Duration
}

// PoolUses returns how busy the connections of each purpose are.
func (s *Store) PoolUses() []PoolUse {
	var out []PoolUse
	for _, one := range []struct {
		name    string
		purpose Purpose
	}{{"control", Controlling}, {"write", Writing}, {"receive", Receiving}, {"list", Listing}, {"read", Reading}, {"follow", Following}} {
		st := s.pool(For(context.Background(), one.purpose)).Stat()
		out = append(out, PoolUse{Purpose: one.name, Busy: st.AcquiredConns(), Idle: st.IdleConns(), Max: st.MaxConns(), Waits: st.EmptyAcquireCount(), Waited: st.EmptyAcquireWaitTime()})
	}
	return out
}
