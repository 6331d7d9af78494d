package warehouse

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"tinbell/internal/record"
)

// CheckExpression tells whether a condition or value that a person wrote is one SQL
// expression that reads: its brackets and quotes close within it, it has no comment and no
// end of a statement, begins no query of its own, and calls nothing that acts. The
// transaction it runs in is read-only; this is for what a read-only transaction lets pass.
func CheckExpression(field, text string) error {
	refuse := func(why string) error {
		return record.Invalid{Field: field, Given: text, Allowed: "one SQL expression that reads columns: " + why}
	}
	depth := 0
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == '\'':
			end, ok := quoted(text, i)
			if !ok {
				return refuse("a quoted text is not closed")
			}
			i = end
			continue
		case c == '"':
			end := strings.IndexByte(text[i+1:], '"')
			if end < 0 {
				return refuse("a quoted name is not closed")
			}
			if called := strings.TrimLeft(text[i+2+end:], " \t\r\n"); strings.HasPrefix(called, "(") &&
				acts(strings.ToLower(text[i+1:i+1+end])) {
				return refuse(text[i+1:i+1+end] + " acts, it does not read")
			}
			i += end + 2
			continue
		case c == ';':
			return refuse("a semicolon ends it")
		case c == 0:
			return refuse("it has a null byte")
		case c == '$' && i+1 < len(text):
			return refuse("$ stands for a parameter or a quote; write a text as '…'")
		case strings.HasPrefix(text[i:], "--") || strings.HasPrefix(text[i:], "/*") || strings.HasPrefix(text[i:], "*/"):
			return refuse("it has a comment")
		case c == '(':
			depth++
		case c == ')':
			if depth--; depth < 0 {
				return refuse("a bracket is closed that was not opened")
			}
		case letter(text[i:]):
			word, size := name0(text[i:])
			lower := strings.ToLower(word)
			if rest := text[i+size:]; (lower == "e" || lower == "u") && (strings.HasPrefix(rest, "'") || strings.HasPrefix(rest, "&")) {
				return refuse("texts with escapes are not taken; write '…'")
			}
			called := strings.HasPrefix(strings.TrimLeft(text[i+size:], " \t\r\n"), "(")
			switch {
			case statements[lower]:
				return refuse(word + " begins a query or statement of its own")
			case called && acts(lower):
				return refuse(word + " acts, it does not read")
			}
			i += size
			continue
		}
		i++
	}
	if depth > 0 {
		return refuse("a bracket is not closed")
	}
	return nil
}

// quoted gives where a text in quotes ends that begins at i. Backslashes are text, as in
// standard strings.
func quoted(text string, i int) (int, bool) {
	for k := i + 1; k < len(text); k++ {
		if text[k] != '\'' {
			continue
		}
		if k+1 < len(text) && text[k+1] == '\'' {
			k++
			continue
		}
		return k + 1, true
	}
	return 0, false
}

func letter(text string) bool {
	r, _ := utf8.DecodeRuneInString(text)
	return r == '_' || unicode.IsLetter(r)
}

// name0 is the name that a text begins with.
func name0(text string) (string, int) {
	for i, r := range text {
		if r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return text[:i], i
		}
	}
	return text, len(text)
}

// statements are words that begin a query or a statement; as names of columns they are
// written in double quotes.
var statements = map[string]bool{
	"select": true, "insert": true, "update": true, "delete": true, "merge": true, "with": true, "values": true, "copy": true,
	"call": true, "do": true, "begin": true,
	"commit": true, "rollback": true, "execute": true, "prepare": true, "truncate": true, "create": true, "drop": true,
	"alter": true, "grant": true, "revoke": true,
	"listen": true, "notify": true, "lock": true, "table": true, "into": true, "union": true, "intersect": true, "except": true,
	"returning": true,
}

// acts tells functions that act on the server, its files, other servers, or this session.
func acts(name string) bool {
	for _, begins := range []string{
		"lo_", "dblink", "pg_read_", "pg_ls_", "pg_stat_file", "pg_sleep", "pg_terminate", "pg_cancel", "pg_advisory",
		"pg_try_advisory", "pg_notify", "pg_reload", "pg_rotate",
		"pg_switch", "pg_create_", "pg_drop_", "pg_backup", "pg_start_", "pg_stop_", "pg_wal_", "pg_promote", "pg_logical",
		"pg_replication", "pg_file", "pg_import", "pg_export",
		"pg_stat_reset", "pg_log_", "pg_logfile", "pg_logdir", "query_to_", "table_to_", "cursor_to_", "schema_to_",
		"database_to_", "xpath_table", "postgres_fdw", "file_fdw",
		"http_", "plpy", "plperl", "txid_current", "pg_current_xact_id",
	} {
		if strings.HasPrefix(name, begins) {
			return true
		}
	}
	switch name {
	case "nextval", "setval", "set_config", "currval", "lastval", "loread", "lowrite", "crosstab", "connectby", "ts_stat",
		"ts_rewrite", "http":
		return true
	}
	return false
}

// checkMetric checks what a person wrote into a metric.
func checkMetric(m record.Metric) error {
	if m.RowFilter != "" {
		if err := CheckExpression("row_filter", m.RowFilter); err != nil {
			return err
		}
	}
	if m.Measure == record.MeasureExpression {
		return CheckExpression("expression", m.Expression)
	}
	return nil
}

// conditionWords say what went wrong with a value, by SQLSTATE.
var conditionWords = map[string]string{
	"22P02": "a text is no value of the type asked for", "22003": "a number is out of range", "22012": "a division by zero",
	"22007": "a text is no date or time",
	"22008": "a date or time is out of range", "22023": "a parameter has no allowed value", "22001": "a text is too long",
	"22021": "a text is not of the database's encoding",
	"22P05": "a character cannot be written in the encoding", "22025": "an escape in a pattern is wrong",
	"2201B": "a regular expression is wrong", "22P03": "a binary value is wrong",
	"22004": "a null where none may be", "22011": "a part of a text is asked for that cannot be",
	"22030": "a key of a JSON object comes twice", "22032": "a text is no JSON",
	"22033": "a JSON path leads nowhere", "2203F": "a JSON value is no single item",
}

// value tells errors that may show a row's value: data exceptions and broken constraints.
func value(code string) (said string, is bool) {
	switch {
	case len(code) != 5:
		return "", false
	case conditionWords[code] != "":
		return conditionWords[code] + " (which is not shown)", true
	case strings.HasPrefix(code, "22"), strings.HasPrefix(code, "23"), strings.HasPrefix(code, "P0"),
		strings.HasPrefix(code, "XX"), strings.HasPrefix(code, "38"), strings.HasPrefix(code, "39"):
		return fmt.Sprintf("a value could not be worked with, SQLSTATE %s (the value is not shown)", code), true
	}
	return "", false
}
