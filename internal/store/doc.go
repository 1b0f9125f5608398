// Package store keeps every record in PostgreSQL: the model, entries and their
// revisions, the documents that readers get, the change log, keys, events and
// builds. All SQL of the project is here.
//
// Two paths run through it. Apply writes content and appends to the change log
// in one transaction; Read answers a query.Query from one snapshot. Both come
// to as few round trips as PostgreSQL's pipelining allows.
package store
