// Package filter is the language in which readers say which entries they want:
// the text encoding of CQL2 (OGC 21-065r2), with the classes Basic CQL2, Advanced
// Comparison Operators, Case-insensitive and Accent-insensitive Comparison, Array
// Functions and Property-Property, DATE and TIMESTAMP, now(), and dotted names
// that lead across references.
//
// A filter is checked against a type when it is parsed. It can be evaluated on
// a document here, and compiled to SQL in the store; both must agree, so what a
// comparison means is written down here:
//
//   - NULL follows SQL's three-valued logic: an entry is in when the filter is true.
//   - Text compares by its bytes. CASEI lowers it as Unicode does in no language
//     in particular, ACCENTI takes it apart (NFD) and drops U+0300 to U+036F.
//   - A list is a set, and empty where the entry has no value; IS NULL is true of
//     an empty one.
//   - A dotted name whose way goes through one entry at a time has no value where
//     the way ends. Where it goes through lists, a predicate is true when some
//     entry at its end makes it true, and false when none does.
package filter
