package config

import (
	"context"
	"errors"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"

	"tinbell/internal/collect"
	"tinbell/internal/record"
)

// Variable is the environment variable that a source's password is written as.
func Variable(source string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToUpper(source)) + "_PASSWORD"
}

// variable is the environment variable that another secret of a thing is written as.
func variable(name, secret string) string {
	return strings.TrimSuffix(Variable(name), "PASSWORD") + strings.TrimSuffix(Variable(secret), "_PASSWORD")
}

// Fill puts variables in the place of passwords, addresses and headers written as
// ${NAME}; one that is not set stands for what is kept.
func (d *Documents) Fill(lookup func(string) (string, bool)) {
	fill := func(text *string) {
		*text = reference.ReplaceAllStringFunc(*text, func(ref string) string {
			value, _ := lookup(ref[2 : len(ref)-1])
			return value
		})
	}
	for i := range d.Sources {
		fill(&d.Sources[i].Password)
	}
	for i := range d.Calendars {
		fill(&d.Calendars[i].Address)
	}
	for i := range d.Channels {
		fill(&d.Channels[i].Password)
		for k := range d.Channels[i].Headers {
			fill(&d.Channels[i].Headers[k])
		}
	}
}

var reference = regexp.MustCompile(`\$\{[A-Za-z_][A-Za-z0-9_]*\}`)

func writtenSource(v record.Source) WrittenSource {
	w := WrittenSource{Name: v.Name, Address: v.Address}
	if address, err := url.Parse(v.Address); err == nil && v.Kind == "postgresql" && address.User != nil {
		if _, has := address.User.Password(); has {
			w.Password = "${" + Variable(v.Name) + "}"
		}
		address.User = url.User(address.User.Username())
		w.Address = address.String()
	}
	return w
}

// source checks a source and connects to it once. Without a password the one
// that is kept stays.
func (l *load) source(ctx context.Context, v WrittenSource) error {
	there, err := l.store.Source(ctx, v.Name)
	var missing record.NotFound
	known := err == nil
	if err != nil && !errors.As(err, &missing) {
		return err
	}
	if filepath.IsAbs(v.Address) {
		if known && there.Kind != "folder" {
			return record.Invalid{Field: "address", Given: v.Address, Allowed: "a warehouse, as the source of this name is"}
		}
		there.Name, there.Kind, there.Address, there.Login = v.Name, "folder", filepath.Clean(v.Address), []byte{}
		l.wanted[v.Name] = there
		return collect.TryFolder(v.Address)
	}
	if known && there.Kind != "postgresql" {
		return record.Invalid{Field: "address", Given: v.Address, Allowed: "the path of a folder, as the source of this name is"}
	}
	if known && v.Password == "" && writtenSource(there).Address == v.Address {
		l.wanted[v.Name] = there
		return nil
	}
	address, err := url.Parse(v.Address)
	if err != nil || address.User == nil {
		return record.Invalid{Field: "address", Given: v.Address,
			Allowed: "postgres://login@host:port/database, without the password; or the absolute path of a folder"}
	}
	if _, written := address.User.Password(); written {
		return record.Invalid{Field: "address", Given: "(not shown, it holds a password)",
			Allowed: "an address without its password; write password: ${" + Variable(v.Name) +
				"} and set that variable where the files are loaded"}
	}
	if v.Password == "" && known {
		if v.Password, err = l.houses.Password(there); err != nil {
			return err
		}
	}
	if v.Password != "" {
		address.User = url.UserPassword(address.User.Username(), v.Password)
	}
	l.wanted[v.Name], err = l.houses.Prepare(ctx, v.Name, address.String())
	return err
}
