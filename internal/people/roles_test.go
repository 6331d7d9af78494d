package people

import (
	"encoding/base64"
	"path/filepath"
	"strings"
	"testing"

	"tinbell/internal/record"
)

func TestWhatSomebodyMayIsTheMostThatAnyGrantGivesThere(t *testing.T) {
	a := record.Account{Grants: record.List[record.Grant]{
		{Role: Reader, Datasets: record.Strings{"raw.*", "ops.tills"}}, {Role: Editor, Datasets: record.Strings{"tag:harbour"},
			Team: "harbour"}, {Role: None},
	}}
	for _, c := range []struct {
		dataset string
		tags    []string
		most    string
	}{
		{"raw.gates", nil, Reader}, {"raw.gates", []string{"harbour"}, Editor}, {"ops.tills", nil, Reader},
		{"ops.tills2", nil, ""}, {"edge.gates", []string{"harbour"}, Editor}, {"edge.gates", []string{"harbours"}, ""}, {"", nil, ""},
	} {
		for _, role := range Roles {
			if got, want := MayIn(capped(a, "", nil), role, c.dataset, c.tags), Allows(c.most, role); got != want {
				t.Errorf("%s in %s %v: %t", role, c.dataset, c.tags, got)
			}
		}
	}
	if got := capped(a, "", nil); got.Role != Editor || Everywhere(got, Reader) {
		t.Errorf("%s, everywhere %t", got.Role, Everywhere(got, Reader))
	}
	// A token says no more than the account, in role and in place.
	small := capped(record.Account{Grants: record.List[record.Grant]{{Role: Admin}}}, Responder, record.Strings{"raw.*"})
	if small.Role != Responder || Everywhere(small, Reader) || !MayIn(small, Responder, "raw.gates", nil) || MayIn(small, Editor,
		"raw.gates", nil) || MayIn(small, Reader, "ops.tills", nil) {
		t.Errorf("%+v", small)
	}
	if !Everywhere(Local(), Admin) {
		t.Error("without sign-in everybody is the administrator")
	}
}

func TestPatternsThatCanMeanNothingAreRefused(t *testing.T) {
	for pattern, good := range map[string]bool{"raw.*": true, "*": true, "tag:harbour": true, "raw.gate_events": true, "": false,
		"tag:": false, "tag:Not One": false, "raw.[": false, "a/b": false} {
		if _, err := CheckPatterns(record.Strings{pattern}); (err == nil) != good {
			t.Errorf("%q: %v", pattern, err)
		}
	}
	if _, err := CheckPatterns(make(record.Strings, mostPatterns+1)); err == nil {
		t.Error("any number is taken")
	}
}

func TestWhatGroupsGiveIsReadAndAddedUp(t *testing.T) {
	for text, good := range map[string]bool{"on call=responder": true, "harbour=team:harbour data": true, "*=reader": true,
		"x=boss": false, "=reader": false, "reader": false, "x=team:": false} {
		if _, err := ReadGroupRole(text); (err == nil) != good {
			t.Errorf("%q: %v", text, err)
		}
	}
	p := &Provider{OpenID: OpenID{Roles: []GroupRole{{Group: "*", Role: Reader}, {Group: "on call", Role: Editor},
		{Group: "crew", Role: Responder}, {Group: "harbour", Team: "harbour"}}}}
	if role, teams := p.gives([]string{"crew", "on call", "harbour"}); role != Editor || strings.Join(teams, " ") != "harbour" {
		t.Errorf("%s, %v", role, teams)
	}
	if role, teams := p.gives(nil); role != Reader || len(teams) != 0 {
		t.Errorf("of no group: %s, %v", role, teams)
	}
}

func TestAKeyThatIsGoneIsNotMadeAnew(t *testing.T) {
	file := filepath.Join(t.TempDir(), "secret.key")
	safe, gone, err := OpenKey(t.Context(), KeyFrom{File: file}, true)
	if err != nil || !gone || !safe.Lost() {
		t.Fatalf("%v, gone %t", err, gone)
	}
	if _, err := safe.Unlock(safe.Lock("x")); err == nil {
		t.Error("it opens something")
	}
	if _, err := safe.Draft(); err == nil {
		t.Error("it is changed for another")
	}
	first, gone, err := OpenKey(t.Context(), KeyFrom{File: file}, false)
	if err != nil || gone {
		t.Fatalf("the first of all: %v, gone %t", err, gone)
	}
	locked := first.Lock("x")
	again, _, err := OpenKey(t.Context(), KeyFrom{File: file}, true)
	if got, openErr := again.Unlock(locked); err != nil || openErr != nil || got != "x" {
		t.Errorf("%q, %v, %v", got, err, openErr)
	}
	// The same key as text, in a variable.
	t.Setenv("A_KEY", base64.StdEncoding.EncodeToString(first.key))
	other, _, err := OpenKey(t.Context(), KeyFrom{Variable: "A_KEY"}, true)
	if got, openErr := other.Unlock(locked); err != nil || openErr != nil || got != "x" {
		t.Errorf("by a variable: %q, %v, %v", got, err, openErr)
	}
}
