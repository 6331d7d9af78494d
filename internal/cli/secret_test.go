package cli

import (
	"os"
	"path/filepath"
	"testing"
)

// ${NAME} is the variable of that name, else the file of that name in the secrets folder; a
// name that is neither stands for what is kept.
func TestSecretsOfFilesComeFromTheEnvironmentOrAFolder(t *testing.T) {
	a := &app{secrets: t.TempDir()}
	for name, content := range map[string]string{"HOUSE_PASSWORD": "of the folder\n", "DESK_PASSWORD": "of the folder too\r\n"} {
		if err := os.WriteFile(filepath.Join(a.secrets, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("HOUSE_PASSWORD", "of the environment")
	for name, want := range map[string]string{"HOUSE_PASSWORD": "of the environment", "DESK_PASSWORD": "of the folder too",
		"NOBODYS_PASSWORD": ""} {
		if got, known := a.secretNamed(name); got != want || known != (want != "") {
			t.Errorf("%s: %q, %t", name, got, known)
		}
	}
	a.secrets = ""
	if _, known := a.secretNamed("DESK_PASSWORD"); known {
		t.Error("without a folder a file is read")
	}
}

// What cannot be meant is said before a service starts.
func TestOptionsOfAServiceThatCannotBeMeantAreRefused(t *testing.T) {
	good := serving{role: "all", logs: "text", idle: "7d", longest: "30d"}
	if _, err := good.read(); err != nil {
		t.Fatal(err)
	}
	for what, change := range map[string]func(*serving){
		"a role":                     func(w *serving) { w.role = "boss" },
		"several without a database": func(w *serving) { w.role = "web" },
		"half a certificate":         func(w *serving) { w.TLSCert = "cert.pem" },
		"a log":                      func(w *serving) { w.logs = "xml" },
		"a proxy":                    func(w *serving) { w.proxies = []string{"10.1.2.3"} },
		"a session":                  func(w *serving) { w.idle = "2s" },
		"records that limits need":   func(w *serving) { w.Keep.Records = 30 },
		"a provider without groups":  func(w *serving) { w.openID.Issuer, w.openID.Client = "https://staff.example", "bell" },
		"groups without a provider":  func(w *serving) { w.groupRoles = []string{"crew=reader"} },
		"a role of a group": func(w *serving) {
			w.openID.Issuer, w.openID.Client, w.groupRoles = "https://staff.example", "bell", []string{"crew=boss"}
		},
	} {
		w := good
		change(&w)
		if _, err := w.read(); err == nil {
			t.Errorf("%s: taken", what)
		}
	}
}
