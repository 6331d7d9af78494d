package cli

import (
	"os"
	"slices"
	"strconv"
	"unicode/utf8"

	"golang.org/x/term"
)

// shortest is to how many characters a long text is cut where a table is too wide.
const shortest = 24

// width is how wide a table may be: that of the terminal, COLUMNS, or 0 for any.
func (a *app) width() int {
	if a.wide {
		return 0
	}
	if f, is := a.out.(*os.File); is && terminal(a.out) {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
			return w
		}
	}
	if w, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && w > 0 {
		return w
	}
	return 0
}

// fit makes a table fit a width: long texts are cut, longest first, then columns go,
// the last ones first, unless they are among those that matter. It says how many went.
func (l listing) fit(width int) (fitted listing, gone int) {
	if width <= 0 {
		return l, 0
	}
	sizes := func() []int {
		list := make([]int, len(l.head))
		for i, h := range l.head {
			list[i] = utf8.RuneCountInString(h)
		}
		for _, row := range l.rows {
			for i, text := range row {
				list[i] = max(list[i], utf8.RuneCountInString(text))
			}
		}
		return list
	}
	wide := func(list []int) (sum int) {
		for _, n := range list {
			sum += n + 2
		}
		return sum - 2
	}
	rows := make([][]string, len(l.rows))
	for i, row := range l.rows {
		rows[i] = slices.Clone(row)
	}
	l.rows, l.head = rows, slices.Clone(l.head)
	for over := wide(sizes()) - width; over > 0; over = wide(sizes()) - width {
		list := sizes()
		longest := 0
		for i := range list {
			if list[i] > list[longest] && !slices.Contains(l.right, i+1) {
				longest = i
			}
		}
		if most := max(list[longest]-over, shortest, utf8.RuneCountInString(l.head[longest])); most < list[longest] &&
			!slices.Contains(l.right, longest+1) {
			for _, row := range l.rows {
				row[longest] = shortened(row[longest], most)
			}
			continue
		}
		if len(l.head) <= 2 {
			break
		}
		l = l.without(l.least())
		gone++
	}
	return l, gone
}

// least is the column that matters least: the last that is not among the first two and
// not one that the table names as telling.
func (l listing) least() int {
	for i := len(l.head) - 1; i > 1; i-- {
		if !slices.Contains(l.keep, l.head[i]) {
			return i
		}
	}
	return len(l.head) - 1
}

func (l listing) without(column int) listing {
	l.head = slices.Delete(l.head, column, column+1)
	for i := range l.rows {
		if column < len(l.rows[i]) {
			l.rows[i] = slices.Delete(l.rows[i], column, column+1)
		}
	}
	var right []int
	for _, n := range l.right {
		switch {
		case n-1 > column:
			right = append(right, n-1)
		case n-1 < column:
			right = append(right, n)
		}
	}
	l.right = right
	return l
}

// shortened cuts a text and says so.
func shortened(text string, most int) string {
	if utf8.RuneCountInString(text) <= most {
		return text
	}
	return string([]rune(text)[:most-1]) + "…"
}
