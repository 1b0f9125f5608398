// Package filter is the filter language: CQL2 text (OGC 21-065r2) over the fields of a type. Parse
// checks a text against the model; a Filter can be evaluated on documents, translated to SQL by
// the store, and asked which changes could alter its value.
package filter
