package detect

import (
	"bytes"
	"encoding/binary"
	"encoding/gob"
	"errors"
	"fmt"
	"sync"
)

// A stored state is the profiles of its model, then a gob stream: the types it is
// made of, then the value. What the types are is the same each time, and reading
// them takes ten times as long as the value; so writers and readers that know them
// already are kept.

// stream is where a kept writer writes to.
type stream struct {
	bytes.Buffer
	encoder *gob.Encoder
}

// source is where a kept reader reads from.
type source struct {
	bytes.Reader
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
	var first bytes.Buffer
	if err := gob.NewEncoder(&first).Encode(&state{}); err != nil {
		panic(err)
	}
	s := &source{}
	s.decoder = gob.NewDecoder(s)
	s.Reset(first.Bytes())
	if err := s.decoder.Decode(&state{}); err != nil {
		panic(err)
	}
	return s
}}

// errCut is what bytes give that are no state.
var errCut = errors.New("the stored state is cut or no state")

// lengthBytes is how many bytes say how long the profiles are, which come before
// the rest: they are most of a state of minutes, and are not read but kept.
const lengthBytes = 4

// MarshalBinary writes the evaluator's state; Load reads it.
func (e *Evaluator) MarshalBinary() ([]byte, error) {
	w := writers.Get().(*stream)
	w.Reset()
	if err := w.encoder.Encode(&e.state); err != nil {
		return nil, err // the writer may be half through: it is not kept
	}
	blob := make([]byte, lengthBytes, lengthBytes+e.Model.ProfileBytes()+len(kinds())+w.Len())
	blob = e.Model.AppendProfiles(blob)
	binary.LittleEndian.PutUint32(blob, uint32(len(blob)-lengthBytes))
	blob = append(append(blob, kinds()...), w.Bytes()...)
	writers.Put(w)
	return blob, nil
}

// restore reads a state that MarshalBinary wrote, in this process or another.
func (e *Evaluator) restore(blob []byte) error {
	if len(blob) < lengthBytes {
		return errCut
	}
	n, blob := int(binary.LittleEndian.Uint32(blob)), blob[lengthBytes:]
	if n > len(blob) {
		return errCut
	}
	if err := e.decode(blob[n:]); err != nil {
		return err
	}
	if e.Model == nil {
		return errCut
	}
	return e.Model.TakeProfiles(bytes.Clone(blob[:n]))
}

func (e *Evaluator) decode(blob []byte) error {
	value, known := bytes.CutPrefix(blob, kinds())
	if !known {
		return gob.NewDecoder(bytes.NewReader(blob)).Decode(&e.state)
	}
	r := readers.Get().(*source)
	r.Reset(value)
	if err := r.decoder.Decode(&e.state); err != nil {
		return err
	}
	if r.Len() > 0 {
		return fmt.Errorf("%d bytes too many", r.Len())
	}
	r.Reset(nil)
	readers.Put(r)
	return nil
}
