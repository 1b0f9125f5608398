// Package graphql derives a GraphQL schema from the model and compiles operations into queries.
package graphql
