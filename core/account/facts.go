package account

// Names of the facts a workload may have beside its identity, as recognisers find them. Values are text; the unit of a
// number is in its name. Absent is not known.
const (
	FactImage     = "image"     // what a container was made from
	FactNamespace = "namespace" // of a pod, or of an engine's containers
	FactPod       = "pod"       // name of the pod a container is in, or of the pod itself
	FactAccount   = "account"   // of a batch job
	FactPartition = "partition" // of a batch job: the queue it was put in
	FactUnit      = "unit"      // of a service, with its suffix
	FactTemplate  = "template"  // of a service that is an instance: the unit it was made from
	FactInstance  = "instance"  // of a service: what stands between @ and the suffix
	FactProgram   = "program"   // what its first process runs
	FactGroups    = "groups"    // of the owner, separated by commas
	FactState     = "state"     // as the outside system tells it: running, starting, failed …
	FactExit      = "exit"      // how it ended, where known
	FactWhy       = "evidence"  // what it was recognised by
	FactUnnamed   = "names_unavailable"
	FactOrder     = "command"  // the command line it was begun with
	FactUser      = "run_as"   // the user inside a container
	FactRestarts  = "restarts" // times it was begun anew
	FactUUID      = "uuid"
	FactTerminal  = "terminal"     // of a sign-in
	FactOrigin    = "origin"       // address a sign-in came from
	FactArray     = "array_task"   // ARRAY_TASK of a batch job
	FactJobName   = "job_name"     // the name its submitter gave a job
	FactVCPUPins  = "vcpu_pins"    // CPUs each vCPU may run on, as the machine manager was told: 0: 2-3; 1: 4
	FactVCPUMasks = "vcpu_cpus"    // the same, as the kernel has it
	FactMasks     = "cpu_masks"    // CPUs its threads may run on, where not all may on the same: 0-1; 0-7 (sh)
	FactCPUSet    = "cpuset_cpus"  // CPUs its cgroup lets it run on, where these are not all
	FactCPUAlone  = "cpuset_alone" // root or isolated, where its cgroup is such a partition of CPUs
	FactCPUsGiven = "cpus_given"   // CPUs a scheduler gave it, as it numbers them: by package, core and thread
	FactWeights   = "cpu_weights"  // of the cgroups of its path against their siblings; 100 is usual: 100/200
	FactDisks     = "disks"        // files or devices behind a machine's disks
	FactTaps      = "taps"         // host interfaces of a machine
	FactGPUs      = "gpus"         // the host's numbers of the GPUs allotted
	FactGPUNodes  = "gpu_nodes"    // device numbers of GPUs that a runtime made for it, such as 195:0, by commas
	FactGPUNames  = "gpu_names"    // of GPUs that a container device interface names, by commas
	FactGPUClaim  = "gpus_claimed" // GPUs that its own environment names
	FactRunFor    = "time_limit_s" // seconds a job may run

	FactCPULimit    = "cpu_limit_cores" // CPU time it may use per second of time
	FactCPUAsked    = "cpus_asked"      // CPUs a job asked for, or virtual CPUs of a machine
	FactMemoryLimit = "memory_limit_bytes"
	FactMemoryAsked = "memory_asked_bytes"
)
