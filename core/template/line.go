package template

import "bytes"

// Severities, as OpenTelemetry names them, lowest first.
var Severities = []string{"TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"}

// severityWords are what lines write for them.
var severityWords = map[string]string{
	"TRACE": "TRACE", "DEBUG": "DEBUG", "DBG": "DEBUG", "INFO": "INFO", "INFORMATION": "INFO", "NOTICE": "INFO", "WARN": "WARN",
	"WARNING": "WARN",
	"ERROR":   "ERROR", "ERR": "ERROR", "SEVERE": "ERROR", "FATAL": "FATAL", "CRITICAL": "FATAL", "CRIT": "FATAL", "PANIC": "FATAL",
	"EMERG": "FATAL", "ALERT": "FATAL",
}

// SeverityOf gives the severity that a word names; "" if it names none.
func SeverityOf(word string) string {
	return severityWords[string(bytes.ToUpper([]byte(word)))]
}

// Severity is what a line says of itself within its first parts, in capitals or as the
// value of level or severity; "" if it does not.
func Severity(line []byte, parts []Part) string {
	for i, p := range parts[:min(len(parts), 16)] {
		if p.Kind != Word && p.Kind != Any {
			continue
		}
		word := line[p.From:p.To]
		keyed := i >= 2 && parts[i-1].Kind == Mark && (line[parts[i-1].From] == '=' || line[parts[i-1].From] == ':') &&
			levelKey(line[parts[i-2].From:parts[i-2].To])
		if keyed || i < 8 && bytes.Equal(word, bytes.ToUpper(word)) {
			if s := SeverityOf(string(word)); s != "" {
				return s
			}
		}
	}
	return ""
}

func levelKey(word []byte) bool {
	switch string(bytes.ToLower(bytes.Trim(word, `"`))) {
	case "level", "lvl", "severity", "severity_text":
		return true
	}
	return false
}
