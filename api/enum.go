package api

import (
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"nimblepane/agent"
	"nimblepane/core/act"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/matter"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/platform"
)

// enumerate describes the types whose values are known as enumerations of
// their own, so that whoever reads the API has them as types, too.
func enumerate(r huma.Registry) {
	enumeration[act.Name]{}.add(r, "ActName", act.Names())
	enumeration[agent.ChecksState]{}.add(r, "ChecksState", agent.ChecksStates())
	enumeration[agent.OrderKind]{}.add(r, "OrderKind", []agent.OrderKind{agent.ShowText, agent.EndSession})
	enumeration[agent.SessionState]{}.add(r, "SessionState", agent.SessionStates())
	enumeration[host.State]{}.add(r, "HostState", host.States())
	enumeration[image.CopyState]{}.add(r, "CopyState", image.CopyStates())
	enumeration[image.MoveKind]{}.add(r, "MoveKind", []image.MoveKind{image.Advance, image.Return})
	enumeration[image.Scheme]{}.add(r, "Numbering", []image.Scheme{image.Calendar, image.Semver})
	enumeration[image.State]{}.add(r, "VersionState", image.States())
	enumeration[matter.Kind]{}.add(r, "MatterKind", matter.Kinds())
	enumeration[platform.MachineState]{}.add(r, "MachineState", platform.MachineStates())
	enumeration[role.Role]{}.add(r, "Role", role.Roles())
	enumeration[rollover.LogOff]{}.add(r, "LogOff", []rollover.LogOff{rollover.Wait, rollover.Warn})
	enumeration[rollover.Phase]{}.add(r, "Phase", rollover.Phases())
	enumeration[rollover.State]{}.add(r, "RolloverState", rollover.States())
}

// enumeration stands for a type in descriptions.
type enumeration[T ~string] struct{}

// add adds the schema of the type under a name, and refers to it wherever the type is met.
func (enumeration[T]) add(r huma.Registry, name string, values []T) {
	s := &huma.Schema{Type: huma.TypeString}
	for _, v := range values {
		s.Enum = append(s.Enum, string(v))
	}
	s.PrecomputeMessages()
	r.Map()[name] = s
	names[reflect.TypeFor[T]()] = name
	r.RegisterTypeAlias(reflect.TypeFor[T](), reflect.TypeFor[enumeration[T]]())
}

// names of the schemas, by type. Written before anything is described, and the same in every server.
var names = map[reflect.Type]string{}

// Schema is huma's.
func (enumeration[T]) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{Ref: schemaPrefix + names[reflect.TypeFor[T]()]}
}
