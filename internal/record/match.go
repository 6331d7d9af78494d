package record

// Match is something that has the words that were asked for.
type Match struct {
	Kind    string `json:"kind" enum:"dataset,monitor,series,alert,incident,sla,comparison,sentence"`
	Name    string `json:"name" doc:"its name; of an incident the reference, of an alert the number, of a sentence its log"`
	Dataset string `json:"dataset" doc:"that it is about"`
	Says    string `json:"says" doc:"who looks after it, or what it says"`
	ID      int64  `json:"id"`
	Number  int    `json:"number" doc:"of a sentence, within its log"`
}
