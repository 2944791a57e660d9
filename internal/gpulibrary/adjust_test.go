package gpulibrary

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"vinescale/internal/devices"
)

func TestAdjust_APowerLimitAndWhoMayComputeAreSetAndReadBack(t *testing.T) {
	library := simulated(t, twoGPUs)
	a := devices.NewAdjuster("", os.Args[0], "gpu-adjust", library)
	ask := func(setting string, value ...int64) (*devices.Adjustment, error) {
		if len(value) == 0 {
			return a.Ask(context.Background(), "0000:3b:00.0", setting, nil)
		}
		return a.Ask(context.Background(), "0000:3b:00.0", setting, &value[0])
	}
	is, err := ask(devices.PowerLimit)
	require.NoError(t, err)
	assert.Equal(t, &devices.Adjustment{Value: 300e6, Usual: 280e6, Least: 100e6, Most: 310e6}, is)
	is, err = ask(devices.PowerLimit, 220e6)
	require.NoError(t, err)
	assert.EqualValues(t, 220e6, is.Value)
	is, err = ask(devices.PowerLimit)
	require.NoError(t, err)
	assert.EqualValues(t, 220e6, is.Value, "another process reads it")
	_, err = ask(devices.PowerLimit, 311e6)
	assert.ErrorContains(t, err, "Invalid Argument")

	is, err = ask(devices.ComputeMode)
	require.NoError(t, err)
	assert.Equal(t, "one process", devices.ComputeModes[is.Value])
	for _, mode := range []int64{2, 0, 3} {
		is, err = ask(devices.ComputeMode, mode)
		require.NoError(t, err)
		assert.Equal(t, mode, is.Value)
	}
	for _, mode := range []int64{-1, 4} {
		_, err = ask(devices.ComputeMode, mode)
		assert.ErrorContains(t, err, "no such compute mode")
	}
	state, err := os.ReadFile(strings.TrimSuffix(library, ".so") + ".state")
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(twoGPUs, "cap.mw 300000", "cap.mw 220000", 1), string(state), "and nothing else")
}

func TestAdjust_WhatCannotBeSetIsSaid(t *testing.T) {
	for fault, want := range map[string]string{
		"":                               "not known to set clocks",
		"nvmlDeviceSetComputeMode 4":     "only root may",
		"nvmlDeviceSetComputeMode 27":    "only root may",
		"nvmlDeviceSetComputeMode 3":     devices.NotSupported,
		"nvmlDeviceSetComputeMode abort": "told to abort in nvmlDeviceSetComputeMode",
		"nvmlDeviceGetComputeMode 15":    "the GPU is lost",
		"nvmlDeviceGetCount_v2 999":      "cannot be listed",
		"nvmlInit_v2 9":                  "does not begin",
	} {
		library := simulated(t, twoGPUs)
		setting := devices.ComputeMode
		if fault == "" {
			setting = "clocks"
		} else {
			tell(t, library, strings.Replace(twoGPUs, "gpu 0\n", "fault "+fault+"\ngpu 0\n", 1))
		}
		one := int64(0)
		_, err := devices.NewAdjuster("", os.Args[0], "gpu-adjust", library).
			Ask(context.Background(), "0000:3b:00.0", setting, &one)
		assert.ErrorContains(t, err, want, fault)
	}
	library := simulated(t, twoGPUs)
	_, err := devices.NewAdjuster("", os.Args[0], "gpu-adjust", library).
		Ask(context.Background(), "0000:ff:00.0", devices.PowerLimit, nil)
	assert.ErrorIs(t, err, devices.ErrNoGPU)
	_, err = devices.NewAdjuster("/no/driver", os.Args[0], "gpu-adjust", library).
		Ask(context.Background(), "0000:3b:00.0", devices.PowerLimit, nil)
	assert.ErrorIs(t, err, devices.ErrNoGPU, "where the driver is not loaded, the library is not asked")
}
