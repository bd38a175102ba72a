package stack

// Doer is what of ours does what a README asks for: a node of the order, or one of our commands. It
// is empty where nothing does.
type Doer string

// Our commands that do what READMEs ask for; nodes are the other doers.
const (
	ByClone  Doer = "clone"
	ByNeeds  Doer = "needs"
	ByFill   Doer = "fill"
	ByLaunch Doer = "launch"
	ByCheck  Doer = "check"
	ByLogs   Doer = "logs"
	ByStop   Doer = "stop"
)

// ByNode is the doer that a node of the order is.
func ByNode(id NodeID) Doer { return Doer(id) }

// Node is the node that does it; ok is false for a command of ours, and for nobody.
func (d Doer) Node() (id NodeID, ok bool) {
	id = NodeID(d)
	_, service := id.Service()
	return id, service || id.IsStep()
}

// Title names a doer for a sentence.
func (d Doer) Title() string {
	if id, ok := d.Node(); ok {
		return id.Title()
	}
	return "nharbor " + string(d)
}

// ServiceOf is the service that a doer is; nil if it is something else.
func (s *Stack) ServiceOf(by Doer) *Service {
	name, _ := NodeID(by).Service()
	return s.Service(name)
}

// StepOf is the step that a doer is; nil if it is something else.
func (s *Stack) StepOf(by Doer) *Step {
	id, _ := NodeID(by).Step()
	return s.Step(id)
}
