package record

import "time"

// RunEvent is what is taken from an OpenLineage event (openlineage.io, spec 2). A
// run event has Run set; one about a job or dataset alone has not.
type RunEvent struct {
	Time     time.Time
	State    string // of the run: running, complete, failed, aborted
	Begins   bool   // START
	Run      string // UUID
	Parent   string // UUID of the run that started this one
	Job      Place
	Message  string // why it failed
	Datasets []RunDataset
}

// Place is the name of a job or dataset, as the specification has it.
type Place struct{ Namespace, Name string }

// RunDataset is a dataset that a job read or wrote.
type RunDataset struct {
	Place
	Output  bool
	Rows    *int64
	Bytes   *int64
	Columns []Column
}
