package act

import "time"

// Preview is what an act would do, as its host sees it now.
type Preview struct {
	Target    string     `json:"target" doc:"What it is aimed at, in words."`
	Identity  string     `json:"identity" doc:"Tells this target from another of the same name: to be given back."`
	Through   string     `json:"through" doc:"By which system it is carried out."`
	Processes []Involved `json:"processes" doc:"Those it touches, 200 at most."`
	Total     int        `json:"processes_total"`
	Changes   []Change   `json:"changes" doc:"Values, before and after."`
	Shared    []string   `json:"shared" doc:"Who else would feel it."`
	Warnings  []string   `json:"warnings"`
	Left      []Refusal  `json:"left" doc:"What is not touched, and why."`
	Undo      string     `json:"undo" doc:"What undoes it; empty where nothing does."`
	Workloads []string   `json:"workloads" doc:"Keys of the workloads whose processes or groups it touches."`
}

// MostListed is how many processes a preview or an outcome lists.
const MostListed = 200

// Involved is a process that an act touches.
type Involved struct {
	PID      int32     `json:"pid"`
	Start    int64     `json:"start_ticks" doc:"Clock ticks since boot."`
	Began    time.Time `json:"began_at"`
	User     string    `json:"user"`
	Program  string    `json:"program"`
	Workload string    `json:"workload,omitempty" doc:"Its key."`
}

// Change is one value that an act changes.
type Change struct {
	What   string `json:"what" doc:"In words, such as CPU limit."`
	Where  string `json:"where" doc:"A file, or a thread."`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Refusal is something that is left as it is.
type Refusal struct {
	What string `json:"what"`
	Why  string `json:"why"`
}

// State is how far an act has come.
type State string

// The states of an act.
const (
	Asked     State = "asked"     // its host is to show what it would do
	Previewed State = "previewed" // it waits to be confirmed
	Confirmed State = "confirmed" // its host is to carry it out
	Sent      State = "sent"      // its host has the order, and has not answered yet
	Done      State = "done"
	Partly    State = "partly" // some of it was done; the outcome says what was not
	Failed    State = "failed" // nothing was done
	Refused   State = "refused"
	Expired   State = "expired" // nothing was done in time, and nothing will be
	Unknown   State = "unknown" // the host had the order and did not answer
)

// IsOver tells whether a state is the last that an act comes to. An unknown one may still become known.
func (s State) IsOver() bool {
	switch s {
	case Asked, Previewed, Confirmed, Sent:
		return false
	}
	return true
}

// Outcome is what came of an act, read back from the kernel.
type Outcome struct {
	State   State     `json:"state" enum:"done,partly,failed,refused,expired,unknown"`
	Detail  string    `json:"detail" doc:"In a sentence."`
	At      time.Time `json:"at" doc:"By the host's clock."`
	Changes []Change  `json:"changes" doc:"After is what was read back."`
	Hit     int       `json:"processes_hit"`
	Left    []Refusal `json:"left"`
	CanUndo bool      `json:"can_undo"`
	Found   []Glimpse `json:"found" doc:"Of a closer look."`
}

// Glimpse is one line of a closer look.
type Glimpse struct {
	Of   string `json:"of" doc:"process, thread, file, connection, environment, watched, system call, or of lines."`
	What string `json:"what"`
	Text string `json:"text"`
}
