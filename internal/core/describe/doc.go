// Package describe says in other people's languages what a model delivers: JSON
// Schema (2020-12) of the entries of each type, and OpenAPI 3.1 of an edition's
// base address.
package describe
