// Package software finds out what is installed on a machine, and what there is
// to be known of it beside: the software list of the version that will be made
// of it.
//
// On Linux that is read from the databases of package managers and from the
// places where programs are put without one; on Windows from the registry. What
// cannot be read is an error, so that no list passes for whole that is not.
package software

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"nimblepane/core/software"
)

// Largest is how many folders are named that take most of the disk.
const Largest = 20

// agents are the programs among the entries that act for somebody else in the machine.
func agents(entries []software.Entry) (list []software.Agent) {
	for _, e := range entries {
		if acts := strings.HasSuffix(e.Name, "agent") || strings.HasSuffix(e.Name, "-agentd") ||
			e.Name == "cloud-init"; acts && e.Origin != software.Application {
			list = append(list, software.Agent{Name: e.Name, Version: e.Version})
		}
	}
	slices.SortFunc(list, func(a, b software.Agent) int { return strings.Compare(a.Name, b.Name) })
	return slices.Compact(list)
}

// largest picks the folders that take most, the largest first.
func largest(sizes map[string]int64) (list []software.FolderSize) {
	for p, n := range sizes {
		list = append(list, software.FolderSize{Path: p, Size: n})
	}
	slices.SortFunc(list, func(a, b software.FolderSize) int {
		return cmp.Or(cmp.Compare(b.Size, a.Size), strings.Compare(a.Path, b.Path))
	})
	return list[:min(Largest, len(list))]
}

// above returns the folder of a file that its size is counted for: at most two
// levels deep. Both are written with slashes, from the top.
func above(file string) string {
	parts := strings.Split(strings.Trim(path.Dir(file), "/"), "/")
	return "/" + strings.Join(parts[:min(2, len(parts))], "/")
}
