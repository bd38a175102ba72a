package execute

// An Executor's work has rooms, each with what it needs of the others through it. They hold nothing
// of their own: what lasts is the Executor's.
type (
	// preparing runs steps, and serving services; both from their start to a state that lasts.
	preparing struct{ *Executor }
	serving   struct{ *Executor }
	// renewal brings what runs into line with another plan.
	renewal struct{ *Executor }
	// images fetches and builds what containers begin from.
	images struct{ *Executor }
	// containers makes networks and volumes ready, and containers out of services.
	containers struct{ *Executor }
	// listening waits for ports, and finds out where a service listens that is not where it was
	// said.
	listening struct{ *Executor }
	// stores knows what data lies where from launches before.
	stores struct{ *Executor }
	// watching brings changed files into containers that run.
	watching struct{ *Executor }
)

// State is how a launch stands.
type State struct{ *Executor }

// State is how the launch stands; each of its answers is of its own moment.
func (x *Executor) State() State { return State{x} }

func (x *Executor) preparing() preparing   { return preparing{x} }
func (x *Executor) serving() serving       { return serving{x} }
func (x *Executor) renewal() renewal       { return renewal{x} }
func (x *Executor) images() images         { return images{x} }
func (x *Executor) containers() containers { return containers{x} }
func (x *Executor) listening() listening   { return listening{x} }
func (x *Executor) stores() stores         { return stores{x} }
func (x *Executor) watching() watching     { return watching{x} }
