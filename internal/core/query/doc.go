// Package query is one read of content, however it was spelled: what is asked
// for, in which order and window, in which locale. A surface compiles its
// request into a Query; the store runs it; Dependencies says what the result
// was made of; WriteObject lays it out as JSON.
package query
