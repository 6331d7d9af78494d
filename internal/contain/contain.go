// Package contain keeps a panic inside the unit of work that raised it: one
// series, one message, one job. What contains it goes on with the next unit,
// and says which one broke off.
package contain

import (
	"fmt"
	"runtime/debug"

	"golang.org/x/sync/errgroup"
)

// Panic is a panic as an error.
type Panic struct {
	Value any
	Stack string
}

func (p *Panic) Error() string { return fmt.Sprintf("it broke off: %v", p.Value) }

// Unwrap gives the panic's value where that is an error.
func (p *Panic) Unwrap() error {
	err, _ := p.Value.(error)
	return err
}

// Run does work, and gives a *Panic where it panics.
func Run(work func() error) (err error) {
	defer func() {
		if value := recover(); value != nil {
			err = &Panic{value, string(debug.Stack())}
		}
	}()
	return work()
}

// Go has a group do work beside other work, as Run does it.
func Go(group *errgroup.Group, work func() error) {
	group.Go(func() error { return Run(work) })
}

// Get is Run of work that gives something.
func Get[T any](work func() (T, error)) (v T, err error) {
	err = Run(func() (err error) {
		v, err = work()
		return err
	})
	return v, err
}
