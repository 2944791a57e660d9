package devices

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"time"
)

// What a vendor's library lets be set of a GPU.
const (
	PowerLimit  = "power"   // in microwatts
	ComputeMode = "compute" // a place in ComputeModes
)

// ComputeModes are who a GPU lets compute, by the library's number of each: any process, one thread (which newer
// libraries do not set any more), nobody, or one process at a time.
var ComputeModes = []string{"shared", "one thread", "prohibited", "one process"}

// Adjustment is what may be set of a GPU: how it is, and for a power limit what it usually is and its bounds.
type Adjustment struct {
	Value int64  `json:"value"`
	Usual int64  `json:"usual"`
	Least int64  `json:"least"`
	Most  int64  `json:"most"`
	Why   string `json:"why,omitempty"`  // why it is not told, or was not set
	Gone  bool   `json:"gone,omitempty"` // there is no such GPU
}

// Adjuster reads and sets what a vendor's library lets be set of GPUs: each time in a process of its own, so that a
// call that hangs, or a library that ends its process, costs that act alone.
type Adjuster struct {
	driver  string
	command []string
}

// NewAdjuster makes an adjuster that runs a command with what is asked behind it, which answers with one line of JSON:
// an Adjustment. Where a driver's file is named, it asks only while that is there.
func NewAdjuster(driver string, command ...string) *Adjuster { return &Adjuster{driver, command} }

// adjustWithin is how long a library is given: it may have to begin first.
const adjustWithin = 20 * time.Second

// ErrNoGPU says that the library does not know a GPU of an address.
var ErrNoGPU = errors.New("the vendor's library knows no such GPU")

// Ask reads a setting of the GPU at an address on the bus, once it was set to a value if there is one. The error says
// why that is not had.
func (a *Adjuster) Ask(ctx context.Context, address, setting string, value *int64) (*Adjustment, error) {
	if _, err := os.Stat(a.driver); a.driver != "" && err != nil {
		return nil, ErrNoGPU
	}
	ctx, cancel := context.WithTimeout(ctx, adjustWithin)
	defer cancel()
	args := append(a.command[1:len(a.command):len(a.command)], address, setting)
	if value != nil {
		args = append(args, strconv.FormatInt(*value, 10))
	}
	cmd := exec.CommandContext(ctx, a.command[0], args...)
	cmd.WaitDelay = time.Second
	says := &tail{}
	cmd.Stderr = says
	out, err := cmd.Output()
	var answer Adjustment
	switch bad := json.NewDecoder(bytes.NewReader(out)).Decode(&answer); {
	case ctx.Err() != nil:
		return nil, fmt.Errorf("the vendor's library gave no answer within %v", adjustWithin)
	case bad != nil:
		return nil, fmt.Errorf("the vendor's library ended its helper: %s", cmpOr(says.String(), fmt.Sprint(err)))
	case answer.Gone:
		return nil, ErrNoGPU
	case answer.Why != "":
		return nil, errors.New(answer.Why)
	}
	return &answer, nil
}
