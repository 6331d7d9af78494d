package record

import "time"

// SourcePostgreSQL is the kind of a source that is asked with SQL.
const SourcePostgreSQL = "postgresql"

// Source is where measurements come from.
type Source struct {
	ID           int64      `db:"id" json:"id"`
	Name         string     `db:"name" json:"name"`
	Kind         string     `db:"kind" json:"kind" enum:"postgresql,folder,push"`
	Login        []byte     `db:"login" json:"-"`
	Address      string     `db:"address" json:"address" doc:"where it is reached, without the password"`
	State        string     `db:"state" json:"state" enum:"ready,failed"`
	Message      string     `db:"message" json:"message"`
	FailingSince *time.Time `db:"failing_since" json:"failing_since"`
	CreatedAt    time.Time  `db:"created_at" json:"created_at"`
	Warnings     Strings    `db:"-" json:"warnings,omitempty" doc:"when it is added: what its login may do beyond reading"`
}

// Dataset is a table, stream or set of files.
type Dataset struct {
	ID           int64      `db:"id" json:"id"`
	SourceID     int64      `db:"source_id" json:"-"`
	Source       string     `db:"source" json:"source"`
	Namespace    string     `db:"namespace" json:"namespace"`
	Name         string     `db:"name" json:"name"`
	Owner        string     `db:"owner" json:"owner"`
	Zone         string     `db:"zone" json:"zone"`
	LoadedBy     string     `db:"loaded_by" json:"loaded_by" doc:"column that holds the time of loading"`
	LoadedType   string     `db:"loaded_type" json:"loaded_type" enum:"timestamptz,timestamp,date," doc:"of that column; without a zone its values are local to the dataset"`
	Pattern      string     `db:"pattern" json:"pattern" doc:"of a folder: which of its files are this dataset's"`
	KeepDays     int        `db:"keep_days" json:"keep_days" doc:"days that samples are kept; 0: as the service says"`
	Hidden       Strings    `db:"hidden" json:"hidden" doc:"columns whose values are never shown"`
	Tags         Strings    `db:"tags" json:"tags"`
	State        string     `db:"state" json:"state" enum:"ready,failed"`
	Message      string     `db:"message" json:"message" doc:"why it cannot be read, in the database's words"`
	FailingSince *time.Time `db:"failing_since" json:"failing_since"`
	CreatedAt    time.Time  `db:"created_at" json:"created_at"`
}

// Column of a table.
type Column struct {
	Name     string `json:"name"`
	Type     string `json:"type"`
	Nullable bool   `json:"nullable"`
}

// ColumnChange is what became of a column.
type ColumnChange struct {
	Column string `json:"column"`
	What   string `json:"what" enum:"added,removed,retyped"`
	Was    string `json:"was" doc:"its type before"`
	Is     string `json:"is" doc:"its type now"`
}

// ColumnVersion is a table's columns from a time on.
type ColumnVersion struct {
	ID        int64         `db:"id" json:"-"`
	DatasetID int64         `db:"dataset_id" json:"-"`
	SeenAt    time.Time     `db:"seen_at" json:"seen_at"`
	Columns   Columns       `db:"columns" json:"columns"`
	Changes   ColumnChanges `db:"changes" json:"changes" doc:"since the version before"`
}
