package detect

import (
	"bytes"
	"encoding/gob"
	"fmt"
	"sync"
)

// A stored state is a gob stream: the types it is made of, then the value. What
// the types are is the same each time, and reading them takes ten times as long
// as the value; so writers and readers that know them already are kept.

// stream is where a kept reader reads from, or a kept writer writes to.
type stream struct {
	bytes.Buffer
	encoder *gob.Encoder
	decoder *gob.Decoder
}

// kinds are the bytes that say the types of a state in this process.
var kinds = sync.OnceValue(func() []byte {
	var s stream
	s.encoder = gob.NewEncoder(&s)
	size := func() int {
		before := s.Len()
		if err := s.encoder.Encode(&state{}); err != nil {
			panic(err) // a state can always be written
		}
		return s.Len() - before
	}
	first, second := size(), size()
	return bytes.Clone(s.Bytes()[:first-second])
})

var writers = sync.Pool{New: func() any {
	s := &stream{}
	s.encoder = gob.NewEncoder(s)
	if err := s.encoder.Encode(&state{}); err != nil {
		panic(err)
	}
	return s
}}

var readers = sync.Pool{New: func() any {
	s := &stream{}
	s.decoder = gob.NewDecoder(s)
	var first stream
	if err := gob.NewEncoder(&first).Encode(&state{}); err != nil {
		panic(err)
	}
	s.Write(first.Bytes())
	if err := s.decoder.Decode(&state{}); err != nil {
		panic(err)
	}
	return s
}}

// MarshalBinary writes the evaluator's state; Load reads it.
func (e *Evaluator) MarshalBinary() ([]byte, error) {
	w := writers.Get().(*stream)
	w.Reset()
	if err := w.encoder.Encode(&e.state); err != nil {
		return nil, err // the writer may be half through: it is not kept
	}
	blob := append(bytes.Clone(kinds()), w.Bytes()...)
	writers.Put(w)
	return blob, nil
}

// restore reads a state that MarshalBinary wrote, in this process or another.
func (e *Evaluator) restore(blob []byte) error {
	value, known := bytes.CutPrefix(blob, kinds())
	if !known {
		return gob.NewDecoder(bytes.NewReader(blob)).Decode(&e.state)
	}
	r := readers.Get().(*stream)
	r.Reset()
	r.Write(value)
	if err := r.decoder.Decode(&e.state); err != nil {
		return err
	}
	if r.Len() > 0 {
		return fmt.Errorf("%d bytes too many", r.Len())
	}
	readers.Put(r)
	return nil
}
