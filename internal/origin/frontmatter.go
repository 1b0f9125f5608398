package origin

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/BurntSushi/toml"

	"ubiquon/internal/core/strictyaml"
)

// localeOf splits a path into that of the item and the locale that it names: of the file's name, as in
// ramp.nb.md, or of a directory, as in nb/ramp.md.
func localeOf(file string, tags []string) (item, locale string) {
	dir, name := path.Split(file)
	ext := path.Ext(name)
	stem := strings.TrimSuffix(name, ext)
	if tag := strings.TrimPrefix(path.Ext(stem), "."); tag != "" && slices.Contains(tags, tag) {
		return dir + strings.TrimSuffix(stem, "."+tag) + ext, tag
	}
	parts := strings.Split(dir, "/")
	for i, part := range parts {
		if slices.Contains(tags, part) {
			return strings.Join(slices.Delete(parts, i, i+1), "/") + name, part
		}
	}
	return file, ""
}

// texts tells whether a file is read as an item.
func texts(file string) bool {
	switch path.Ext(file) {
	case ".md", ".markdown", ".json", ".yaml", ".yml", ".toml":
		return true
	}
	return false
}

// parseFile reads a file: the front matter of Markdown, between lines of --- (YAML) or +++ (TOML), and
// the text after it; of the other formats everything is front matter.
func parseFile(file string, src []byte) (front map[string]any, body string, err error) {
	src = bytes.TrimPrefix(src, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(src) || bytes.IndexByte(src, 0) >= 0 {
		return nil, "", errors.New("it is no text in UTF-8")
	}
	src = bytes.ReplaceAll(src, []byte("\r\n"), []byte("\n"))
	decode, matter := decodeYAML, src
	switch path.Ext(file) {
	case ".json":
		decode = func(src []byte, into any) error { return json.Unmarshal(src, into) }
	case ".toml":
		decode = decodeTOML
	case ".yaml", ".yml":
	default:
		var found bool
		for fence, how := range map[string]func([]byte, any) error{"---\n": decodeYAML, "+++\n": decodeTOML} {
			rest, is := bytes.CutPrefix(src, []byte(fence))
			if !is {
				continue
			}
			if matter, src, is = cutFence(rest, []byte(fence[:3])); !is {
				return nil, "", fmt.Errorf("its front matter has no end: a line %s is missing", fence[:3])
			}
			decode, found = how, true
		}
		if !found {
			return map[string]any{}, string(src), nil
		}
		body = string(bytes.TrimLeft(src, "\n"))
	}
	if err := decode(matter, &front); err != nil {
		return nil, "", fmt.Errorf("what stands before its text cannot be read: %w", err)
	}
	// What the decoders make of dates and numbers becomes what JSON has.
	plain, err := json.Marshal(front)
	if err != nil {
		return nil, "", fmt.Errorf("what stands before its text is no JSON: %w", err)
	}
	front = map[string]any{}
	return front, body, json.Unmarshal(plain, &front)
}

// cutFence splits at the line that is a fence.
func cutFence(src, fence []byte) (before, after []byte, found bool) {
	for at := 0; at < len(src); {
		end := bytes.IndexByte(src[at:], '\n')
		line := src[at:]
		if end >= 0 {
			line = src[at : at+end]
		}
		if bytes.Equal(bytes.TrimRight(line, " \t"), fence) {
			return src[:at], src[min(len(src), at+len(line)+1):], true
		}
		if end < 0 {
			break
		}
		at += end + 1
	}
	return nil, nil, false
}

func decodeYAML(src []byte, into any) error { return strictyaml.Decode("", src, into) }

func decodeTOML(src []byte, into any) error {
	_, err := toml.NewDecoder(bytes.NewReader(src)).Decode(into)
	return err
}
