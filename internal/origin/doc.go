// Package origin reads outside origins: it fetches what they hold over HTTP and
// JSON, and a mapping in the configuration brings their form over into ours. It
// writes nothing, neither there nor here.
package origin
