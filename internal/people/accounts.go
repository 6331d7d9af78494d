package people

import (
	"context"
	"strings"

	"tinbell/internal/record"
)

// SetAccount says what an account may do itself, and makes it if it is new; of datasets nil
// leaves what they are. Its tokens say no more than that. The last administrator stays one.
func (d *Desk) SetAccount(ctx context.Context, name, role string, datasets record.Strings) (record.Account, error) {
	if _, known := rank[role]; !known {
		return record.Account{}, record.Invalid{Field: "role", Given: role, Allowed: "one of " + strings.Join(Roles, ", ") + ", or none"}
	}
	if err := record.CheckName("name", name); err != nil {
		return record.Account{}, err
	}
	if datasets != nil {
		var err error
		if datasets, err = CheckPatterns(datasets); err != nil {
			return record.Account{}, err
		}
	}
	if _, err := d.store.AddAccount(ctx, name, role); err != nil {
		return record.Account{}, err
	}
	if err := d.store.SetAccount(ctx, name, role, datasets); err != nil {
		return record.Account{}, err
	}
	a, err := d.store.Account(ctx, name)
	return capped(a, "", nil), err
}

// SetRole changes what an account that is there may do.
func (d *Desk) SetRole(ctx context.Context, name, role string) (record.Account, error) {
	if _, err := d.store.Account(ctx, name); err != nil {
		return record.Account{}, err
	}
	return d.SetAccount(ctx, name, role, nil)
}

// People gives the accounts there are.
func (d *Desk) People(ctx context.Context) ([]record.Person, error) {
	return d.store.People(ctx, d.stays, d.now().UTC())
}

// PutTeam keeps a team as it is given.
func (d *Desk) PutTeam(ctx context.Context, t record.Team) error {
	if err := record.CheckName("name", t.Name); err != nil {
		return err
	}
	if rank[t.Role] == 0 {
		return record.Invalid{Field: "role", Given: t.Role, Allowed: "one of " + strings.Join(Roles, ", ")}
	}
	var err error
	if t.Datasets, err = CheckPatterns(t.Datasets); err != nil {
		return err
	}
	return d.store.PutTeam(ctx, t)
}
