// Package query is a compiled read of content, however the request was spelled: roots, selected
// fields, filters and windows. It computes the canonical key of a read, its effort, what a result
// depends on, and writes results as JSON.
package query
