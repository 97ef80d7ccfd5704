package libvirt

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"nimblepane/core/estate"
)

const gib = 1 << 30

func on(name string, cores int, memory, storage int64) room {
	return room{&hypervisor{name: name}, cores, memory * gib, storage * gib}
}

func machineOf(cores int, memory, own int64) class {
	return class{MachineClass: estate.MachineClass{Cores: cores}, memory: memory * gib, room: own * gib}
}

func TestAMachineGoesWhereThereIsTheMostRoomThatItCanUse(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		rooms     []room
		k         class
		want, why string
	}{
		"most memory": {
			[]room{on("hv-1", 8, 16, 100), on("hv-2", 8, 32, 50)}, machineOf(2, 4, 2), "hv-2", "",
		},
		"of equal memory the most storage": {
			[]room{on("hv-1", 8, 16, 100), on("hv-2", 8, 16, 200)}, machineOf(2, 4, 2), "hv-2", "",
		},
		"of equals the first by name": {
			[]room{on("hv-2", 8, 16, 100), on("hv-1", 8, 16, 100)}, machineOf(2, 4, 2), "hv-1", "",
		},
		"the one with the most memory has no storage left": {
			[]room{on("hv-1", 8, 16, 100), on("hv-2", 8, 64, 1)}, machineOf(2, 4, 2), "hv-1", "",
		},
		"the one with the most memory has too few cores": {
			[]room{on("hv-1", 8, 16, 100), on("hv-2", 2, 64, 100)}, machineOf(4, 4, 2), "hv-1", "",
		},
		"just enough": {[]room{on("hv-1", 4, 4, 2)}, machineOf(4, 4, 2), "hv-1", ""},
		"no cores": {
			[]room{on("hv-1", 2, 64, 100)}, machineOf(4, 4, 2), "hv-1", "hv-1 has 2 cores, and a machine needs 4",
		},
		"no memory": {
			[]room{on("hv-1", 8, 2, 100), on("hv-2", 8, 3, 100)},
			machineOf(4, 4, 2), "hv-2",
			"hv-2 has 3.0 GiB of memory left, and a machine needs 4.0 GiB",
		},
		"overdrawn": {
			[]room{on("hv-1", 8, -2, 100)},
			machineOf(4, 4, 2), "hv-1",
			"hv-1 has 0 B of memory left, and a machine needs 4.0 GiB",
		},
		"no storage": {
			[]room{on("hv-1", 8, 16, 1)},
			machineOf(4, 4, 2), "hv-1",
			"hv-1 has 1.0 GiB of storage left, and a machine's own disk may come to take 2.0 GiB",
		},
	} {
		r, why := roomFor(c.rooms, c.k)
		require.Equal(t, c.want, r.hypervisor.name, name)
		require.Equal(t, c.why, why, name)
	}
}

// Of machines of one class as many find room as fit on each hypervisor by itself,
// and none is put where it does not fit.
func TestAsManyMachinesFindRoomAsFit(t *testing.T) {
	t.Parallel()
	rapid.Check(t, func(t *rapid.T) {
		k := machineOf(rapid.IntRange(1, 8).Draw(t, "cores"), rapid.Int64Range(1, 8).Draw(t, "memory"),
			rapid.Int64Range(1, 8).Draw(t, "own disk"))
		var rooms []room
		fit := 0
		for i := range rapid.IntRange(1, 4).Draw(t, "hypervisors") {
			r := on(fmt.Sprint("hv-", i), rapid.IntRange(1, 16).Draw(t, "has cores"),
				rapid.Int64Range(-4, 40).Draw(t, "has memory"), rapid.Int64Range(0, 40).Draw(t, "has storage"))
			rooms = append(rooms, r)
			if r.cores >= k.Cores {
				fit += int(max(0, min(r.memory/k.memory, r.storage/k.room)))
			}
		}
		machines := rapid.IntRange(0, 50).Draw(t, "machines")
		placed, why := fill(rooms, k, machines)
		require.Equal(t, min(machines, fit), placed)
		require.Equal(t, machines > fit, why != "", why)
	})
}
