package bound

import (
	"encoding/binary"
	"fmt"
	"io"
)

// longestFooter is the longest description of a Parquet file that is read, in bytes.
const longestFooter = 8 << 20

// Footer refuses a Parquet file whose description alone would take much memory, or is longer
// than the file: its length stands before the last four bytes, and is room that is taken before
// anything of it is read.
func Footer(f io.ReaderAt, size int64) error {
	var tail [8]byte
	if size < 12 {
		return fmt.Errorf("it is no Parquet file: it has only %d bytes", size)
	}
	if _, err := f.ReadAt(tail[:], size-8); err != nil {
		return err
	}
	switch length := int64(binary.LittleEndian.Uint32(tail[:4])); {
	case length > size-12:
		return fmt.Errorf("it is no Parquet file: its description is said to have %d bytes, and it has %d itself", length, size)
	case length > longestFooter:
		return fmt.Errorf("it is no Parquet file that is read: its description has %d MB", length>>20)
	}
	return nil
}
