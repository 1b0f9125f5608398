// Package model describes content: types with their fields, locales, and how long answers may be
// kept. Read and FromJSON check a model and report all mistakes at once; Compare and Convert say
// what a change of the model means for stored content.
package model
