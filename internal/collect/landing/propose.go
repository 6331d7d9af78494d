package landing

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

// FileSet is a set of files that look like the deliveries of one dataset.
type FileSet struct {
	Pattern string    `json:"pattern" doc:"which files: * for what differs, {part} for what names a segment"`
	Files   int       `json:"files"`
	Bytes   int64     `json:"bytes"`
	Newest  time.Time `json:"newest"`
	Example string    `json:"example" doc:"the newest of them"`
	Dataset string    `json:"dataset" doc:"the dataset that takes them already, empty if none"`
}

var digits = regexp.MustCompile(`[0-9]+([-_.T:]?[0-9]+)*`)

// Propose looks through a folder and puts files together that lie alike: below
// the same first folder at the same depth. A folder on the way whose name
// differs from file to file names the segment, unless it is a number or a date.
func Propose(folder string) ([]FileSet, error) {
	type set struct {
		FileSet
		parts [][]string // different names, by place in the path
	}
	sets := map[string]*set{}
	n := 0
	err := filepath.WalkDir(folder, func(full string, entry fs.DirEntry, err error) error {
		if err != nil {
			if full != folder && errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		below, err := filepath.Rel(folder, full)
		if err != nil || below == "." {
			return err
		}
		if unfinished(entry.Name()) {
			if entry.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if !entry.Type().IsRegular() {
			return nil
		}
		if n++; n > most {
			return ErrTooMany
		}
		info, err := entry.Info()
		if err != nil {
			return nil // gone while we looked
		}
		name := filepath.ToSlash(below)
		parts := strings.Split(digits.ReplaceAllString(name, "*"), "/")
		key := fmt.Sprint(len(parts), parts[0])
		s := sets[key]
		if s == nil {
			s = &set{parts: make([][]string, len(parts))}
			sets[key] = s
		}
		s.Files, s.Bytes = s.Files+1, s.Bytes+info.Size()
		if at := info.ModTime().UTC(); at.After(s.Newest) {
			s.Newest, s.Example = at, name
		}
		for i, part := range parts {
			if !slices.Contains(s.parts[i], part) && len(s.parts[i]) < 1000 {
				s.parts[i] = append(s.parts[i], part)
			}
		}
		return nil
	})
	list := make([]FileSet, 0, len(sets))
	for _, s := range sets {
		var pattern []string
		for i, names := range s.parts {
			switch {
			case len(names) == 1:
				pattern = append(pattern, names[0])
			case i == len(s.parts)-1:
				pattern = append(pattern, "*")
			default:
				pattern = append(pattern, strings.TrimSuffix(fmt.Sprintf("{part%d", i), "1")+"}")
			}
		}
		s.Pattern = strings.Join(pattern, "/")
		list = append(list, s.FileSet)
	}
	slices.SortFunc(list, func(a, b FileSet) int { return cmp.Compare(a.Pattern, b.Pattern) })
	return list, err
}
