package fill

// The work of a maker has rooms, each with all that is known.
type (
	// opening reads the files, their templates and the variables of compose files.
	opening struct{ *maker }
	// deriving makes values out of what the stack knows of its services.
	deriving struct{ *maker }
	// deciding judges what nobody has given a value yet.
	deciding struct{ *maker }
	// giving takes values from a person, the environment and the locker.
	giving struct{ *maker }
	// linking finds settings that must hold the same.
	linking struct{ *maker }
)

func (m *maker) opening() opening   { return opening{m} }
func (m *maker) deriving() deriving { return deriving{m} }
func (m *maker) deciding() deciding { return deciding{m} }
func (m *maker) giving() giving     { return giving{m} }
func (m *maker) linking() linking   { return linking{m} }
