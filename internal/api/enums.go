package api

import (
	"reflect"

	"crosstwin/internal/core/alert"
	"crosstwin/internal/core/authority"
	"crosstwin/internal/core/cluster"
	"crosstwin/internal/core/observation"
	"crosstwin/internal/core/operation"
	"crosstwin/internal/core/position"
	"crosstwin/internal/core/verb"
	"crosstwin/internal/core/view"
	"crosstwin/internal/service"
)

// enums lists the values of each type that has few: the document names them, so
// that the console's code is checked to know them all.
var enums = map[reflect.Type][]any{}

func enum[T ~string](values ...T) {
	var list []any
	for _, v := range values {
		list = append(list, string(v))
	}
	enums[reflect.TypeFor[T]()] = list
}

func init() {
	enum(view.Healths()...)
	enum(view.Link(""), view.LinkConnected, view.LinkDown, view.LinkUnknown)
	enum(cluster.Rules...)
	enum(operation.Kinds()...)
	enum(operation.Running, operation.Undoing, operation.Ended)
	enum(operation.Outcome(""), operation.OutcomeFinished, operation.OutcomeRefused, operation.OutcomeUndone,
		operation.OutcomeNeedsYou)
	enum(operation.StepWaiting, operation.StepRunning, operation.StepDone, operation.StepFailed, operation.StepUndone,
		operation.StepPassedBy)
	enum(operation.Pass, operation.Warn, operation.Fail)
	enum(operation.Undo, operation.NeedsYou, operation.GoOn)
	enum(observation.Role(""), observation.Primary, observation.Replica)
	enum(observation.Proof(""), observation.ProofNone, observation.ProofOther, observation.ProofAuthority)
	enum(authority.Stage(""), authority.Introducing, authority.Renewing)
	enum(authority.Lack(""), authority.LacksTrust, authority.LacksCertificate, authority.LacksDatabase)
	enum(position.Bytes, position.Transactions)
	enum(alert.Critical, alert.Warning)
	enum(service.EventCluster, service.EventRemoved, service.EventOperation, service.EventAlert)
	enum(verb.Names()...)
}
