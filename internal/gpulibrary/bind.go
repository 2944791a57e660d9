package gpulibrary

import (
	"errors"
	"fmt"
	"unsafe"

	"github.com/ebitengine/purego"
)

// The types of the library's interface, as its public header declares them.
type (
	result  int32
	handle  uintptr
	busInfo struct {
		Legacy                       [16]byte
		Domain, Bus, Device, ID, Sub uint32
		Address                      [32]byte
	}
	utilisation struct{ GPU, Memory uint32 }
	memory      struct{ Total, Free, Used uint64 }
	process     struct {
		PID  uint32
		_    uint32
		Used uint64
		// which partition it is in, by the numbers of its instances; all ones for none
		Instance, ComputeInstance uint32
	}
	sample struct {
		PID                        uint32
		_                          uint32
		Stamp                      uint64 // microseconds of the wall clock
		SM, Memory, Encode, Decode uint32 // percent
	}
	attributes struct {
		Multiprocessors, Copy, Decoders, Encoders, JPEG, OFA, Slices, ComputeSlices uint32
		MiB                                                                         uint64
	}
)

// The sizes that the library's header gives these structures on 64-bit machines.
var _ = [1]int{}[unsafe.Sizeof(busInfo{})-68+unsafe.Sizeof(process{})-24+unsafe.Sizeof(sample{})-32+
	unsafe.Sizeof(attributes{})-40]

// What calls answer.
const (
	success       result = 0
	notSupported  result = 3
	noPermission  result = 4
	notFound      result = 6
	tooSmall      result = 7
	noDriver      result = 9
	noSymbol      result = 13
	deviceLost    result = 15
	notPrivileged result = 27 // of newer libraries: it is given in place of noPermission for some calls
)

// errNoLibrary says that a library is not there.
var errNoLibrary = errors.New("there is no such library")

// calls are the library's, by what they tell. Those that it lacks stay nil.
type calls struct {
	Init, Shutdown         func() result
	ErrorText              func(result) string
	DriverVersion, Version func(*byte, uint32) result
	Count                  func(*uint32) result
	ByIndex                func(uint32, *handle) result

	Name, UUID, Firmware           func(handle, *byte, uint32) result
	Minor, FanSpeed, PartsAtMost   func(handle, *uint32) result
	Bus                            func(handle, *busInfo) result
	Memory                         func(handle, *memory) result
	Utilisation                    func(handle, *utilisation) result
	Encoder, Decoder               func(handle, *uint32, *uint32) result
	Power, Cap, CapUsual, Enforced func(handle, *uint32) result
	CapBounds                      func(handle, *uint32, *uint32) result
	Energy, HeldBack               func(handle, *uint64) result
	Temperature, Threshold         func(handle, int32, *uint32) result
	Clock, MostClock               func(handle, int32, *uint32) result
	State, ComputeMode             func(handle, *int32) result
	Display, DisplayActive         func(handle, *int32) result
	Persistence                    func(handle, *int32) result
	ECCMode                        func(handle, *int32, *int32) result
	ECCErrors                      func(handle, int32, int32, *uint64) result
	RetiredPages                   func(handle, int32, *uint32, *uint64) result
	LinkGeneration, LinkWidth      func(handle, *uint32) result
	MostGeneration, MostWidth      func(handle, *uint32) result
	Divided                        func(handle, *uint32, *uint32) result
	Part                           func(handle, uint32, *handle) result
	Instance                       func(handle, *uint32) result
	Attributes                     func(handle, *attributes) result
	Compute, Graphics              func(handle, *uint32, *process) result
	Samples                        func(handle, *sample, *uint32, uint64) result

	SetCap         func(handle, uint32) result
	SetComputeMode func(handle, int32) result

	missing []string
}

// bind loads the library at a path, or by its name on the loader's own search.
func bind(path string) (*calls, error) {
	lib, err := purego.Dlopen(path, purego.RTLD_NOW|purego.RTLD_LOCAL)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errNoLibrary, err)
	}
	c := &calls{}
	const of = "nvmlDevice"
	for _, x := range []struct {
		call  any
		names []string // the newest first
	}{
		{&c.Init, []string{"nvmlInit_v2", "nvmlInit"}}, {&c.Shutdown, []string{"nvmlShutdown"}},
		{&c.ErrorText, []string{"nvmlErrorString"}}, {&c.DriverVersion, []string{"nvmlSystemGetDriverVersion"}},
		{&c.Version, []string{"nvmlSystemGetNVMLVersion"}},
		{&c.Count, []string{of + "GetCount_v2", of + "GetCount"}},
		{&c.ByIndex, []string{of + "GetHandleByIndex_v2", of + "GetHandleByIndex"}},
		{&c.Name, []string{of + "GetName"}}, {&c.UUID, []string{of + "GetUUID"}},
		{&c.Firmware, []string{of + "GetVbiosVersion"}}, {&c.Minor, []string{of + "GetMinorNumber"}},
		{&c.Bus, []string{of + "GetPciInfo_v3", of + "GetPciInfo_v2"}},
		{&c.Memory, []string{of + "GetMemoryInfo"}}, {&c.Utilisation, []string{of + "GetUtilizationRates"}},
		{&c.Encoder, []string{of + "GetEncoderUtilization"}}, {&c.Decoder, []string{of + "GetDecoderUtilization"}},
		{&c.Power, []string{of + "GetPowerUsage"}}, {&c.Cap, []string{of + "GetPowerManagementLimit"}},
		{&c.CapUsual, []string{of + "GetPowerManagementDefaultLimit"}},
		{&c.Enforced, []string{of + "GetEnforcedPowerLimit"}},
		{&c.CapBounds, []string{of + "GetPowerManagementLimitConstraints"}},
		{&c.Energy, []string{of + "GetTotalEnergyConsumption"}},
		{&c.HeldBack, []string{of + "GetCurrentClocksEventReasons", of + "GetCurrentClocksThrottleReasons"}},
		{&c.Temperature, []string{of + "GetTemperature"}}, {&c.Threshold, []string{of + "GetTemperatureThreshold"}},
		{&c.FanSpeed, []string{of + "GetFanSpeed"}}, {&c.Clock, []string{of + "GetClockInfo"}},
		{&c.MostClock, []string{of + "GetMaxClockInfo"}}, {&c.State, []string{of + "GetPerformanceState"}},
		{&c.ComputeMode, []string{of + "GetComputeMode"}}, {&c.Display, []string{of + "GetDisplayMode"}},
		{&c.DisplayActive, []string{of + "GetDisplayActive"}},
		{&c.Persistence, []string{of + "GetPersistenceMode"}}, {&c.ECCMode, []string{of + "GetEccMode"}},
		{&c.ECCErrors, []string{of + "GetTotalEccErrors"}}, {&c.RetiredPages, []string{of + "GetRetiredPages"}},
		{&c.LinkGeneration, []string{of + "GetCurrPcieLinkGeneration"}},
		{&c.LinkWidth, []string{of + "GetCurrPcieLinkWidth"}},
		{&c.MostGeneration, []string{of + "GetMaxPcieLinkGeneration"}},
		{&c.MostWidth, []string{of + "GetMaxPcieLinkWidth"}},
		{&c.Divided, []string{of + "GetMigMode"}}, {&c.PartsAtMost, []string{of + "GetMaxMigDeviceCount"}},
		{&c.Part, []string{of + "GetMigDeviceHandleByIndex"}}, {&c.Instance, []string{of + "GetGpuInstanceId"}},
		{&c.Attributes, []string{of + "GetAttributes_v2", of + "GetAttributes"}},
		{&c.Compute, []string{of + "GetComputeRunningProcesses_v3", of + "GetComputeRunningProcesses_v2"}},
		{&c.Graphics, []string{of + "GetGraphicsRunningProcesses_v3", of + "GetGraphicsRunningProcesses_v2"}},
		{&c.Samples, []string{of + "GetProcessUtilization"}},
		{&c.SetCap, []string{of + "SetPowerManagementLimit"}},
		{&c.SetComputeMode, []string{of + "SetComputeMode"}},
	} {
		found := false
		for _, name := range x.names {
			if symbol, err := purego.Dlsym(lib, name); err == nil {
				purego.RegisterFunc(x.call, symbol)
				found = true
				break
			}
		}
		if !found {
			c.missing = append(c.missing, x.names[0])
		}
	}
	if c.Init == nil || c.Count == nil || c.ByIndex == nil {
		return nil, fmt.Errorf("%s is not a management library of GPUs: it lacks the calls to begin with", path)
	}
	return c, nil
}
