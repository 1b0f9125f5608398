// Package origin reads outside origins over HTTP and maps what they have to the types of the
// model.
package origin
