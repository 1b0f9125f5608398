// Package graphql spells reads in GraphQL: it writes the schema that follows
// from a model, and compiles an operation into the same query.Query that every
// other surface uses. It runs nothing itself.
package graphql
