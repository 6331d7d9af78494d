package record

import (
	"bytes"
	"encoding/json"
	"fmt"
)

// Tried are settings to try on a monitor: whole ones, or what is changed of each
// monitor's own.
type Tried struct {
	Settings *Settings      `json:"settings,omitempty" doc:"tried in place of each monitor's own"`
	Change   map[string]any `json:"change,omitempty" doc:"tried above each monitor's own: the settings that change, null for one that is taken away (JSON Merge Patch, RFC 7396)"`
}

// Nothing tells that there is nothing to try.
func (t Tried) Nothing() bool { return t.Settings == nil && len(t.Change) == 0 }

// On gives the settings to try where a monitor has its own.
func (t Tried) On(own Settings) (Settings, error) {
	if t.Settings != nil {
		own = *t.Settings
	}
	if len(t.Change) == 0 {
		return own, nil
	}
	patch, err := json.Marshal(t.Change)
	if err != nil {
		return own, err
	}
	decoder := json.NewDecoder(bytes.NewReader(patch))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&own); err != nil {
		return own, Invalid{Field: "change", Given: string(patch), Allowed: fmt.Sprintf("settings of a monitor: %v", err)}
	}
	if _, given := t.Change["critical_seconds"]; !given { // critical stays the rarer one
		own.CriticalSeconds = max(own.CriticalSeconds, own.WarnSeconds)
	}
	return own, nil
}
