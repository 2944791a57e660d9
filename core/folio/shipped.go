package folio

// Shipped are the folios that everybody has, by name. They are looked at and copied, and change with the program.
func Shipped() []Named {
	fleet, host := Subject{Kind: Fleet}, Subject{Kind: Host}
	all := []Named{
		{"fleet", Folio{Title: "Fleet at a glance", About: "How full the fleet is, whose it is, and what happened.",
			Rows: []Row{
				{Height: "low", Plates: []Plate{
					{Of: "cpu", Subject: fleet, Form: "number"}, {Of: "memory", Subject: fleet, Form: "filled"},
					{Of: "disk", Subject: fleet, Form: "number"}, {Of: "network", Subject: fleet, Form: "number"},
					{Of: "hosts", Subject: fleet, Form: "number"}}},
				{Plates: []Plate{{Of: "cpu", Subject: fleet, By: "tenant", Form: "stack", Width: 2},
					{Of: "memory", Subject: fleet, By: "tenant", Form: "parts"}}},
				{Plates: []Plate{{Of: "standing", Subject: fleet, Form: "bars"},
					{Of: "cpu_wait_us", Subject: fleet, By: "tenant", Form: "bars"},
					{Of: "hosts", Subject: fleet, Form: "table"}}},
				{Plates: []Plate{{Of: "events", Subject: fleet, Form: "table"}}},
			}}},
		{"one-host", Folio{Title: "One host", About: "What a host does, who it does it for, and where it waits.",
			Rows: []Row{
				{Height: "low", Plates: []Plate{
					{Of: "cpu", Subject: host, Form: "filled"}, {Of: "memory", Subject: host, Form: "filled"},
					{Of: "disk", Subject: host, Form: "number"}, {Of: "network", Subject: host, Form: "number"}}},
				{Plates: []Plate{{Of: "cpu", Subject: host, By: "tenant", Form: "stack", Width: 2},
					{Of: "cpu", Subject: host, By: "workload", Form: "parts"}}},
				{Plates: []Plate{{Of: "cpu", Subject: host, Form: "placement"}}},
				{Plates: []Plate{{Of: "memory", Subject: host, By: "workload", Form: "bars"},
					{Of: "disk_time_us", Subject: host, By: "workload", Form: "bars"},
					{Of: "sensors", Subject: host, Form: "table"}}},
				{Plates: []Plate{{Of: "events", Subject: host, Form: "table"}}},
			}}},
		{"gpus", Folio{Title: "GPUs", About: "Whether GPUs work, for whom, and which of them stand idle.",
			Rows: []Row{
				{Height: "low", Plates: []Plate{
					{Of: "gpu", Subject: fleet, Form: "filled"}, {Of: "gpu_memory", Subject: fleet, Form: "filled"}}},
				{Plates: []Plate{{Of: "gpu", Subject: fleet, By: "tenant", Form: "stack", Width: 2},
					{Of: "gpu_memory", Subject: fleet, By: "workload", Form: "parts"}}},
				{Plates: []Plate{{Of: "gpu_devices", Subject: fleet, Form: "bars"},
					{Of: "gpu", Subject: fleet, By: "user", Form: "bars"}}},
			}}},
		{"storage", Folio{Title: "Storage", About: "Whether storage is the problem, on which drive, and who causes it.",
			Rows: []Row{
				{Height: "low", Plates: []Plate{
					{Of: "disk_read_bytes", Subject: fleet, Form: "number"},
					{Of: "disk_written_bytes", Subject: fleet, Form: "number"},
					{Of: "disk_reads", Subject: fleet, Form: "number"},
					{Of: "disk_writes", Subject: fleet, Form: "number"}}},
				{Plates: []Plate{{Of: "disk", Subject: fleet, By: "workload", Form: "stack", Width: 2},
					{Of: "drives", Subject: fleet, Form: "bars"}}},
				{Plates: []Plate{{Of: "drive_latency_ms", Subject: fleet, Form: "line", Width: 2},
					{Of: "drive_queue", Subject: fleet, Form: "bars"}}},
				{Plates: []Plate{{Of: "disk_time_us", Subject: fleet, By: "workload", Form: "bars"},
					{Of: "filesystems", Subject: fleet, Form: "bars"},
					{Of: "space_used_bytes", Subject: fleet, By: "tenant", Form: "bars"}}},
			}}},
		{"sign-ins", Folio{Title: "Sign-ins", About: "Who is signed in, and what people use by hand.",
			Rows: []Row{
				{Plates: []Plate{{Of: "signed_in", Subject: fleet, Form: "table"}}},
				{Plates: []Plate{
					{Of: "cpu", Subject: Subject{Where, "kind == 'session'"}, By: "user", Form: "stack", Width: 2,
						Title: "CPU of sign-ins by person"},
					{Of: "memory", Subject: Subject{Where, "kind == 'session'"}, By: "user", Form: "bars",
						Title: "Memory of sign-ins by person"}}},
				{Plates: []Plate{{Of: "events", Subject: fleet, Form: "table"}}},
			}}},
	}
	for i := range all {
		all[i].Format = Format
	}
	return all
}

// Named is a folio with the name by which it is addressed.
type Named struct {
	Name string
	Folio
}

// ShippedNamed finds a folio of those that everybody has.
func ShippedNamed(name string) (Folio, bool) {
	for _, n := range Shipped() {
		if n.Name == name {
			return n.Folio, true
		}
	}
	return Folio{}, false
}
