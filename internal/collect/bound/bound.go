// Package bound keeps what readers hold in memory within limits, whatever they are
// given: small bodies can unpack to gigabytes, and one value can be as large as a
// file.
package bound

import (
	"errors"
	"fmt"
	"io"
)

// ErrTooLong is wrapped where one value or line is longer than is read.
var ErrTooLong = errors.New("it is too long")

// Reader passes bytes on as long as no single item takes more than so many. Next
// begins an item; what is buffered ahead by whoever reads counts to the item
// before.
type Reader struct {
	from io.Reader
	most int64
	left int64
}

// New reads items of at most so many bytes.
func New(from io.Reader, most int64) *Reader { return &Reader{from, most, most} }

// Next begins an item.
func (r *Reader) Next() { r.left = r.most }

func (r *Reader) Read(p []byte) (int, error) {
	if r.left <= 0 {
		return 0, fmt.Errorf("%w: more than %d kB without an end", ErrTooLong, r.most>>10)
	}
	if int64(len(p)) > r.left {
		p = p[:r.left]
	}
	n, err := r.from.Read(p)
	r.left -= int64(n)
	return n, err
}

// TooLarge says that a body unpacks to more than is taken.
type TooLarge struct{ Most int64 }

func (e TooLarge) Error() string {
	return fmt.Sprintf("it may have %d MB when unpacked: send several", e.Most>>20)
}

// All reads a body whole, of at most so many bytes.
func All(from io.Reader, most int64) ([]byte, error) {
	whole, err := io.ReadAll(io.LimitReader(from, most+1))
	if err == nil && int64(len(whole)) > most {
		err = TooLarge{most}
	}
	return whole, err
}

// Depth is how deep JSON is nested, without reading its values.
func Depth(raw []byte) int {
	_, depth := Shape(raw)
	return depth
}

// Shape counts the values of JSON, roughly from above, and how deep they are
// nested: what a reader would make of it before it is made.
func Shape(raw []byte) (values, depth int) {
	in, escaped, level := false, false, 0
	values = 1
	for _, c := range raw {
		switch {
		case escaped:
			escaped = false
		case in:
			escaped, in = c == '\\', c != '"'
		case c == '"':
			in = true
		case c == '{' || c == '[':
			level++
			values++
			depth = max(depth, level)
		case c == '}' || c == ']':
			level--
		case c == ',' || c == ':':
			values++
		}
	}
	return values, depth
}
