package api

import (
	"reflect"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"nimblepane/agent"
	"nimblepane/client"
	"nimblepane/core/act"
	"nimblepane/core/base"
	"nimblepane/core/build"
	"nimblepane/core/disk"
	"nimblepane/core/flaw"
	"nimblepane/core/host"
	"nimblepane/core/image"
	"nimblepane/core/machine"
	"nimblepane/core/matter"
	"nimblepane/core/proof"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/core/schedule"
	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/core/software"
	"nimblepane/platform"
)

// enumerations are the types whose values are known.
var enumerations = []enumeration{
	enumerationOf[act.Name]("ActName", act.Names()),
	enumerationOf[agent.ChecksState]("ChecksState", agent.ChecksStates()),
	enumerationOf[agent.OrderKind]("OrderKind", []agent.OrderKind{agent.ShowText, agent.EndSession}),
	enumerationOf[agent.SessionState]("SessionState", agent.SessionStates()),
	enumerationOf[schedule.Mode]("ScheduleMode", schedule.Modes()),
	enumerationOf[base.State]("BaseState", base.States()),
	enumerationOf[disk.Format]("DiskFormat", disk.Formats()),
	enumerationOf[build.State]("BuildState", build.States()),
	enumerationOf[build.StepState]("StepState", build.StepStates()),
	enumerationOf[host.State]("HostState", host.States()),
	enumerationOf[flaw.Severity]("FlawSeverity", flaw.Severities()),
	enumerationOf[image.CopyState]("CopyState", image.CopyStates()),
	enumerationOf[client.DeliveryState]("DeliveryState", client.DeliveryStates()),
	enumerationOf[platform.Stage]("DeliveryStage", platform.Stages()),
	enumerationOf[image.MoveKind]("MoveKind", []image.MoveKind{image.Advance, image.Return}),
	enumerationOf[image.Scheme]("Numbering", []image.Scheme{image.Calendar, image.Semver}),
	enumerationOf[image.State]("VersionState", image.States()),
	enumerationOf[machine.State]("BuildMachineState", machine.States()),
	enumerationOf[matter.Kind]("MatterKind", matter.Kinds()),
	enumerationOf[platform.MachineState]("MachineState", platform.MachineStates()),
	enumerationOf[seal.Severity]("Severity", seal.Severities()),
	enumerationOf[proof.State]("ProofState", proof.States()),
	enumerationOf[build.TaskState]("TaskState", build.TaskStates()),
	enumerationOf[sheet.Kind]("StepKind", sheet.AllKinds()),
	enumerationOf[sheet.Type]("ParameterType", []sheet.Type{sheet.TextType, sheet.NumberType, sheet.SwitchType}),
	enumerationOf[software.Group]("SoftwareGroup", software.Groups()),
	enumerationOf[software.Origin]("SoftwareOrigin", software.Origins()),
	enumerationOf[software.What]("SoftwareChanged", software.Whats()),
	enumerationOf[role.Role]("Role", role.Roles()),
	enumerationOf[rollover.LogOff]("LogOff", []rollover.LogOff{rollover.Wait, rollover.Warn}),
	enumerationOf[rollover.Phase]("Phase", rollover.Phases()),
	enumerationOf[rollover.State]("RolloverState", rollover.States()),
}

// enumeration is a type whose values are known.
type enumeration struct {
	name     string
	values   []any
	is, seen reflect.Type // the type, and what stands for it in descriptions
}

func enumerationOf[T ~string](name string, values []T) enumeration {
	e := enumeration{name: name, is: reflect.TypeFor[T](), seen: reflect.TypeFor[reference[T]]()}
	for _, v := range values {
		e.values = append(e.values, string(v))
	}
	return e
}

// enumerate describes them as enumerations of their own, so that whoever reads
// the API has them as types, too.
func enumerate(r huma.Registry) {
	for _, e := range enumerations {
		s := &huma.Schema{Type: huma.TypeString, Enum: e.values}
		s.PrecomputeMessages()
		r.Map()[e.name] = s
		r.RegisterTypeAlias(e.is, e.seen)
	}
}

// reference stands for a type in descriptions.
type reference[T ~string] struct{}

// Schema is huma's: it refers to the enumeration of the type.
func (reference[T]) Schema(huma.Registry) *huma.Schema {
	i := slices.IndexFunc(enumerations, func(e enumeration) bool { return e.is == reflect.TypeFor[T]() })
	return &huma.Schema{Ref: schemaPrefix + enumerations[i].name}
}
