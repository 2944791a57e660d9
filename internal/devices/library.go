package devices

import "vinescale/core/account"

// Library is what a vendor's management library tells of GPUs. It is asked once a reading.
type Library interface {
	Ask() *LibraryAnswer
	Close()
}

// LibraryAnswer is what the library told at one moment. Counters in it began with the helper that asks the library.
type LibraryAnswer struct {
	Why     string       `json:"why,omitempty"` // why nothing is told; GPUs is then empty
	Version string       `json:"version"`       // of the library
	Driver  string       `json:"driver"`        // the version of the driver
	Missing []string     `json:"missing"`       // what the library does not know how to tell
	GPUs    []LibraryGPU `json:"gpus"`
}

// LibraryGPU is one GPU, or one partition.
type LibraryGPU struct {
	Index int32  `json:"index"`
	UUID  string `json:"uuid"`
	Title string `json:"title"`
	Bus   string `json:"bus"`
	Minor Figure `json:"minor"` // of its device node
	Lost  string `json:"lost"`  // why nothing of it is told any more; "" where it is there

	BusyMicros  Figure `json:"busy_micros"` // since the helper began
	MemoryTotal Figure `json:"memory_total"`
	MemoryUsed  Figure `json:"memory_used"`
	MicroJoules Figure `json:"micro_joules"` // since the driver was loaded
	MicroWatts  Figure `json:"micro_watts"`  // now

	Figures []account.GPUFigure `json:"figures"`
	Users   []LibraryUser       `json:"users"`
	NoUsers string              `json:"no_users"` // why users are not told
	NoTimes string              `json:"no_times"` // why how long it worked for each is not told
	Parts   []LibraryGPU        `json:"parts"`
}

// LibraryUser is a process that uses a GPU, by the host's pid.
type LibraryUser struct {
	PID     int32                `json:"pid"`
	Kinds   []string             `json:"kinds"` // compute, graphics
	Bytes   Figure               `json:"bytes"`
	Engines []account.EngineTime `json:"engines"` // since the helper first saw it
}

// Figure is a number, or why there is none.
type Figure struct {
	N   int64  `json:"n"`
	Why string `json:"why,omitempty"`
}

// OK tells whether it is a number.
func (f Figure) OK() bool { return f.Why == "" }

// MainEngine is the engine of the library's GPUs whose work counts as theirs.
const MainEngine = "compute and graphics"
