package record

import "fmt"

// NotFound says that a named thing is not there.
type NotFound struct{ Kind, Name string }

func (e NotFound) Error() string { return fmt.Sprintf("no %s named %q", e.Kind, e.Name) }

// Invalid says that something given is not allowed: which field, what was
// given, and what would be allowed.
type Invalid struct{ Field, Given, Allowed string }

func (e Invalid) Error() string {
	return fmt.Sprintf("%s %q is not allowed: %s", e.Field, e.Given, e.Allowed)
}

// Conflict says that what was asked for clashes with what is there.
type Conflict struct{ What string }

func (e Conflict) Error() string { return e.What }
