// Package landing reads files that land in a folder: which of them belong to a
// dataset, how many rows they hold and which columns. It knows nothing of
// storage.
package landing

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"tinbell/internal/record"
)

// Pattern says which files of a folder belong to a dataset: a path with /,
// * for anything but /, and {dimension} for the part that names the segment.
type Pattern struct {
	text  string
	match *regexp.Regexp
	// Dimensions in the order in which they stand.
	Dimensions []string
}

var placeholder = regexp.MustCompile(`\\\{([A-Za-z_][A-Za-z0-9_]*)\\\}|\\\*`)

// ParsePattern reads parcels/{partner}/*.csv.
func ParsePattern(text string) (Pattern, error) {
	wrong := func(why string) (Pattern, error) {
		return Pattern{}, record.Invalid{Field: "pattern", Given: text,
			Allowed: "a path below the folder, with * and {dimension}: parcels/{partner}/*.csv (" + why + ")"}
	}
	switch {
	case text == "":
		return wrong("it is empty")
	case strings.HasPrefix(text, "/") || path.Clean(text) != text || strings.HasPrefix(text, ".."):
		return wrong("it must stay below the folder")
	}
	p := Pattern{text: text}
	body := placeholder.ReplaceAllStringFunc(regexp.QuoteMeta(text), func(found string) string {
		if found == `\*` {
			return `[^/]*`
		}
		p.Dimensions = append(p.Dimensions, strings.Trim(found, `\{}`))
		return `([^/]+?)`
	})
	if strings.ContainsAny(placeholder.ReplaceAllString(regexp.QuoteMeta(text), ""), "{}") {
		return wrong("a { without its }, or a dimension that is no word")
	}
	var err error
	if p.match, err = regexp.Compile("^" + body + "$"); err != nil {
		return wrong(err.Error())
	}
	return p, nil
}

// Segment gives the segment of a path below the folder; ok is false if the path
// does not belong.
func (p Pattern) Segment(name string) (segment string, ok bool) {
	found := p.match.FindStringSubmatch(name)
	if found == nil {
		return "", false
	}
	return strings.Join(found[1:], " / "), true
}

// File is one that belongs.
type File struct {
	Path     string // below the folder, with /
	Full     string // where it is read
	Segment  string
	Bytes    int64
	Modified time.Time
}

// most is how many files of a dataset are looked at.
const most = 100_000

// ErrTooMany says that a folder holds more files than are looked at.
var ErrTooMany = fmt.Errorf("more than %d files: move old ones away, or say which by a narrower pattern", most)

// List gives the files below a folder that belong. Hidden ones and those whose
// name says that they are still being written are passed over.
func (p Pattern) List(folder string) ([]File, error) {
	var list []File
	err := filepath.WalkDir(folder, func(full string, entry fs.DirEntry, err error) error {
		if err != nil {
			if full != folder && errors.Is(err, fs.ErrNotExist) {
				return nil // gone while we looked
			}
			return err
		}
		below, err := filepath.Rel(folder, full)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(below)
		if unfinished(entry.Name()) && name != "." {
			if entry.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		segment, ok := p.Segment(name)
		if !ok || !entry.Type().IsRegular() {
			return nil
		}
		info, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		if list = append(list, File{name, full, segment, info.Size(), info.ModTime().UTC().Truncate(time.Microsecond)}); len(list) > most {
			return ErrTooMany
		}
		return nil
	})
	return list, err
}

// unfinished tells names that are kept for files still being written.
func unfinished(name string) bool {
	switch {
	case strings.HasPrefix(name, "."), strings.HasPrefix(name, "_"), strings.HasSuffix(name, "~"):
		return true
	}
	switch filepath.Ext(name) {
	case ".tmp", ".part", ".partial", ".swp", ".filepart":
		return true
	}
	return false
}
