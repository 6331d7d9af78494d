package record

import "time"

// Account is a person or program that may sign in.
type Account struct {
	ID     int64       `db:"id" json:"id"`
	Name   string      `db:"name" json:"name"`
	Role   string      `db:"role" json:"role" enum:"admin,editor,responder,reader,none" doc:"the most it may, anywhere"`
	Grants List[Grant] `db:"grants" json:"grants" doc:"what it may: its own role, and what its teams give"`
	Within Strings     `db:"within" json:"within" doc:"datasets that the token it signed in with is for; none: all of its own"`
}

// Grant is a role, for all datasets or some.
type Grant struct {
	Role     string  `json:"role" enum:"admin,editor,responder,reader,none"`
	Datasets Strings `json:"datasets" doc:"names, with * for any part, or tag:NAME; none: all"`
	Team     string  `json:"team,omitempty" doc:"that gives it; empty: the account's own"`
}

// Person is an account as those see it who look after people.
type Person struct {
	ID        int64      `db:"id" json:"id"`
	Name      string     `db:"name" json:"name"`
	Role      string     `db:"role" json:"role" enum:"admin,editor,responder,reader,none" doc:"its own; none: what its teams give"`
	Datasets  Strings    `db:"datasets" json:"datasets" doc:"that its own role is for: names, with * for any part, or tag:NAME; none: all"`
	Teams     Strings    `db:"teams" json:"teams"`
	Password  bool       `db:"password" json:"password" doc:"whether it has one"`
	Provider  bool       `db:"provider" json:"provider" doc:"whether it signs in through the provider"`
	Tokens    int        `db:"tokens" json:"tokens"`
	Sessions  int        `db:"sessions" json:"sessions" doc:"browsers that are signed in"`
	UsedAt    *time.Time `db:"used_at" json:"used_at" doc:"when it was last seen, to five minutes"`
	CreatedAt time.Time  `db:"created_at" json:"created_at"`
}

// Team gives its members a role.
type Team struct {
	ID       int64   `db:"id" json:"id"`
	Name     string  `db:"name" json:"name"`
	Role     string  `db:"role" json:"role" enum:"admin,editor,responder,reader"`
	Datasets Strings `db:"datasets" json:"datasets" doc:"that the role is for: names, with * for any part, or tag:NAME; none: all"`
	Members  Strings `db:"members" json:"members" doc:"names of accounts"`
}

// Token lets somebody sign in; what it says is not kept.
type Token struct {
	ID        int64      `db:"id" json:"id"`
	For       string     `db:"what" json:"for" doc:"what it is for"`
	Account   string     `db:"account" json:"account"`
	Role      string     `db:"role" json:"role" enum:"admin,editor,responder,reader,none" doc:"what it lets its bearer do"`
	Datasets  Strings    `db:"datasets" json:"datasets" doc:"that it is for; none: all of its account's"`
	CreatedAt time.Time  `db:"created_at" json:"created_at"`
	ExpiresAt *time.Time `db:"expires_at" json:"expires_at"`
	UsedAt    *time.Time `db:"used_at" json:"used_at" doc:"last, to five minutes"`
}

// Session is a browser that has signed in.
type Session struct {
	ID        int64     `db:"id" json:"id"`
	Account   string    `db:"account" json:"account"`
	By        string    `db:"by" json:"by" enum:"token,password,provider"`
	Origin    string    `db:"origin" json:"origin" doc:"address it signed in from"`
	Agent     string    `db:"agent" json:"agent" doc:"what the browser calls itself"`
	CreatedAt time.Time `db:"created_at" json:"created_at"`
	UsedAt    time.Time `db:"used_at" json:"used_at" doc:"last, to a minute"`
	Here      bool      `db:"here" json:"here" doc:"whether it is the one that asks"`
}
