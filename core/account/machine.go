package account

import "time"

// Machine is what a host is made of and runs on: what its administrator would look up by hand.
type Machine struct {
	Facts     []MachineFact  `json:"facts"`
	Modules   []MemoryModule `json:"memory_modules"`
	NoModules string         `json:"memory_modules_unavailable,omitempty" doc:"Why they are not known."`
	Links     []MachineLink  `json:"links"`
	Starts    []Start        `json:"starts" doc:"What begins by itself."`
	Failed    []string       `json:"failed" doc:"Units of the init system that failed."`
	Stuck     []Unit         `json:"stuck" doc:"Units that have been between two states for minutes."`
	NoFailed  string         `json:"failed_unavailable,omitempty" doc:"Why it is not known what failed."`
}

// Unit is a unit of the init system that is between two states.
type Unit struct {
	Name  string    `json:"name"`
	State string    `json:"state" doc:"starting, stopping or reloading."`
	Since time.Time `json:"since"`
}

// MachineFact is one thing about a machine, or why it is not known.
type MachineFact struct {
	What string `json:"what"`
	Text string `json:"text,omitempty"`
	Why  string `json:"unavailable,omitempty"`
}

// NotStated is why something is not known of a machine that does not say; it is told apart from a missing right.
const NotStated = "not stated by this machine"

// MemoryModule is one slot for memory (SMBIOS, "Memory Device").
type MemoryModule struct {
	Slot          string `json:"slot"`
	SizeBytes     int64  `json:"size_bytes" doc:"0 for an empty slot."`
	Type          string `json:"type,omitempty"`
	Form          string `json:"form,omitempty"`
	MegaTransfers int    `json:"megatransfers_per_second,omitempty" doc:"As it is set up."`
	Maker         string `json:"maker,omitempty"`
	Part          string `json:"part,omitempty"`
	MostTransfers int    `json:"most_megatransfers_per_second,omitempty" doc:"That it could do."`
}

// MachineLink is a network interface with its addresses.
type MachineLink struct {
	Name      string   `json:"name"`
	Addresses []string `json:"addresses"`
	Mbit      int64    `json:"mbit" doc:"Line rate; 0 where it is not told."`
	State     string   `json:"state" doc:"up, down, or as its driver says."`
	Hardware  string   `json:"hardware,omitempty" doc:"Its address on the wire."`
	Virtual   bool     `json:"virtual,omitempty" doc:"No hardware is behind it."`
}

// Start is something that begins by itself.
type Start struct {
	Name string `json:"name"`
	Kind string `json:"kind" doc:"service, timer, socket, mount, …, start-up entry or table of timed commands."`
	When string `json:"when" doc:"Which target or run level wants it, or how often it runs."`
}
