// Package generate writes TypeScript types for a model, with a small typed reader.
package generate
