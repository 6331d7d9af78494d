package localpg

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
)

// Programs gives the newest Debian PostgreSQL's program folder, or the one on PATH.
func Programs() (string, error) {
	folders, _ := filepath.Glob(debianPrograms + "/*/bin/postgres")
	sort.Slice(folders, func(i, j int) bool { return version(folders[i]) < version(folders[j]) })
	if n := len(folders); n > 0 {
		return filepath.Dir(folders[n-1]), nil
	}
	if path, err := exec.LookPath("postgres"); err == nil {
		return filepath.Dir(path), nil
	}
	return "", errors.New("PostgreSQL is not installed: install Debian's package postgresql, or give --database with the address of a server")
}

// programsFor gives the programs of the version that wrote the data, of data that is not there
// yet the newest: a server reads no data of another major version.
func programsFor(data string) (string, error) {
	newest, err := Programs()
	wrote, missing := os.ReadFile(filepath.Join(data, "PG_VERSION"))
	if missing != nil {
		return newest, err
	}
	major := strings.TrimSpace(string(wrote))
	own := filepath.Join(debianPrograms, major, "bin")
	if _, err := os.Stat(filepath.Join(own, "postgres")); err == nil {
		return own, nil
	}
	if err != nil || !strings.HasPrefix(newest, debianPrograms) {
		return newest, err // of no known version: it says itself what it cannot read
	}
	return "", fmt.Errorf("the records in %s are of PostgreSQL %s, of which the programs are gone; install Debian's package postgresql-%s, then move them to the newer version: 'tinbell backup FILE', and 'tinbell restore FILE --dir ANEW'; a backup from before does as well", data, major, major)
}

// debianPrograms is where Debian's packages keep the programs of each version.
const debianPrograms = "/usr/lib/postgresql"

func version(path string) int {
	n, _ := strconv.Atoi(strings.Split(path, "/")[4])
	return n
}
