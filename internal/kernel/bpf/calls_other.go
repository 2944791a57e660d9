//go:build !amd64 && !arm64

package bpf

var (
	callNames     []callRun // the numbers of this machine's calls are not known here
	callArguments [3]uint32
	opensFirst    [2]int32
)
