package api

import "time"

// Node is one process that serves the environment.
type Node struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Started time.Time `json:"started"`
	// Seen is when the node last said that it is there, by the database's clock; Silent
	// how long that is ago.
	Seen   time.Time     `json:"seen"`
	Silent time.Duration `json:"-"`
	// Applied is the sequence up to which it has applied the change log, and Mark the
	// id of that change: a node that has followed another log has applied nothing.
	Applied int64  `json:"applied"`
	Mark    string `json:"-"`
}

// NodeState is a node and whether it may be serving from its cache.
type NodeState struct {
	Node
	// State: leased, or silent.
	State string `json:"state"`
	// Here is true for the node that answers.
	Here bool `json:"here,omitempty"`
	// Behind is how many changes it has not applied yet.
	Behind int64 `json:"behind"`
}
