package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"vinescale/core/amount"
	"vinescale/core/choice"
	"vinescale/internal/hub"
)

func TestChosen_FiguresGoByIt(t *testing.T) {
	t.Cleanup(func() { chosen = choice.Choices{} })
	network, disk, memory, cpu := amount.Network, amount.Disk, amount.Memory, amount.CPU
	limited := hub.WorkloadLine{Host: "press-1", HostCPUs: 16, MayUseCPUs: 2, MayUseBy: "limit"}
	bound := hub.WorkloadLine{Host: "press-1", HostCPUs: 16, MayUseCPUs: 4, MayUseBy: "cpuset"}
	free := hub.WorkloadLine{Host: "press-1", HostCPUs: 16, MayUseCPUs: 16, MayUseBy: "host"}
	texts := func(u unit, v float64) string { return u.text(v) + " " + u.name }
	one := 1
	for _, c := range []struct {
		choice.Choices
		want []string
	}{
		{choice.Choices{}, []string{"cores", "0.50", "memory GiB", "3.00", "disk MB/s", "1.50", "network MB/s", "1.50",
			"disk GB", "2.00", "0.50 cores", "0.50 cores", "0.50 cores", "0.50 cores", "1.5 MB/s", "3 GiB"}},
		{choice.Choices{Bytes: "decimal", Network: "bits", CPU: "limit"}, []string{"% of a CPU", "50", "memory GB",
			"3.22", "disk MB/s", "1.50", "network Mbit/s", "12.00", "disk GB", "2.00", "25.0 % of its limit",
			"12.5 % of its CPUs", "3.1 % of the host", "0.5 % of all hosts", "12 Mbit/s", "3.221 GB"}},
		{choice.Choices{Bytes: "binary", CPU: "host", Decimals: &one}, []string{"% of a CPU", "50.0", "memory GiB",
			"3.0", "disk MiB/s", "1.4", "network MiB/s", "1.4", "disk GiB", "1.9", "3.1 % of the host",
			"3.1 % of the host", "3.1 % of the host", "0.5 % of all hosts", "1.4 MiB/s", "3.0 GiB"}},
	} {
		chosen = c.Choices
		assert.Equal(t, c.want, []string{meanHead(cpu), meanText(cpu, 0.5), meanHead(memory), meanText(memory, 3<<30),
			meanHead(disk), meanText(disk, 1.5e6), meanHead(network), meanText(network, 1.5e6),
			amountHead(disk), amountIn(disk, 2e9), texts(cpuUnitOfWorkload(&limited), 0.5),
			texts(cpuUnitOfWorkload(&bound), 0.5), texts(cpuUnitOfWorkload(&free), 0.5),
			texts(cpuUnitOf("all hosts", 104), 0.5), human("network", 1.5e6), human("memory", 3<<30)})
	}
	chosen = choice.Choices{}
	at := time.Date(2026, 11, 28, 14, 5, 9, 0, time.Local)
	assert.Equal(t, "2026-11-28 14:05", shownAt(at, "2006-01-02 15:04"))
	chosen.Clock = "12"
	assert.Equal(t, "2026-11-28 02:05:09 pm", shownAt(at, time.DateTime))
	assert.Equal(t, "02:05 pm", shownAt(at, "15:04"))
	assert.Equal(t, "03:05:09 am", shownAt(at.Add(-11*time.Hour), time.TimeOnly))
}
