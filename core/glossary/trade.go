package glossary

// ofTrade are the words that the book is written in.
var ofTrade = []Entry{
	{
		Word:    "host",
		Sort:    OfTrade,
		Meaning: "One machine, with its CPUs, memory, disks, interfaces, GPUs and sensors.",
	},
	{Word: "workload", Sort: OfTrade, Meaning: "What uses a host: a container, a virtual machine, a batch job, a " +
		"service, a sign-in, or loose processes of a user. Each process belongs to exactly one."},
	{
		Word: "kind",
		Sort: OfTrade,
		Meaning: "What sort of thing something is; of a workload one of container, vm, job, " +
			"session, service, loose and kernel.",
	},
	{
		Word: "owner",
		Sort: OfTrade,
		Meaning: "The user that a workload runs for: who submitted the job, who signed in, " +
			"for whom the container or machine was made; else the user of its processes.",
	},
	{
		Word: "tenant",
		Sort: OfTrade,
		Meaning: "Whom usage is accounted to. Ordered rules say which workloads are whose; " +
			"what no rule matches is unassigned.",
	},
	{Word: "family", Sort: OfTrade, Meaning: "A process and all its descendants."},
	{Word: "program", Sort: OfTrade, Meaning: "All processes that run one executable."},
	{Word: "pool", Sort: OfTrade, Meaning: "Hosts that belong together. A quota may be on one."},
	{
		Word: "flow",
		Sort: OfTrade,
		Meaning: "What accumulates, such as CPU time, bytes or energy. Over a span it is a " +
			"sum, and its mean is that sum by the length of the span.",
	},
	{
		Word: "level",
		Sort: OfTrade,
		Meaning: "What stands at a height, such as memory. Over a span it is the mean over " +
			"time, and the highest that was read.",
	},
	{Word: "height", Sort: OfTrade, Meaning: "The most that something was at once. Of several, the highest counts."},
	{Word: "stall", Sort: OfTrade, Meaning: "Time in which something was waited for. Stalls of several workloads " +
		"overlap, so they are not added."},
	{
		Word: "held",
		Sort: OfTrade,
		Meaning: "What a workload is entitled to, whether it uses it or not: its limit, its " +
			"reservation, its job's allotment, its virtual CPUs, its GPUs.",
	},
	{Word: "span", Sort: OfTrade, Meaning: "The time that an answer is about, from a moment until another."},
	{
		Word: "interval",
		Sort: OfTrade,
		Meaning: "The time between two readings of the same counters. Usage is always " +
			"over an interval; the first reading of anything yields none.",
	},
	{Word: "share", Sort: OfTrade, Meaning: "The part of a host's or the fleet's amount that one workload, user, " +
		"program, kind or tenant had."},
	{Word: "measure", Sort: OfTrade, Meaning: "What the book counts, with its unit and how its figures combine."},
	{Word: "resource", Sort: OfTrade, Meaning: "A measure with a ledger, such as CPU or memory."},
	{
		Word: "ledger",
		Sort: OfTrade,
		Meaning: "What a host had of a resource, and where it went: capacity = shares + " +
			"kernel + idle + residual. It balances for each host, resource and interval.",
	},
	{Word: "quota", Sort: OfTrade, Meaning: "What a tenant may have: a ceiling or an allowance."},
	{
		Word:    "ceiling",
		Sort:    OfTrade,
		Meaning: "A quota for every moment: a level or rate that must not stay exceeded.",
	},
	{
		Word: "allowance",
		Sort: OfTrade,
		Meaning: "A quota for a while: an amount that may be spent per day, week, month " +
			"or other window.",
	},
	{Word: "headroom", Sort: OfTrade, Meaning: "What is left of a quota."},
	{Word: "declared", Sort: OfTrade, Meaning: "Of a pin: what an administrator recorded."},
	{Word: "effective", Sort: OfTrade, Meaning: "Of a pin: what affinity masks and cpusets let threads do."},
	{Word: "observed", Sort: OfTrade, Meaning: "Of a pin: where time was really spent."},
	{Word: "pin", Sort: OfTrade, Meaning: "CPUs that are given to a holder. It is looked at three ways: declared, " +
		"effective and observed."},
	{
		Word: "frame",
		Sort: OfTrade,
		Meaning: "What one reading of a host tells to those who look at it now. It is never " +
			"stored in the book.",
	},
	{
		Word:    "folio",
		Sort:    OfTrade,
		Meaning: "A page that a person composed of plates. It is theirs, or shared with the site.",
	},
	{Word: "plate", Sort: OfTrade, Meaning: "One figure or drawing on a folio."},
	{Word: "strip", Sort: OfTrade, Meaning: "A few figures that a person wants in view on every page."},
	{Word: "event", Sort: OfTrade, Meaning: "Something that happened at a moment, beside what was used over a span."},
	{
		Word:    "act",
		Sort:    OfTrade,
		Meaning: "Something done to what runs on a host, from the request to what came of it.",
	},
	{
		Word: "standing rule",
		Sort: OfTrade,
		Meaning: "A rule that has an act done by itself once a condition has held " +
			"for a time.",
	},
	{Word: "asleep", Sort: OfTrade, Meaning: "A workload that has used no CPU time worth telling for a while."},
	{
		Word: "runnable",
		Sort: OfTrade,
		Meaning: "A thread that runs or wants to run. Where more are runnable than there " +
			"are CPUs for them, some wait.",
	},
	{
		Word: "pressure",
		Sort: OfTrade,
		Meaning: "The part of the time in which work was held up for want of a resource, " +
			"as the kernel tells it: some means at least one thread, full means all that had work.",
	},
	{Word: "throttled", Sort: OfTrade, Meaning: "Held back by a CPU limit although a CPU was free."},
	{Word: "capacity", Sort: OfTrade, Meaning: "All that a host has of a resource over a span."},
}

// ofLedger are the lines of a ledger.
var ofLedger = []Entry{
	{Word: "shares", Sort: OfLedger, Meaning: "What workloads had, all together."},
	{Word: "kernel", Sort: OfLedger, Meaning: "What the kernel had for itself: its threads, interrupts, its own " +
		"memory. No workload is charged with it."},
	{
		Word: "idle",
		Sort: OfLedger,
		Meaning: "What nobody used. Of energy, what the host draws at rest, where that is " +
			"declared.",
	},
	{
		Word: "steal",
		Sort: OfLedger,
		Meaning: "CPU time that the machine below this one gave to others while this one " +
			"wanted it.",
	},
	{
		Word: "residual",
		Sort: OfLedger,
		Meaning: "What the host's total has and the lines have not, or the other way " +
			"round, with its sign. It is always shown: a large one says that something was not seen.",
	},
}

// events are the kinds of events.
var events = []Entry{
	{Word: "began", Sort: OfEvent, Meaning: "A workload began."},
	{Word: "ended", Sort: OfEvent, Meaning: "A workload ended, and nothing says that it failed."},
	{
		Word: "failed",
		Sort: OfEvent,
		Meaning: "A workload ended with a failure, by what its runtime or scheduler tells; or a unit of the " +
			"init system failed.",
	},
	{
		Word: "signed_in",
		Sort: OfEvent,
		Meaning: "Somebody signed in to a host; urgent where nobody of that name came " +
			"from there before.",
	},
	{Word: "signed_out", Sort: OfEvent, Meaning: "A sign-in ended."},
	{
		Word: "throttled",
		Sort: OfEvent,
		Meaning: "The CPU limit of a workload held it back for a hundredth of the time " +
			"or more; urgent from a quarter on. The time is added over CPUs.",
	},
	{
		Word: "moved",
		Sort: OfEvent,
		Meaning: "A workload came from another host, where one of its kind, name and owner " +
			"ended within five minutes; or the CPUs that it may run on are others.",
	},
	{
		Word: "restarted",
		Sort: OfEvent,
		Meaning: "A workload was begun anew by what runs it, or runs again after it was " +
			"not there.",
	},
	{Word: "stuck", Sort: OfEvent, Meaning: "A unit of the init system has been starting, stopping or reloading for " +
		"two minutes or more."},
	{Word: "device_came", Sort: OfEvent, Meaning: "A drive, a GPU or a network interface came to a host."},
	{Word: "device_gone", Sort: OfEvent, Meaning: "A drive, a GPU or a network interface is gone from a host."},
	{Word: "killed", Sort: OfEvent, Meaning: "The kernel ended processes for want of memory."},
	{Word: "booted", Sort: OfEvent, Meaning: "A host was started anew; its counters began again."},
	{Word: "silent", Sort: OfEvent, Meaning: "A host told nothing for a while."},
	{
		Word: "back",
		Sort: OfEvent,
		Meaning: "A host that was silent told of itself again; or a unit is in order that had " +
			"failed or was stuck.",
	},
	{
		Word: "changed",
		Sort: OfEvent,
		Meaning: "Somebody changed a rule, a quota, a pin or another record; or a limit, a " +
			"mounted filesystem or the CPUs in use became others.",
	},
	{Word: "acted", Sort: OfEvent, Meaning: "Something was done on a host by an act."},
}

// verdicts are what is concluded of pins, allowances and acts.
var verdicts = []Entry{
	{Word: "kept", Sort: OfVerdict, Meaning: "Of a pin: only its holder ran on its CPUs, and used them."},
	{Word: "intruded", Sort: OfVerdict, Meaning: "Of a pin: others ran on its CPUs for longer than a thousandth of " +
		"their time, or a second."},
	{Word: "strayed", Sort: OfVerdict, Meaning: "Of a pin: its holder ran on other CPUs."},
	{
		Word: "idle",
		Sort: OfVerdict,
		Meaning: "Of a pin: its holder used a CPU for less than a hundredth of the time. " +
			"Of a GPU: it has done nothing since the time that is told.",
	},
	{
		Word: "overlapping",
		Sort: OfVerdict,
		Meaning: "Of a pin: its CPUs were declared for somebody else too, and one " +
			"of both wants them alone.",
	},
	{
		Word:    "unenforced",
		Sort:    OfVerdict,
		Meaning: "Of a pin: nothing keeps others from its CPUs, though nobody came.",
	},
	{Word: "unbound", Sort: OfVerdict, Meaning: "Of a pin: nothing keeps its holder on its CPUs."},
	{
		Word: "sibling",
		Sort: OfVerdict,
		Meaning: "Of a pin: work of another tenant ran on the other thread of one of " +
			"its cores, and slows it.",
	},
	{Word: "crossing", Sort: OfVerdict, Meaning: "Of a pin: its CPUs are of more than one NUMA node."},
	{Word: "interrupted", Sort: OfVerdict, Meaning: "Of a pin: interrupts took a hundredth or more of a CPU's time."},
	{
		Word: "squeezing",
		Sort: OfVerdict,
		Meaning: "Of a pin: the CPUs that are left to everybody else were nearly all " +
			"busy.",
	},
	{Word: "absent", Sort: OfVerdict, Meaning: "Of a pin: CPUs that are declared are not there, or not in use."},
	{
		Word: "unknown",
		Sort: OfVerdict,
		Meaning: "Too little was recorded to say. Of an act: the host had the order and " +
			"has not answered; it is asked again.",
	},
	{
		Word:    "fine",
		Sort:    OfVerdict,
		Meaning: "Of an allowance: it is not expected to be spent before its window ends.",
	},
	{Word: "watched", Sort: OfVerdict, Meaning: "Of a quota: the soft mark is passed."},
	{Word: "running_out", Sort: OfVerdict, Meaning: "Of an allowance: at the pace of late it is spent before its " +
		"window ends."},
	{Word: "exhausted", Sort: OfVerdict, Meaning: "Of an allowance: it is spent."},
	{Word: "asked", Sort: OfVerdict, Meaning: "Of an act: its host is to show what it would do."},
	{Word: "previewed", Sort: OfVerdict, Meaning: "Of an act: it was shown, and waits to be confirmed."},
	{Word: "confirmed", Sort: OfVerdict, Meaning: "Of an act: its host is to carry it out."},
	{Word: "sent", Sort: OfVerdict, Meaning: "Of an act: its host has the order and has not answered yet."},
	{Word: "done", Sort: OfVerdict, Meaning: "Of an act: all of it was done, and read back."},
	{Word: "partly", Sort: OfVerdict, Meaning: "Of an act: some of it was done; it says what was not, and why."},
	{Word: "refused", Sort: OfVerdict, Meaning: "Of an act: nothing was done, for the reason that is told."},
	{Word: "expired", Sort: OfVerdict, Meaning: "Of an act: nothing was done in time, and nothing will be."},
}
