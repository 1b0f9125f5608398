// Package describe describes what a model delivers in open formats: JSON Schema and OpenAPI 3.1.
package describe
