// Package strictyaml reads this project's own YAML files and reports every
// mistake of a file at once, each with file, line, column and, for a key that
// nobody knows, the nearest right one.
//
// What the keys mean is the business of the packages that declare the Go
// types; this package only holds their shape against the text.
package strictyaml
