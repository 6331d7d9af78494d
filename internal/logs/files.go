package logs

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tinbell/internal/collect/landing"
	"tinbell/internal/contain"
	"tinbell/internal/record"
)

const (
	// tailBytes are looked at to tell that a file goes on what was counted.
	tailBytes = 512
	// mostAtOnce is how much of a file is counted in a round.
	mostAtOnce = 64 << 20
	// halfRests is how long a line without an end is waited for.
	halfRests = 10 * time.Minute
	// gone is after how long a file that is no more is forgotten.
	gone = 30 * 24 * time.Hour
)

// Files counts what has come in the files of all logs that are followed.
func (k *Keeper) Files(ctx context.Context) error {
	list, err := k.store.Logs(ctx)
	if err != nil {
		return err
	}
	var failed []error
	for _, log := range list {
		if log.Source != "" {
			failed = append(failed, contain.Run(func() error { return k.follow(ctx, log) }))
		}
	}
	return errors.Join(append(failed, k.store.ForgetLogFiles(ctx, k.now().Add(-gone)))...)
}

// follow looks at the files of a log. A file is known by its first line, and by the end
// of what was counted of it, which must stand where it stood: under whatever name, and
// packed or not. So one that is moved away as a new one begins goes on.
func (k *Keeper) follow(ctx context.Context, log record.Log) error {
	source, err := k.store.Source(ctx, log.Source)
	if err != nil {
		return err
	}
	pattern, err := landing.ParsePattern(log.Pattern)
	if err != nil {
		return err
	}
	files, err := pattern.List(source.Address)
	if err != nil {
		return fmt.Errorf("log %s: %w", log.Name, err)
	}
	known, err := k.store.LogFiles(ctx, log.ID)
	if err != nil {
		return err
	}
	// Those that are still where they were go first, then the oldest.
	at := map[string]bool{}
	for _, f := range known {
		at[f.Path] = true
	}
	slices.SortStableFunc(files, func(a, b landing.File) int {
		if at[a.Path] != at[b.Path] {
			if at[a.Path] {
				return -1
			}
			return 1
		}
		return a.Modified.Compare(b.Modified)
	})
	var seen []int64
	taken := map[int64]bool{}
	there := map[string][]landing.File{} // that are followed, by their beginning
	for _, f := range files {
		if err := record.CheckName("path", f.Path); err != nil {
			continue
		}
		if i := slices.IndexFunc(known, func(v record.LogFile) bool {
			return v.Path == f.Path && v.Size == f.Bytes && v.Changed.Equal(f.Modified)
		}); i >= 0 && !taken[known[i].ID] && (known[i].Message != "" || !k.half(known[i], f)) {
			taken[known[i].ID] = true
			seen = append(seen, known[i].ID)
			there[string(known[i].Head)] = append(there[string(known[i].Head)], f)
			continue
		}
		id, err := contain.Get(func() (int64, error) { return k.readFile(ctx, log, known, taken, there, f) })
		if err != nil {
			return fmt.Errorf("log %s: %s: %w", log.Name, f.Path, err)
		}
		if id != 0 {
			taken[id] = true
			seen = append(seen, id)
		}
	}
	return k.store.SeeLogFiles(ctx, seen)
}

// half tells whether a plain file ends in a line without an end for so long that it counts
// as one.
func (k *Keeper) half(v record.LogFile, f landing.File) bool {
	return !strings.HasSuffix(f.Path, ".gz") && v.Counted < f.Bytes && k.now().Sub(f.Modified) >= halfRests
}

// readFile counts what is new in a file; 0 if it has nothing to tell yet, or is a copy of
// one that is there, as while it is packed.
func (k *Keeper) readFile(
	ctx context.Context, log record.Log, known []record.LogFile, taken map[int64]bool, there map[string][]landing.File, f landing.File,
) (int64, error) {
	head, err := headOf(f)
	if err != nil {
		return k.unreadable(ctx, log, known, f, err)
	}
	if head == nil {
		return 0, nil // its first line is not whole
	}
	file := record.LogFile{LogID: log.ID, Head: head, Tail: []byte{}}
	// The one that was here before others of the same beginning.
	byName := func(v record.LogFile) int {
		if v.Path == f.Path {
			return 0
		}
		return 1
	}
	candidates := slices.Clone(known)
	slices.SortStableFunc(candidates, func(a, b record.LogFile) int { return byName(a) - byName(b) })
	for _, v := range candidates {
		if taken[v.ID] || !bytes.Equal(v.Head, head) {
			continue
		}
		if same, err := goesOn(f, v); err != nil {
			return k.unreadable(ctx, log, known, f, err)
		} else if same {
			file = v
			break
		}
	}
	if file.ID == 0 {
		for _, other := range there[string(head)] {
			if same, err := copied(f, other); err != nil {
				return k.unreadable(ctx, log, known, f, err)
			} else if same {
				return 0, nil
			}
		}
		file.Path, file.Size, file.Changed = f.Path, 0, f.Modified
		if file.ID, err = k.store.AddLogFile(ctx, file); err != nil {
			return 0, err
		}
	}
	there[string(head)] = append(there[string(head)], f)
	for {
		more, err := k.readOn(ctx, log, &file, f)
		if err != nil {
			return k.unreadable(ctx, log, []record.LogFile{file}, f, err)
		}
		file.Path, file.Size, file.Changed, file.Message = f.Path, f.Bytes, f.Modified, ""
		if err := k.store.SetLogFile(ctx, file); err != nil {
			return 0, err
		}
		if !more {
			return file.ID, nil
		}
	}
}

// storing marks errors that are not a file's.
type storing struct{ error }

func (e storing) Unwrap() error { return e.error }

// unreadable keeps why a file cannot be read: it is tried again when it changes.
func (k *Keeper) unreadable(ctx context.Context, log record.Log, known []record.LogFile, f landing.File, why error) (int64, error) {
	if stored := (storing{}); errors.As(why, &stored) {
		return 0, why
	}
	for _, v := range known {
		if v.Path == f.Path {
			v.Size, v.Changed, v.Message = f.Bytes, f.Modified, why.Error()
			return v.ID, k.store.SetLogFile(ctx, v)
		}
	}
	return k.store.AddLogFile(ctx, record.LogFile{LogID: log.ID, Path: f.Path, Head: []byte{}, Tail: []byte{}, Size: f.Bytes,
		Changed: f.Modified, Message: why.Error()})
}

// open gives the content of a file, unpacked.
func open(f landing.File) (io.Reader, io.Closer, error) {
	file, err := os.Open(f.Full)
	if err != nil {
		return nil, nil, err
	}
	if !strings.HasSuffix(f.Path, ".gz") {
		return file, file, nil
	}
	unzipped, err := gzip.NewReader(bufio.NewReaderSize(file, 256<<10))
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("it is not gzip: %w", err), file.Close())
	}
	return unzipped, file, nil
}

// headOf is the hash of a file's first line; nil if it has none yet.
func headOf(f landing.File) ([]byte, error) {
	in, file, err := open(f)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	line, err := bufio.NewReaderSize(io.LimitReader(in, longestLine), longestLine).ReadSlice('\n')
	if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, bufio.ErrBufferFull) {
		return nil, err
	}
	if errors.Is(err, io.EOF) && len(line) < longestLine {
		return nil, nil
	}
	sum := sha256.Sum256(line)
	return sum[:], nil
}

// skip reads up to a place in a file.
func skip(in io.Reader, to int64) error {
	if plain, ok := in.(io.Seeker); ok {
		_, err := plain.Seek(to, io.SeekStart)
		return err
	}
	_, err := io.CopyN(io.Discard, in, to)
	return err
}

// goesOn tells whether a file has, where what was counted of another ended, what stood
// there.
func goesOn(f landing.File, v record.LogFile) (bool, error) {
	if v.Counted == 0 {
		return true, nil
	}
	in, file, err := open(f)
	if err != nil {
		return false, err
	}
	defer file.Close()
	from := max(v.Counted-tailBytes, 0)
	if err := skip(in, from); errors.Is(err, io.EOF) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	end := make([]byte, v.Counted-from)
	if _, err := io.ReadFull(in, end); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	sum := sha256.Sum256(end)
	return bytes.Equal(sum[:], v.Tail), nil
}

// copied tells whether one file begins as another does, to the end of the shorter.
func copied(f, other landing.File) (bool, error) {
	one, a, err := open(f)
	if err != nil {
		return false, err
	}
	defer a.Close()
	two, b, err := open(other)
	if err != nil {
		return false, err
	}
	defer b.Close()
	left, right := make([]byte, 256<<10), make([]byte, 256<<10)
	for {
		n, ended := io.ReadFull(one, left)
		m, over := io.ReadFull(two, right)
		if shorter := min(n, m); !bytes.Equal(left[:shorter], right[:shorter]) {
			return false, nil
		}
		for _, err := range []error{ended, over} {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return true, nil
			}
			if err != nil {
				return false, err
			}
		}
	}
}

// readOn counts the whole lines of a file from where it was counted to; more tells that
// there are more than are counted at once.
func (k *Keeper) readOn(ctx context.Context, log record.Log, file *record.LogFile, f landing.File) (more bool, err error) {
	in, closer, err := open(f)
	if err != nil {
		return false, err
	}
	defer closer.Close()
	from := max(file.Counted-tailBytes, 0)
	if err := skip(in, from); err != nil {
		return false, err
	}
	before := make([]byte, file.Counted-from)
	if _, err := io.ReadFull(in, before); err != nil {
		return false, err
	}
	text, err := io.ReadAll(io.LimitReader(in, mostAtOnce))
	// A packed file that is still being written ends too early: its lines so far count.
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return false, err
	}
	more = len(text) == mostAtOnce
	whole := bytes.LastIndexByte(text, '\n') + 1
	if rests := k.now().Sub(f.Modified) >= halfRests; !more && rests && err == nil {
		whole = len(text)
	}
	if whole == 0 && more {
		whole = len(text) // one line longer than is held
	}
	if text = text[:whole]; len(text) == 0 {
		return false, nil
	}
	lines := int64(bytes.Count(text, []byte("\n")))
	if text[len(text)-1] != '\n' {
		lines++
	}
	name := strings.TrimSuffix(f.Path, ".gz")
	ext := filepath.Ext(name)
	order := Order{Log: log.Name, JSON: ext == ".ndjson" || ext == ".jsonl" || ext == ".json", Source: fmt.Sprintf("file %d",
		file.ID), First: file.Lines + 1}
	if _, err := k.Push(ctx, order, bytes.NewReader(text)); err != nil {
		return false, storing{err}
	}
	end := append(before, text...)
	sum := sha256.Sum256(end[max(len(end)-tailBytes, 0):])
	file.Counted, file.Lines, file.Tail = file.Counted+int64(len(text)), file.Lines+lines, sum[:]
	return more, nil
}
