// Package strictyaml reads this project's YAML files strictly: unknown keys, duplicates and wrong
// kinds are reported with file, line and column, all at once.
package strictyaml
